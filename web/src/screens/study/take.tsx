/** Taking the forecast of a node from another study: seen before it is kept, with a reason. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { Ask, Line } from '../../ui/ask';
import { Dialog } from '../../ui/dialog';
import { count, fixed, signed } from '../../ui/format';
import { Choice } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { forecastChanged } from '../adjust/queries';

const take = (one: number, other: number, node: string, bySeries: boolean, reason?: string) =>
  body(
    api.POST('/api/studies/{id}/take/{other}/', {
      params: { path: { id: one, other } },
      body: { nodes: [node], by_series: bySeries, reason: reason ?? '', preview: reason === undefined },
    }),
  );

export function Take({
  node,
  one,
  other,
  close,
}: {
  node: Schema['ComparedNode'];
  one: Schema['ComparedStudy'];
  other: Schema['ComparedStudy'];
  close: () => void;
}) {
  const client = useQueryClient();
  const [way, setWay] = useState<'whole' | 'series'>('whole');
  const [reason, setReason] = useState(`as ${other.name} #${other.id} has it`);
  const bySeries = way === 'series';
  const seen = useQuery({
    queryKey: ['taking', one.id, other.id, node.node, way],
    queryFn: () => take(one.id, other.id, node.node, bySeries),
    gcTime: 0,
  });
  const keep = useMutation({
    mutationFn: () => take(one.id, other.id, node.node, bySeries, reason),
    onSuccess: () => {
      forecastChanged(client);
      void client.invalidateQueries({ queryKey: ['compared'] });
      close();
    },
  });
  return (
    <Dialog title={`Take ${node.name} into ${one.name} #${one.id}`} close={close}>
      <Ask
        act={() => keep.mutate()}
        say="Take it"
        ready={!!seen.data && !keep.isPending && reason.trim() !== ''}
        error={keep.error}
        close={close}
      >
        <Choice
          label="Below it"
          options={[
            { value: 'whole', label: 'shared out as it is now' },
            { value: 'series', label: 'series by series, as there' },
          ]}
          value={way}
          onChange={setWay}
        />
        {seen.isPending && <Loading what="what it would do" />}
        {seen.isError && <Failed error={seen.error} />}
        {seen.data && (
          <p>
            {seen.data.name}: {fixed(seen.data.total.before, 0)} → {fixed(seen.data.total.after, 0)} in all (
            {signed(seen.data.total.change, 0)}). {count(seen.data.n_changed)} of {count(seen.data.n_series)}{' '}
            series change, and {count(seen.data.n_above)} nodes above them. It is kept as{' '}
            {count(seen.data.n_adjustments)} adjustments of the portfolio, undone at once.
          </p>
        )}
        <Line label="Reason" most={300} value={reason} onChange={setReason} />
      </Ask>
    </Dialog>
  );
}
