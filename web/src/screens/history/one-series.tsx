/** One series as received and as corrected. */
import { useQuery } from '@tanstack/react-query';
import { useMemo } from 'react';
import { Link, useParams } from 'react-router';
import { oneSeries } from '../../api/queries';
import { Chart } from '../../charts/chart';
import { useColours } from '../../charts/colours';
import { contextOptions } from '../../charts/context';
import { Key } from '../../charts/key';
import { fixed } from '../../ui/format';
import { Page } from '../../ui/page';
import { Failed, Loading } from '../../ui/states';
import { IntakeTabs } from '../intake/tabs';

export function OneSeries() {
  const params = useParams();
  const portfolio = Number(params.portfolio);
  const found = useQuery(oneSeries(portfolio, params.series ?? ''));
  const colours = useColours();
  const options = useMemo(
    () => found.data && contextOptions(found.data, null, colours),
    [found.data, colours],
  );
  if (found.isPending) return <Loading what="the series" />;
  if (found.isError) return <Failed error={found.error} retry={() => void found.refetch()} />;
  const data = found.data;
  const changed = Object.entries(data.reasons).map(([t, reason]) => ({ t: Number(t), reason }));
  return (
    <Page title={`Intake › ${data.labels.join(' × ')}`} actions={<IntakeTabs portfolio={portfolio} />}>
      <div className="space-y-4 p-[18px]">
        <div className="flex gap-6">
          <Key colour={colours.ink} label="as methods see it" />
          <span className="flex items-center gap-1.5 text-[13px]">
            <span className="inline-block h-2.5 w-2.5 rounded-full border-[1.5px] border-accent" /> as
            received, where it was corrected
          </span>
          <span className="ml-auto text-[13px] text-second">
            {data.previous !== null && (
              <Link className="link mr-3" to={`/p/${portfolio}/intake/series/${data.previous}`}>
                the one before
              </Link>
            )}
            {data.next !== null && (
              <Link className="link" to={`/p/${portfolio}/intake/series/${data.next}`}>
                the next
              </Link>
            )}
          </span>
        </div>
        {options && <Chart className="h-[380px]" options={options} label={`History of ${data.name}`} />}
        {changed.length === 0 ? (
          <p className="text-second">Nothing in this series has been corrected.</p>
        ) : (
          <table className="sheet w-auto!">
            <thead>
              <tr>
                <th>Period</th>
                <th className="num">Received</th>
                <th className="num">Corrected to</th>
                <th>Reason</th>
              </tr>
            </thead>
            <tbody>
              {changed.map(({ t, reason }) => (
                <tr key={t}>
                  <td>{data.periods[t]}</td>
                  <td className="num">{fixed(data.received[t], 0)}</td>
                  <td className="num">
                    {data.corrected[t] === null ? 'unknown' : fixed(data.corrected[t], 0)}
                  </td>
                  <td>{reason}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </Page>
  );
}
