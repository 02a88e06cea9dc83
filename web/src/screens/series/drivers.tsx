/** Drivers: what price and promotion do, what another plan would do, and the forecast taken apart. */
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { modelsOptions } from '../../charts/over-time';
import { pointsOptions } from '../../charts/points';
import { fixed, periods as noun, pValue, signed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { drivers as driversQuery, tries as triesQuery } from './queries';
import { Taken } from './taken';

type Node = Schema['Node'];
type Drivers = Schema['Drivers'];
type Effect = Schema['Effect'];
const NONE: (number | null)[] = [];
type Plan = Record<string, (number | null)[]>;

export function DriversPage({
  study,
  node,
  title,
  actions,
}: {
  study: number;
  node: Node;
  title: React.ReactNode;
  actions: React.ReactNode;
}) {
  const [method, setMethod] = useState('');
  const [written, setWritten] = useState<string | null>(null);
  const found = useQuery({ ...driversQuery(study, node.node, method), placeholderData: keepPreviousData });
  const unit = noun(node.frequency, 1);
  return (
    <Page
      title={title}
      actions={actions}
      aside={
        <div className="space-y-4 text-[13px]">
          <form
            onSubmit={(event) => {
              event.preventDefault();
              setMethod((written ?? '').trim());
            }}
          >
            <label className="block">
              <span className="font-semibold text-second">Method</span>
              <textarea
                aria-label="Method with drivers"
                className="textarea textarea-sm mt-1 w-full"
                rows={4}
                value={written ?? found.data?.asked ?? ''}
                onChange={(event) => setWritten(event.target.value)}
              />
            </label>
            <button type="submit" className="btn btn-sm mt-1" disabled={written === null}>
              Show its effects
            </button>
          </form>
          <p className="text-second">
            Drivers stand in x( ): price, log price, or holiday −1..1 for the {unit} before, its own and the
            one after. The search can find the rest: arima(best) + x(price, promotion).
          </p>
          {found.data?.notes.map((text) => (
            <p key={text} className="text-warning">
              {text}
            </p>
          ))}
          <p className="text-second">
            An effect is what the driver changes with everything else as it was. Explained is how much smaller
            the squared errors of one {unit} ahead are for having the driver.
          </p>
        </div>
      }
    >
      {found.isPending && <Loading what="the drivers" />}
      {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
      {found.data && (
        <div className="p-[18px]">
          {found.data.problem ? (
            <p role="alert" className="py-6">
              {found.data.problem}
            </p>
          ) : (
            <>
              <Effects found={found.data} unit={unit} />
              <WhatIf key={found.data.method} study={study} node={node} found={found.data} />
              <Taken parts={found.data.parts} periods={found.data.periods} />
            </>
          )}
        </div>
      )}
    </Page>
  );
}

function Effects({ found, unit }: { found: Drivers; unit: string }) {
  const size = Math.max(...found.effects.map((one) => Math.abs(one.change)), 0);
  const digits = size < 10 ? 2 : size < 100 ? 1 : 0;
  return (
    <section aria-labelledby="effects">
      <div className="mb-1 flex items-center">
        <h2 id="effects" className="mr-auto font-semibold">
          What each driver does
        </h2>
        {found.effects.length > 0 && (
          <TableOut
            name="Effects of drivers"
            head={[
              'If',
              `Units a ${unit}`,
              '95 % from',
              '95 % to',
              'Of',
              'Coefficient',
              'Std. error',
              'p',
              'Explained %',
            ]}
            rows={() =>
              found.effects.map(({ move, change, low, high, name, coefficient, explained }) => [
                move,
                change,
                low,
                high,
                name,
                coefficient.value,
                coefficient.error,
                coefficient.p,
                explained,
              ])
            }
          />
        )}
      </div>
      {found.effects.length === 0 && (
        <p className="py-2 text-second">
          {found.has_drivers
            ? 'None of the drivers varied here, so no effect can be estimated.'
            : 'This method has no drivers.'}
        </p>
      )}
      <div className="grid grid-cols-3 gap-x-4 gap-y-2">
        {found.effects.slice(0, 6).map((effect) => (
          <EffectPicture key={effect.name} effect={effect} unit={unit} />
        ))}
      </div>
      {found.effects.length > 0 && (
        <table className="sheet mt-2">
          <thead>
            <tr>
              <th>If</th>
              <th className="num">Units a {unit}</th>
              <th className="num">95 % band</th>
              <th className="num">Coefficient</th>
              <th className="num">Std. error</th>
              <th className="num">p</th>
              <th className="num">Explained %</th>
            </tr>
          </thead>
          <tbody>
            {found.effects.map((one) => (
              <tr
                key={one.name}
                className={one.coefficient.p !== null && one.coefficient.p > 0.05 ? 'text-second' : ''}
              >
                <td>{one.move}</td>
                <td className="num font-semibold">{signed(one.change, digits)}</td>
                <td className="num">
                  {signed(one.low, digits)} to {signed(one.high, digits)}
                </td>
                <td className="num">
                  {one.name} {fixed(one.coefficient.value, 3)}
                </td>
                <td className="num">{fixed(one.coefficient.error, 3)}</td>
                <td className="num">{pValue(one.coefficient.p)}</td>
                <td className="num">{fixed(one.explained, 1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="mt-1 text-[13px] text-second">
        At the mean demand of a {unit}. Grey: p above 0.05, so the effect may as well be zero.
      </p>
    </section>
  );
}

function EffectPicture({ effect, unit }: { effect: Effect; unit: string }) {
  const colours = useColours();
  const options = useMemo(() => {
    const line = effect.x.flatMap((x, i): [number, number][] => {
      const y = effect.line[i];
      return x === null || y === null || y === undefined ? [] : [[x, y]];
    });
    return pointsOptions(effect.x, effect.y, line, { x: effect.driver, y: `units a ${unit}` }, colours);
  }, [effect, unit, colours]);
  return (
    <figure>
      <figcaption className="text-[13px]">
        <b>{effect.driver}</b> <span className="text-second">and demand, the rest at its usual value</span>
      </figcaption>
      <Chart
        options={options}
        label={`Demand against ${effect.driver}, with the line of its effect`}
        className="h-[190px] w-full"
      />
    </figure>
  );
}

function WhatIf({ study, node, found }: { study: number; node: Node; found: Drivers }) {
  const colours = useColours();
  const [plan, setPlan] = useState<Plan>({});
  const used = found.drivers.filter((one) => found.effects.some((effect) => effect.driver === one.name));
  const planned = useQuery(triesQuery(study, node.node, [found.method], []));
  const changed = useQuery({
    ...triesQuery(study, node.node, [found.method], [], plan),
    placeholderData: keepPreviousData,
  });
  const before = planned.data?.tries[0]?.forecast ?? NONE;
  const after = changed.data?.tries[0]?.forecast ?? NONE;
  const moved = Object.values(plan).some((row) => row.some((value) => value !== null));
  const options = useMemo(() => {
    if (!planned.data) return null;
    const models: { name: string; forecast: (number | null)[]; colour?: string }[] = [
      { name: 'as planned', forecast: before },
    ];
    if (moved) models.push({ name: 'changed', forecast: after, colour: colours.teal });
    const from = Math.max(0, planned.data.n_past - Math.max(node.season_length, 12));
    return modelsOptions(planned.data.periods, planned.data.history, models, from, colours);
  }, [planned.data, before, after, moved, node.season_length, colours]);
  if (!used.length) return null;
  const failed = planned.error ?? changed.error;
  if (failed)
    return (
      <Failed
        error={failed}
        retry={() => {
          void planned.refetch();
          void changed.refetch();
        }}
      />
    );
  if (!options) return <Loading what="the plan" />;
  const total = (row: (number | null)[]) => row.reduce<number>((sum, value) => sum + (value ?? 0), 0);
  const digits = Math.max(...before.map((value) => value ?? 0)) < 100 ? 1 : 0;
  const set = (name: string, lead: number, text: string) =>
    setPlan((was) => {
      const row = [...(was[name] ?? found.periods.map(() => null))];
      row[lead] = text === '' || !Number.isFinite(Number(text)) ? null : Number(text);
      return { ...was, [name]: row };
    });
  /** In all periods at once; an empty field says nothing. */
  const all = (name: string, text: string) => {
    if (text.trim() === '' || !Number.isFinite(Number(text))) return;
    setPlan((was) => ({ ...was, [name]: found.periods.map(() => Number(text)) }));
  };
  return (
    <section aria-labelledby="plan" className="mt-5">
      <div className="flex items-baseline gap-4">
        <h2 id="plan" className="font-semibold">
          What another plan would do
        </h2>
        <output className="text-[13px]">
          {moved
            ? `${signed(total(after) - total(before), digits)} units over ${found.periods.length} ${noun(node.frequency)}: ${fixed(total(after), 0)} instead of ${fixed(total(before), 0)}`
            : 'Change a value below; nothing is saved.'}
        </output>
        {moved && (
          <button type="button" className="btn btn-xs btn-ghost" onClick={() => setPlan({})}>
            as planned again
          </button>
        )}
      </div>
      <Chart options={options} label="The forecast as planned, and changed" className="h-[210px] w-full" />
      <div className="overflow-auto">
        <table className="sheet">
          <thead>
            <tr>
              <th>Driver</th>
              <th>All</th>
              {found.periods.map((period) => (
                <th key={period} className="num px-0.5!">
                  {period.replace(/^\d{4}-/, '')}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {used.map((one) => (
              <tr key={one.name}>
                <td>{one.name}</td>
                <td>
                  <input
                    aria-label={`${one.name} in all periods`}
                    className="input input-xs w-[48px] px-1 text-right"
                    inputMode="decimal"
                    placeholder="…"
                    onBlur={(event) => all(one.name, event.target.value)}
                    onKeyDown={(event) => {
                      if (event.key === 'Enter') all(one.name, event.currentTarget.value);
                    }}
                  />
                </td>
                {found.periods.map((period, lead) => (
                  <td key={period} className="num px-0.5!">
                    <input
                      aria-label={`${one.name} in ${period}`}
                      className={`input input-xs w-[48px] px-1 text-right ${plan[one.name]?.[lead] === null || plan[one.name]?.[lead] === undefined ? '' : 'border-accent text-accent'}`}
                      inputMode="decimal"
                      placeholder={fixed(one.ahead[lead], 2)}
                      value={plan[one.name]?.[lead] ?? ''}
                      onChange={(event) => set(one.name, lead, event.target.value)}
                    />
                  </td>
                ))}
              </tr>
            ))}
            <tr>
              <td colSpan={2}>forecast</td>
              {after.map((value, lead) => (
                <td
                  key={found.periods[lead]}
                  className={`num px-0.5! ${moved && value !== before[lead] ? 'font-semibold text-accent' : ''}`}
                >
                  {fixed(value, digits)}
                </td>
              ))}
            </tr>
          </tbody>
        </table>
      </div>
    </section>
  );
}
