/** A release held against what came after it. */
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { Schema } from '../../api/client';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { Key } from '../../charts/key';
import { releasesOptions } from '../../charts/releases';
import { count, fixed, share, signed } from '../../ui/format';
import { Empty, Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { beside as besideQuery, track as trackQuery } from './queries';

type Track = Schema['Track'];
type Measures = Omit<Schema['TrackLevel'], 'name' | 'n_nodes'>;

export function TrackPage({
  portfolio,
  study,
  list,
  draft,
}: {
  portfolio: number;
  study: number;
  list: Schema['Release'][];
  draft: Schema['Draft'];
}) {
  const [search, setSearch] = useSearchParams();
  const usable = list.filter((one) => one.withdrawal === null);
  const behind = (one: Schema['Release']) => draft.past_periods.includes(one.first);
  const asked = Number(search.get('release'));
  const chosen = usable.find((one) => one.number === asked) ?? usable.find(behind) ?? usable[0];
  const found = useQuery({ ...trackQuery(chosen?.id ?? 0), enabled: chosen !== undefined });
  if (!chosen)
    return (
      <Empty title="Nothing has been published yet">
        Once a release is out and actuals have come, it is held against them here.
      </Empty>
    );
  return (
    <div className="space-y-7 p-[18px]">
      <div className="flex flex-wrap items-center gap-3">
        <label className="flex items-center gap-2">
          <span className="text-second">Release</span>
          <select
            aria-label="Release"
            className="select select-sm w-[270px]"
            value={chosen.number}
            onChange={(event) =>
              setSearch((before) => {
                before.set('release', event.target.value);
                return before;
              })
            }
          >
            {usable.map((one) => (
              <option key={one.id} value={one.number}>
                R{one.number} from {one.origin}, {one.first} to {one.last}
              </option>
            ))}
          </select>
        </label>
        <a
          className="btn btn-sm btn-ghost ml-auto"
          href={`/api/portfolios/${portfolio}/report/`}
          target="_blank"
          rel="noreferrer"
        >
          Monthly report
        </a>
      </div>
      {found.isPending && <Loading what="the track" />}
      {found.isError && <Failed error={found.error} retry={() => void found.refetch()} />}
      {found.data && <Found track={found.data} portfolio={portfolio} study={study} draft={draft} />}
    </div>
  );
}

function Found({
  track,
  portfolio,
  study,
  draft,
}: {
  track: Track;
  portfolio: number;
  study: number;
  draft: Schema['Draft'];
}) {
  return (
    <>
      <p className="max-w-[90ch] text-base">{track.sentence}</p>
      <SideBySide portfolio={portfolio} draft={draft} />
      {track.n_came > 0 && (
        <>
          <Leads track={track} />
          <Parts track={track} title="Level by level" first="Level" count="Nodes" parts={track.levels} />
          <Parts track={track} title="By kind of demand" first="Kind" count="Series" parts={track.kinds} />
          <Helped track={track} />
          <LeftBands track={track} portfolio={portfolio} study={study} />
        </>
      )}
    </>
  );
}

/** The same periods as each release had them. */
function SideBySide({ portfolio, draft }: { portfolio: number; draft: Schema['Draft'] }) {
  const colours = useColours();
  const found = useQuery(besideQuery(portfolio, 'top')).data;
  const options = useMemo(
    () => releasesOptions(draft.past_periods, draft.periods, draft.total.history, found ?? [], colours),
    [draft, found, colours],
  );
  return (
    <section aria-labelledby="side-by-side">
      <h2 id="side-by-side" className="text-base font-semibold">
        The total, as releases had it
      </h2>
      <p className="flex gap-4">
        <Key colour="var(--color-base-content)" label="sold" />
        {found?.map((one, i) =>
          i === found.length - 1 ? (
            <Key key={one.release} colour="var(--forecast)" label={`R${one.release} from ${one.origin}`} />
          ) : (
            <Key
              key={one.release}
              colour="var(--color-secondary)"
              label={`R${one.release} from ${one.origin}`}
              style="dashed"
            />
          ),
        )}
      </p>
      <Chart
        options={options}
        label="Total: what was sold, and what releases had said"
        className="h-[230px] w-full"
      />
    </section>
  );
}

const MEASURES = ['Error, % of volume', 'Bias, %', 'Gain over naive, %'];

function cells(one: Measures): (string | number | null)[] {
  return [
    one.wape,
    one.bias,
    one.gain,
    ...one.held.map((held) => (held.share === null ? null : 100 * held.share)),
  ];
}

function Shown({ one, adjusted }: { one: Measures; adjusted: boolean }) {
  return (
    <>
      <td className="num">{fixed(one.wape, 1)}</td>
      {adjusted && <td className="num text-second">{fixed(one.wape_statistical, 1)}</td>}
      <td className="num">{signed(one.bias, 1)}</td>
      <td className="num">{signed(one.gain, 1)}</td>
      {one.held.map((held) => (
        <td key={held.level} className="num">
          {share(held.share)}
        </td>
      ))}
    </>
  );
}

function Head({ track, adjusted }: { track: Track; adjusted: boolean }) {
  return (
    <>
      <th className="num">Error, %</th>
      {adjusted && <th className="num">Statistical, %</th>}
      <th className="num">Bias, %</th>
      <th className="num">Gain, %</th>
      {(track.levels[0]?.held ?? []).map((held) => (
        <th key={held.level} className="num">
          In {held.level} %
        </th>
      ))}
    </>
  );
}

function Leads({ track }: { track: Track }) {
  const adjusted = track.adjustments.length > 0;
  return (
    <section aria-labelledby="track-leads">
      <div className="mb-1 flex items-center">
        <h2 id="track-leads" className="mr-auto text-base font-semibold">
          Period by period
        </h2>
        <TableOut
          name={`Track of R${track.release}`}
          head={['Period', 'Sold', 'Forecast', 'Seasonal naive', ...MEASURES, ...bandNames(track)]}
          rows={() =>
            track.leads.map((one) => [one.period, one.actual, one.forecast, one.naive, ...cells(one)])
          }
        />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            <th>Period</th>
            <th className="num">Total sold</th>
            <th className="num">Forecast</th>
            <th className="num">Seasonal naive</th>
            <Head track={track} adjusted={adjusted} />
          </tr>
        </thead>
        <tbody>
          {track.leads.map((one) => (
            <tr key={one.period}>
              <td>{one.period}</td>
              <td className="num">{fixed(one.actual, 0)}</td>
              <td className="num font-semibold">{fixed(one.forecast, 0)}</td>
              <td className="num">{fixed(one.naive, 0)}</td>
              <Shown one={one} adjusted={adjusted} />
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-second">
        Error, bias and bands are those of the series. Bias is what was sold less the forecast: below zero,
        too much was expected. Gain is on the absolute error, over the seasonal naive of that day.
      </p>
    </section>
  );
}

const bandNames = (track: Track) => (track.levels[0]?.held ?? []).map((held) => `In ${held.level} %`);

function Parts({
  track,
  title,
  first,
  count: counted,
  parts,
}: {
  track: Track;
  title: string;
  first: string;
  count: string;
  parts: Schema['TrackLevel'][];
}) {
  const adjusted = track.adjustments.length > 0;
  const id = `track-${first.toLowerCase()}`;
  return (
    <section aria-labelledby={id}>
      <div className="mb-1 flex items-center">
        <h2 id={id} className="mr-auto text-base font-semibold">
          {title}
        </h2>
        <TableOut
          name={`${title}, R${track.release}`}
          head={[first, counted, ...MEASURES, ...bandNames(track), 'Tracking signal']}
          rows={() => parts.map((one) => [one.name, one.n_nodes, ...cells(one), one.tracking])}
        />
      </div>
      <table className="sheet">
        <thead>
          <tr>
            <th>{first}</th>
            <th className="num">{counted}</th>
            <Head track={track} adjusted={adjusted} />
            <th className="num">Tracking</th>
          </tr>
        </thead>
        <tbody>
          {parts.map((one) => (
            <tr key={one.name}>
              <td>{one.name}</td>
              <td className="num">{count(one.n_nodes)}</td>
              <Shown one={one} adjusted={adjusted} />
              <td className="num">{fixed(one.tracking, 1)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-second">
        Tracking is the mean size of the tracking signals of these {counted.toLowerCase()}: near{' '}
        {track.n_came}, each is missed to one side of its own.
      </p>
    </section>
  );
}

function Helped({ track }: { track: Track }) {
  if (!track.adjustments.length) return null;
  const groups = [
    { title: 'By reason', rows: track.by_reason },
    { title: 'By planner', rows: track.by_planner },
  ];
  return (
    <section aria-labelledby="track-helped">
      <h2 id="track-helped" className="mb-1 text-base font-semibold">
        What adjustments brought
      </h2>
      <table className="sheet">
        <thead>
          <tr>
            <th>Node</th>
            <th>Change</th>
            <th>Reason</th>
            <th>By</th>
            <th className="num">Periods come</th>
            <th>Beside the statistical forecast</th>
          </tr>
        </thead>
        <tbody>
          {track.adjustments.map((one, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two may say the same of one node
            <tr key={i}>
              <td>{one.name}</td>
              <td>{one.words}</td>
              <td>{one.reason}</td>
              <td>{one.made_by}</td>
              <td className="num">{one.periods}</td>
              <td className={one.periods && one.gained < -0.5 ? 'text-error' : ''}>{one.brought}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {track.n_adjustments > track.adjustments.length && (
        <p className="mt-1 text-second">
          The {count(track.adjustments.length)} of {count(track.n_adjustments)} that brought or cost most; all
          of them count below.
        </p>
      )}
      <div className="mt-3 flex flex-wrap gap-10">
        {groups.map(({ title, rows }) => (
          <table key={title} className="sheet w-auto! self-start">
            <caption className="pb-1 text-left text-second">{title}</caption>
            <tbody>
              {rows.map((one) => (
                <tr key={one.name}>
                  <td>{one.name}</td>
                  <td className={one.periods && one.gained < -0.5 ? 'text-error' : ''}>{one.brought}</td>
                  <td className="text-second" title="Errors after it, added up, over their mean size">
                    {one.tracking === null ? '' : `tracking ${signed(one.tracking, 1)} of ${one.periods}`}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        ))}
      </div>
    </section>
  );
}

function LeftBands({ track, portfolio, study }: { track: Track; portfolio: number; study: number }) {
  const widest = track.levels[0]?.held[0]?.level;
  return (
    <section aria-labelledby="track-left">
      <div className="mb-1 flex items-center">
        <h2 id="track-left" className="mr-auto text-base font-semibold">
          Series that left their {widest} % band
        </h2>
        <TableOut
          name={`Outside the bands of R${track.release}`}
          head={['Series', 'Sold', 'Forecast', 'Missed', 'Periods outside', 'Of', 'Tracking signal']}
          rows={() =>
            track.left.map((one) => [
              one.name,
              one.actual,
              one.forecast,
              one.error,
              one.outside,
              one.of,
              one.tracking,
            ])
          }
        />
      </div>
      {track.left.length === 0 ? (
        <p className="text-second">All that came lies inside.</p>
      ) : (
        <table className="sheet">
          <thead>
            <tr>
              <th>Series</th>
              <th className="num">Sold</th>
              <th className="num">Forecast</th>
              <th className="num">Missed</th>
              <th className="num">Periods outside</th>
              <th className="num">Tracking signal</th>
            </tr>
          </thead>
          <tbody>
            {track.left.map((one) => (
              <tr key={one.node}>
                <td>
                  <Link className="hover:underline" to={`/p/${portfolio}/s/${study}/series/${one.node}`}>
                    {one.name}
                  </Link>
                </td>
                <td className="num">{fixed(one.actual, 0)}</td>
                <td className="num">{fixed(one.forecast, 0)}</td>
                <td className="num font-semibold">{fixed(one.error, 0)}</td>
                <td className="num">
                  {one.outside} of {one.of}
                </td>
                <td className="num">{signed(one.tracking, 1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="mt-1 text-second">
        The largest misses first, at most 50. The tracking signal adds up the errors over their mean size:
        near {signed(track.n_came, 0)} or {signed(-track.n_came, 0)}, all were missed to one side.
      </p>
    </section>
  );
}
