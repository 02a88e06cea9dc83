/** What moved the total since the last release: a number for each cause, which opens to its series. */
import { useQuery } from '@tanstack/react-query';
import { Fragment, useState } from 'react';
import { Link } from 'react-router';
import { ApiError, type Schema } from '../../api/client';
import { count, fixed, signed } from '../../ui/format';
import { Failed, Loading } from '../../ui/states';
import { TableOut } from '../../ui/table-out';
import { bridge as bridgeQuery } from './queries';

export function Moved({
  portfolio,
  study,
  release,
}: {
  portfolio: number;
  study: number;
  release: Schema['Release'];
}) {
  const found = useQuery(bridgeQuery(study, release.id));
  const [open, setOpen] = useState('');
  if (found.isPending) return <Loading what="what moved" />;
  if (found.isError)
    return found.error instanceof ApiError && found.error.status === 422 ? (
      <p className="text-second">
        What moved since R{release.number}: {found.error.message}
      </p>
    ) : (
      <Failed error={found.error} retry={() => void found.refetch()} />
    );
  const bridge = found.data;
  const rows = bridge.parts.filter((one) => one.n_series > 0);
  const largest = Math.max(1, ...rows.map((one) => Math.abs(one.change)));
  return (
    <section aria-labelledby="moved">
      <div className="mb-1 flex items-center">
        <h2 id="moved" className="mr-auto text-base font-semibold">
          What moved the total since R{bridge.release}
        </h2>
        <TableOut
          name={`Moved since R${bridge.release}`}
          head={['Cause', 'Change', 'Series']}
          rows={() => bridge.parts.map((one) => [one.name, one.change, one.n_series])}
        />
      </div>
      <p>
        {bridge.first} to {bridge.last}: {fixed(bridge.before, 0)} → <b>{fixed(bridge.after, 0)}</b> units,{' '}
        {signed(bridge.change, 0)}
        {bridge.percent !== null && ` (${signed(bridge.percent, 1)} %)`}. The parts add up to it.
      </p>
      <div className="mt-2 flex flex-wrap gap-10">
        <table className="sheet w-auto! min-w-[560px] self-start">
          <thead>
            <tr>
              <th>Cause</th>
              <th className="num">Change</th>
              <th> </th>
              <th className="num">Series</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <Fragment key={one.name}>
                <tr>
                  <td>
                    <button
                      type="button"
                      className="cursor-pointer hover:underline"
                      aria-expanded={open === one.name}
                      onClick={() => setOpen(open === one.name ? '' : one.name)}
                    >
                      {open === one.name ? '▾' : '▸'} {one.name}
                    </button>
                  </td>
                  <td className="num font-semibold">{signed(one.change, 0)}</td>
                  <td className="w-[130px]" aria-hidden="true">
                    <Bar share={one.change / largest} />
                  </td>
                  <td className="num">{count(one.n_series)}</td>
                </tr>
                {open === one.name &&
                  one.series.map((series) => (
                    <tr key={series.name} className="text-[13px]">
                      <td className="pl-7!">
                        <Name series={series} portfolio={portfolio} study={study} />
                      </td>
                      <td className="num">{signed(series.change, 0)}</td>
                      <td />
                      <td className="num text-second">
                        {fixed(series.before, 0)} → {fixed(series.after, 0)}
                      </td>
                    </tr>
                  ))}
              </Fragment>
            ))}
          </tbody>
        </table>
        {bridge.movers.length > 0 && (
          <table className="sheet w-auto! self-start">
            <caption className="pb-1 text-left text-second">Series that move most</caption>
            <tbody>
              {bridge.movers.slice(0, 10).map((series) => (
                <tr key={series.name}>
                  <td>
                    <Name series={series} portfolio={portfolio} study={study} />
                    <span className="block text-xs text-second">{series.because}</span>
                  </td>
                  <td className="num">{signed(series.change, 0)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </section>
  );
}

function Name({ series, portfolio, study }: { series: Schema['Moved']; portfolio: number; study: number }) {
  if (!series.node) return <>{series.name}</>;
  return (
    <Link className="hover:underline" to={`/p/${portfolio}/s/${study}/series/${series.node}`}>
      {series.name}
    </Link>
  );
}

/** From the middle to the right for more, to the left for less. */
function Bar({ share }: { share: number }) {
  const width = `${Math.abs(share) * 50}%`;
  return (
    <span className="relative block h-2.5 border-l border-rule">
      <span
        className={`absolute top-0 h-full ${share >= 0 ? 'bg-base-content' : 'bg-second'}`}
        style={share >= 0 ? { left: '50%', width } : { right: '50%', width }}
      />
      <span className="absolute left-1/2 h-full border-l border-base-content" />
    </span>
  );
}
