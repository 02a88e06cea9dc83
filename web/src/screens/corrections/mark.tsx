/** Marking a known stock-out or closure over some periods in one go. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { overview } from '../../api/queries';
import { useReader } from '../../api/roles';
import { count } from '../../ui/format';
import { Refused } from '../../ui/states';

export function MarkForm({ portfolio }: { portfolio: number }) {
  const client = useQueryClient();
  const reader = useReader();
  const [dimension, setDimension] = useState('');
  const [value, setValue] = useState('');
  const [first, setFirst] = useState('');
  const [last, setLast] = useState('');
  const [because, setBecause] = useState<Schema['BecauseEnum']>('closure');
  const [reason, setReason] = useState('');
  const [isOpen, setOpen] = useState(false);
  const groups = useQuery({
    ...overview(portfolio, { within: [], last: 4, ...(dimension ? { by: dimension } : {}) }),
    enabled: isOpen,
  });
  const name = dimension || groups.data?.dimensions[0] || '';
  const mark = useMutation({
    mutationFn: () =>
      body(
        api.POST('/api/portfolios/{id}/corrections/mark/', {
          params: { path: { id: portfolio } },
          body: {
            where: { [name]: value },
            first: first.trim(),
            last: (last || first).trim(),
            because,
            reason,
          },
        }),
      ),
    onSuccess: () => {
      for (const key of ['series', 'ledger', 'search'])
        client.invalidateQueries({ queryKey: [key, portfolio] });
    },
  });
  return (
    <details
      className="border-b border-rule px-[18px] py-2"
      onToggle={(event) => setOpen(event.currentTarget.open)}
    >
      <summary className="cursor-pointer text-[13px]">
        <b>Mark a stock-out or closure</b>{' '}
        <span className="text-second">
          of a store or a product over some periods; its values become unknown
        </span>
      </summary>
      <form
        className="flex flex-wrap items-center gap-3 pt-2 text-[13px]"
        onSubmit={(event) => {
          event.preventDefault();
          mark.mutate();
        }}
      >
        <select
          className="select select-xs w-auto"
          aria-label="What it is"
          value={because}
          onChange={(event) => setBecause(event.target.value as Schema['BecauseEnum'])}
        >
          <option value="closure">closure</option>
          <option value="stock-out">stock-out</option>
        </select>
        of
        <select
          className="select select-xs w-auto"
          aria-label="Key or attribute"
          value={name}
          onChange={(event) => {
            setDimension(event.target.value);
            setValue('');
          }}
        >
          {groups.data?.dimensions.map((one) => (
            <option key={one}>{one}</option>
          ))}
        </select>
        <input
          className="input input-xs w-[170px]"
          list="mark-values"
          required
          aria-label="Its value"
          placeholder="which one"
          value={value}
          onChange={(event) => setValue(event.target.value)}
        />
        <datalist id="mark-values">
          {groups.data?.groups.map((group) => (
            <option key={group.name} value={group.name}>
              {group.label}
            </option>
          ))}
        </datalist>
        from
        <input
          className="input input-xs w-[100px]"
          required
          aria-label="First period"
          placeholder={groups.data?.periods.at(-3) ?? ''}
          value={first}
          onChange={(event) => setFirst(event.target.value)}
        />
        to
        <input
          className="input input-xs w-[100px]"
          aria-label="Last period"
          placeholder={groups.data?.periods.at(-1) ?? ''}
          value={last}
          onChange={(event) => setLast(event.target.value)}
        />
        <input
          className="input input-xs w-[200px]"
          aria-label="Reason"
          placeholder="reason"
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
        <button type="submit" className="btn btn-xs" disabled={mark.isPending} {...reader}>
          Mark
        </button>
        {mark.isSuccess && (
          <output className="text-accent">{count(mark.data.count)} values are unknown now.</output>
        )}
        <Refused of={[mark]} className="w-full" also="Nothing was marked." />
      </form>
    </details>
  );
}
