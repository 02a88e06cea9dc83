/** What bands hold, level by level, by the way that they are made; and why they do not add up. */
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';
import { TableOut } from '../../ui/table-out';

const WORDS: Record<string, string> = {
  calibrated: 'calibrated',
  paths: 'joint paths',
  normal: 'normal errors',
};

export function BandsByMaking({ accuracy }: { accuracy: Schema['Accuracy'] }) {
  const { bands, made = [], coverage_by_making: held = [], levels } = accuracy;
  const columns = bands.flatMap((band, b) => made.map((way, w) => ({ band, way, b, w })));
  const value = (level: number, w: number, b: number) => {
    const share = held[level]?.[w]?.[b];
    return share == null ? null : 100 * share;
  };
  return (
    <section aria-label="What bands hold">
      {columns.length > 0 && (
        <>
          <div className="mb-1 flex max-w-[1000px] items-center">
            <h2 className="mr-auto font-semibold">
              What bands hold, %{' '}
              <span className="font-normal text-second">
                by the way that they are made, over origins at which each has errors to go by
              </span>
            </h2>
            <TableOut
              name="What bands hold"
              head={['Level', ...columns.map((one) => `${one.band} % ${WORDS[one.way] ?? one.way}`)]}
              rows={() =>
                levels.map((level, i) => [level.name, ...columns.map((one) => value(i, one.w, one.b))])
              }
            />
          </div>
          <table className="sheet max-w-[1000px]">
            <thead>
              <tr>
                <th rowSpan={2}>Level</th>
                {bands.map((band) => (
                  <th key={band} colSpan={made.length} className="text-center!">
                    {band} %
                  </th>
                ))}
              </tr>
              <tr>
                {columns.map((one) => (
                  <th key={`${one.band} ${one.way}`} className="num">
                    {WORDS[one.way] ?? one.way}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {levels.map((level, i) => (
                <tr key={level.name}>
                  <td>{level.name}</td>
                  {columns.map((one) => (
                    <td key={`${one.band} ${one.way}`} className="num">
                      {fixed(value(i, one.w, one.b), 1)}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
      <p className="mt-1 max-w-[110ch] text-second">
        Forecasts add up, and so does every sample path. Quantiles do not: parts are rarely low all at once,
        so that the band of a total is narrower than the bands below it added up. Numbers for a total are read
        off its own band.
        {columns.length > 0 &&
          ' Calibrated bands are right node by node. Those of joint paths, which take the errors of one past week, month or day for all nodes, and those of normal errors, stand on one distribution of all of them and are not calibrated; a recipe may publish them ([intervals] made).'}
      </p>
    </section>
  );
}
