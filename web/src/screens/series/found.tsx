/** What a fit found: the form in words, parameters and what they mean, criteria of the forms tried. */
import { useQuery } from '@tanstack/react-query';
import type { Schema } from '../../api/client';
import { fixed, periods } from '../../ui/format';
import { type Explained, explain } from './explain';
import { tries } from './queries';

type Try = Schema['Try'];

function Parameters({ shown, errors }: { shown: Explained[]; errors: Record<string, number | null> }) {
  return (
    <dl className="mt-2 space-y-1.5">
      {shown.map((one) => {
        const error = errors[one.key];
        return (
          <div key={one.key}>
            <div className="flex justify-between gap-2">
              <dt className="text-second">{one.name}</dt>
              <dd>
                {fixed(one.value, Math.abs(one.value) < 10 ? 3 : 1)}
                {error !== null && error !== undefined && (
                  <span className="text-second" title="standard error">
                    {' '}
                    ± {fixed(error, error < 10 ? 3 : 1)}
                  </span>
                )}
              </dd>
            </div>
            {one.meaning && <p className="text-xs text-second">{one.meaning}</p>}
          </div>
        );
      })}
    </dl>
  );
}

function Criteria({ of }: { of: Record<string, number | null> }) {
  if (of.aicc === null || of.aicc === undefined) return null;
  return (
    <p className="mt-1 text-second">
      AICc {fixed(of.aicc, 1)}, AIC {fixed(of.aic, 1)}, BIC {fixed(of.bic, 1)}
    </p>
  );
}

function Forms({ tried, onForm }: { tried: Schema['TriedForm'][]; onForm?: (text: string) => void }) {
  const known = tried.filter((form) => form.aicc !== null);
  return (
    <section aria-labelledby="tried">
      <h2 id="tried" className="mb-1 font-semibold text-second">
        Smoothing forms, by AICc
      </h2>
      <table className="sheet w-full">
        <tbody>
          {known.map((form, i) => (
            <tr key={form.model} className={i === 0 ? 'font-semibold' : ''}>
              <td>
                {onForm ? (
                  <button
                    type="button"
                    className="cursor-pointer text-left hover:underline"
                    title="Try this form"
                    onClick={() => onForm(form.model)}
                  >
                    {form.model}
                  </button>
                ) : (
                  form.model
                )}
              </td>
              <td className="num">{fixed(form.aicc, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-xs text-second">
        Fit, less a price for every number estimated; the least is best. It compares forms of one family on
        the same values; between families the backtest decides.
      </p>
    </section>
  );
}

/** Beside a try. */
export function Found({ one, noun, onForm }: { one: Try; noun: string; onForm: (text: string) => void }) {
  if (one.problem) return null;
  const errors = Object.fromEntries((one.parameters ?? []).map((p) => [p.name, p.error]));
  return (
    <div className="space-y-4 text-[13px]">
      <section aria-labelledby="found">
        <h2 id="found" className="mb-1 font-semibold text-second">
          What was found
        </h2>
        <p>{one.words}</p>
        {one.notes?.map((text) => (
          <p key={text} className="mt-1 text-warning">
            {text}
          </p>
        ))}
        <Parameters shown={explain(one.parameters ?? [], noun)} errors={errors} />
        <Criteria of={one.criteria ?? {}} />
      </section>
      {one.tried && one.tried.length > 0 && <Forms tried={one.tried} onForm={onForm} />}
    </div>
  );
}

/** Beside the forecast: the chosen method as the study fitted it, and all smoothing forms for comparison. */
export function MethodPanel({ study, node }: { study: number; node: Schema['Node'] }) {
  const method = node.method ?? 'mean';
  const blended = node.parts.length > 0; // its parts speak for it, and a page need not wait for them to be fitted
  const found = useQuery(tries(study, node.node, blended ? ['ets(best)'] : [method, 'ets(best)'], []));
  const best = found.data?.tries.at(-1);
  const own = blended ? undefined : found.data?.tries[0];
  const errors = Object.fromEntries((own?.parameters ?? []).map((p) => [p.name, p.error]));
  return (
    <>
      <section aria-labelledby="form">
        <h2 id="form" className="mb-1 font-semibold text-second">
          Method
        </h2>
        <p>{blended ? node.brief : node.method}</p>
        {blended && (
          <ul aria-label="Its parts" className="mt-1 mb-2 space-y-1 border-l border-rule pl-2">
            {node.parts.map((part) => (
              <li key={part}>{part}</li>
            ))}
          </ul>
        )}
        {own?.words && <p className="mt-1 text-second">{own.words}</p>}
        <Parameters shown={explain(node.parameters, periods(node.frequency, 1))} errors={errors} />
        <Criteria of={own?.criteria ?? {}} />
      </section>
      {best?.tried && best.tried.length > 0 && <Forms tried={best.tried} />}
    </>
  );
}
