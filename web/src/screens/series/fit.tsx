/** Fit: ARIMA by hand beside what the search finds. Coefficients, roots, residuals, judgement, and the comparison. */
import { keepPreviousData, type UseQueryResult, useQueries, useQueryClient } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import type { Schema } from '../../api/client';
import { periods } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { Chips, NAMES } from './chips';
import { Compare } from './compare';
import { Glass } from './glass';
import { Keep } from './keep';
import { MethodForm } from './method-form';
import { fit as fitQuery } from './queries';
import { SearchPanel } from './search-panel';

type Node = Schema['Node'];
type Fit = Schema['Fit'];

const SEARCH = 'arima(best)';

/** What all fits found as one thing, which stays the same while they do. */
function together(results: UseQueryResult<Fit>[]) {
  return {
    data: results.map((one) => one.data),
    states: results.map((one) => ({ pending: one.isPending, error: one.error })),
  };
}

function estimatesOf(found: Fit | undefined): Record<string, number> {
  return Object.fromEntries((found?.fit.parameters ?? []).map((one) => [one.name, one.value]));
}

export function FitPage({
  study,
  portfolio,
  node,
  title,
  actions,
}: {
  study: number;
  portfolio: number;
  node: Node;
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const client = useQueryClient();
  const own = node.family === 'arima' ? node.method : node.parts.find((part) => /(^| )arima\(/.test(part));
  const [texts, setTexts] = useState<string[]>([own ?? 'arima(1,0,1)']);
  const [active, setActive] = useState(0); // as many as there are texts: the search
  const [keeping, setKeeping] = useState(false);
  const season = node.season_length;
  const all = useMemo(() => [...texts, SEARCH], [texts]);
  const { data: fits, states } = useQueries({
    queries: all.map((text) => ({ ...fitQuery(study, node.node, text), placeholderData: keepPreviousData })),
    combine: together,
  });
  const current = fits[active];
  const state = states[active];
  const name = (i: number) => (NAMES[i] && i < texts.length ? NAMES[i] : 'Search');
  const change = (text: string) => setTexts((was) => was.map((one, i) => (i === active ? text : one)));
  const resolved = current?.fit.model;
  return (
    <Page
      title={title}
      actions={actions}
      aside={
        <div className="space-y-4">
          <section aria-labelledby="orders">
            <h2 id="orders" className="mb-2 text-[13px] font-semibold text-second">
              {active < texts.length ? `Model ${name(active)}` : 'What the search chose'}
            </h2>
            {active < texts.length ? (
              <MethodForm
                key={active}
                study={study}
                node={node.node}
                text={texts[active] ?? ''}
                estimates={estimatesOf(current)}
                noun={periods(node.frequency, 1)}
                onChange={change}
              />
            ) : (
              <SearchPanel
                found={current}
                onTry={(text) => {
                  setTexts((was) =>
                    was.length < NAMES.length ? [...was, text] : [...was.slice(0, -1), text],
                  );
                  setActive(Math.min(texts.length, NAMES.length - 1));
                }}
              />
            )}
          </section>
          <button
            type="button"
            className="btn btn-sm btn-primary w-full"
            disabled={!resolved}
            onClick={() => setKeeping(true)}
          >
            Keep {active < texts.length ? name(active) : 'the search'} …
          </button>
        </div>
      }
    >
      <div className="p-[18px]">
        <div className="mb-2 flex flex-wrap items-center gap-2">
          <Chips
            texts={texts}
            active={active}
            fallback="arima(1,0,1)"
            extra={{ name: 'Search', text: fits[texts.length]?.fit.model ?? '…' }}
            onTexts={setTexts}
            onActive={setActive}
          />
        </div>
        {state?.pending && <Loading what="the fit" />}
        {state?.error && (
          <Failed
            error={state.error}
            retry={() => void client.invalidateQueries({ queryKey: ['fit', study, node.node] })}
          />
        )}
        {current &&
          !state?.error &&
          (current.diagnosis ? (
            <Glass found={current} diagnosis={current.diagnosis} season={season} />
          ) : (
            <p role="alert" className="py-6 text-error">
              {current.fit.problem || 'This model cannot be fitted to this series.'}
            </p>
          ))}
        <Compare study={study} node={node} texts={all} fits={fits} active={active} />
      </div>
      {keeping && resolved && (
        <Keep
          study={study}
          portfolio={portfolio}
          node={node}
          method={all[active] ?? ''}
          close={() => setKeeping(false)}
        />
      )}
    </Page>
  );
}
