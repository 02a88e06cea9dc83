/** What later actuals bring: new, revised, silent. */
import type { Schema } from '../../api/client';
import { count, fixed, signed } from '../../ui/format';

export function Brought({ appended }: { appended: Schema['Appended'] }) {
  const { new_periods: fresh, revisions } = appended;
  return (
    <div className="space-y-4 pt-2">
      <ul className="space-y-1">
        <li>
          <b>{count(appended.n_new)} new values</b>
          {fresh.length > 0 && ` in ${fresh.length === 1 ? fresh[0] : `${fresh[0]} to ${fresh.at(-1)}`}`},{' '}
          {count(appended.total_new)} units.
        </li>
        <li>
          <b>{count(appended.n_revised)} revised values</b>, by {signed(appended.revised_by, 0)} units in all.
        </li>
        <li>
          <b>{count(appended.n_new_series)} new series</b>
          <Some keys={appended.new_series} of={appended.n_new_series} />
        </li>
        <li>
          <b>{count(appended.n_silent)} silent series</b>: sold in the last season, no row in the new periods
          <Some keys={appended.silent_series} of={appended.n_silent} />
        </li>
      </ul>
      {revisions.length > 0 && (
        <table className="sheet max-w-[640px]">
          <caption className="pb-1 text-left font-semibold">
            Largest revisions
            {revisions.length < appended.n_revised && (
              <span className="font-normal text-second">
                , {count(revisions.length)} of {count(appended.n_revised)}
              </span>
            )}
          </caption>
          <thead>
            <tr>
              <th>Series</th>
              <th>Period</th>
              <th className="num">Old</th>
              <th className="num">New</th>
              <th className="num">Change</th>
            </tr>
          </thead>
          <tbody>
            {revisions.slice(0, 20).map((one) => (
              <tr key={`${one.key.join(' ')} ${one.period}`}>
                <td>{one.key.join(' × ')}</td>
                <td>{one.period}</td>
                <td className="num">{one.old === null ? 'unknown' : fixed(one.old, 0)}</td>
                <td className="num">{one.new === null ? 'unknown' : fixed(one.new, 0)}</td>
                <td className="num">{signed((one.new ?? 0) - (one.old ?? 0), 0)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}

function Some({ keys, of }: { keys: string[][]; of: number }) {
  if (keys.length === 0) return null;
  const shown = keys.slice(0, 5).map((key) => key.join(' × '));
  return (
    <span className="text-second">
      {' '}
      ({shown.join(', ')}
      {of > shown.length ? ` and ${count(of - shown.length)} more` : ''})
    </span>
  );
}
