/** Another rule of choice, tried before it is kept. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, body, type Schema } from '../../api/client';
import { useReader } from '../../api/roles';
import { count, fixed, signed } from '../../ui/format';
import { Choice as Words } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { choice, type Rule } from './queries';

const MEASURES = [
  { value: 'squared', label: 'squared' },
  { value: 'absolute', label: 'absolute' },
] as const;

export function ChoicePage({ study }: { study: number }) {
  const [rule, setRule] = useState<Rule | null>(null);
  const found = useQuery(choice(study, rule));
  if (found.isPending) return <Loading what="what the choice stands on" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const now: Rule = rule ?? { ...found.data.as_run, fallback: found.data.as_run.fallback ?? '' };
  return (
    <div className={found.isPlaceholderData ? 'opacity-60' : ''} aria-busy={found.isPlaceholderData}>
      <p className="mb-3 max-w-[90ch]">
        The recipe&rsquo;s first method stands until another has shown to be better. Set what that takes: the
        choice is made again at every origin, from the errors that had come by then.
      </p>
      <RuleFields rule={now} candidates={found.data.candidates} onChange={setRule} />
      <Outcome found={found.data} />
      <KeepRule study={study} rule={now} changed={rule !== null && !sameRule(now, found.data.as_run)} />
    </div>
  );
}

const sameRule = (a: Rule, b: Schema['Rule']) =>
  a.measure === b.measure && a.margin === b.margin && a.own === b.own && a.fallback === (b.fallback ?? '');

function RuleFields({
  rule,
  candidates,
  onChange,
}: {
  rule: Rule;
  candidates: string[];
  onChange: (rule: Rule) => void;
}) {
  return (
    <div className="mb-5 flex flex-wrap items-end gap-x-6 gap-y-3">
      <Words
        label="Errors"
        options={MEASURES}
        value={rule.measure}
        onChange={(measure) => onChange({ ...rule, measure })}
      />
      <Number_
        label="Margin, standard errors"
        value={rule.margin}
        most={10}
        step={0.5}
        onChange={(margin) => onChange({ ...rule, margin })}
      />
      <Number_
        label="A series leaves its group for, % less error"
        value={rule.own}
        most={99}
        step={5}
        onChange={(own) => onChange({ ...rule, own })}
      />
      <label className="text-[13px]">
        <span className="block text-second">Stands first</span>
        <select
          className="select select-sm max-w-[340px]"
          value={rule.fallback}
          onChange={(event) => onChange({ ...rule, fallback: event.target.value })}
        >
          <option value="">as in the recipe</option>
          {candidates.map((text) => (
            <option key={text} value={text}>
              {text}
            </option>
          ))}
        </select>
      </label>
    </div>
  );
}

function Number_({
  label,
  value,
  most,
  step,
  onChange,
}: {
  label: string;
  value: number;
  most: number;
  step: number;
  onChange: (value: number) => void;
}) {
  return (
    <label className="text-[13px]">
      <span className="block text-second">{label}</span>
      <input
        type="number"
        className="input input-sm w-[90px]"
        min={0}
        max={most}
        step={step}
        defaultValue={value}
        onChange={(event) => {
          const given = event.target.valueAsNumber;
          if (given >= 0 && given <= most) onChange(given);
        }}
      />
    </label>
  );
}

function Outcome({ found }: { found: Schema['ChoiceOutcome'] }) {
  const against = (now: number | null, before: number | null) =>
    now === null || before === null || before === 0 ? '–' : `${signed((100 * (now - before)) / before, 1)} %`;
  return (
    <div className="flex flex-wrap items-start gap-x-10 gap-y-6">
      <section aria-labelledby="outcome-levels">
        <h2 id="outcome-levels" className="mb-1 font-semibold">
          Error by level{' '}
          <span className="font-normal text-second">before reconciliation, in naive steps</span>
        </h2>
        <table className="sheet w-auto!">
          <thead>
            <tr>
              <th>Level</th>
              <th className="num">Nodes</th>
              <th className="num">Other method</th>
              <th className="num">RMSSE</th>
              <th className="num">as run</th>
              <th className="num">change</th>
              <th className="num">Mean absolute</th>
              <th className="num">change</th>
            </tr>
          </thead>
          <tbody>
            {found.levels.map((level) => (
              <tr key={level.name}>
                <td className="whitespace-nowrap">{level.name}</td>
                <td className="num">{count(level.n_nodes)}</td>
                <td className="num">{count(level.n_changed)}</td>
                <td className="num">{fixed(level.rmsse, 3)}</td>
                <td className="num">{fixed(level.rmsse_as_run, 3)}</td>
                <td className="num">{against(level.rmsse, level.rmsse_as_run)}</td>
                <td className="num">{fixed(level.mean_absolute, 3)}</td>
                <td className="num">{against(level.mean_absolute, level.mean_absolute_as_run)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <section aria-labelledby="outcome-methods">
        <h2 id="outcome-methods" className="mb-1 font-semibold">
          Methods <span className="font-normal text-second">nodes that have them, at the end of history</span>
        </h2>
        <table className="sheet w-auto!">
          <thead>
            <tr>
              <th>Method</th>
              <th className="num">Nodes</th>
              <th className="num">as run</th>
            </tr>
          </thead>
          <tbody>
            {found.methods.map((one) => (
              <tr key={one.method}>
                <td title={one.method}>{one.brief}</td>
                <td className="num">{count(one.n_nodes)}</td>
                <td className="num">{count(one.n_as_run)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}

function KeepRule({ study, rule, changed }: { study: number; rule: Rule; changed: boolean }) {
  const { portfolio } = useParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const reader = useReader();
  const keep = useMutation({
    mutationFn: () =>
      body(api.POST('/api/studies/{id}/choice/', { params: { path: { id: study } }, body: rule })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['studies'] });
      void navigate(`/p/${portfolio}/study`);
    },
  });
  return (
    <div className="mt-5 flex items-center gap-4">
      <button
        type="button"
        className="btn btn-primary btn-sm"
        disabled={!changed || keep.isPending}
        {...reader}
        onClick={() => keep.mutate()}
      >
        Run a study with this choice
      </button>
      <span className="text-second">
        {changed
          ? 'It makes the choice, bands and all that follows; methods are fitted anew only where history or corrections have changed.'
          : 'This is the choice as it was run.'}
      </span>
      {keep.isError && <Failed error={keep.error} />}
    </div>
  );
}
