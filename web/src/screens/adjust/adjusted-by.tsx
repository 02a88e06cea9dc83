/** Who changed the forecast of a node, and why. */
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, body, type Schema } from '../../api/client';
import { useReader } from '../../api/roles';
import { Refused } from '../../ui/states';
import { forecastChanged } from './queries';

export function AdjustedBy({ node, portfolio }: { node: Schema['Node']; portfolio: number }) {
  const client = useQueryClient();
  const reader = useReader();
  const withdraw = useMutation({
    mutationFn: ({ id, n }: Schema['AdjustedBy']) =>
      body(api.DELETE('/api/adjustments/{id}/', { params: { path: { id }, query: { act: n > 1 } } })),
    onSettled: () => forecastChanged(client),
  });
  if (!node.adjusted_by.length) return null;
  return (
    <section aria-labelledby={`adjusted-${portfolio}`} className="mt-3">
      <h2 id={`adjusted-${portfolio}`} className="mb-1 font-semibold">
        Adjusted
      </h2>
      <Refused of={[withdraw]} />
      <ul className="text-[13px]">
        {node.adjusted_by.map((one) => (
          <li key={one.id} className="flex flex-wrap items-baseline gap-x-2 border-b border-rule py-1">
            <b className="text-accent">{one.words}</b>
            {!one.own && one.n === 1 && <span>of {one.name}</span>}
            <span>{one.reason}</span>
            <span className="text-second">{one.made_by}</span>
            <button
              type="button"
              className="btn btn-xs btn-ghost ml-auto"
              disabled={withdraw.isPending}
              {...reader}
              onClick={() => withdraw.mutate(one)}
            >
              {one.n > 1 ? 'Withdraw all' : 'Withdraw'}
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
