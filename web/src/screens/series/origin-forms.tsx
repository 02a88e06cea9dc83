/** The form that a method took at each origin, and a plain note where it changed. */
import type { Schema } from '../../api/client';

export function OriginForms({ origins }: { origins: Schema['AtOrigin'][] }) {
  const changes = origins.filter((one) => one.change).length;
  return (
    <>
      <table className="sheet">
        <thead>
          <tr>
            <th>Last period seen</th>
            <th>Model</th>
            <th>Changed from the origin before</th>
          </tr>
        </thead>
        <tbody>
          {origins.map((one, i) => (
            <tr key={one.period}>
              <td>
                {one.period}
                {i === origins.length - 1 && <span className="text-second"> now</span>}
              </td>
              <td>{one.model ?? <span className="text-second">could not be fitted yet</span>}</td>
              <td className={one.change ? 'text-warning' : 'text-second'}>
                {one.change || (i ? 'the same' : '')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-[13px] text-second">
        {changes === 0
          ? 'The same form every time.'
          : `The form changed ${changes === 1 ? 'once' : `${changes} times`}. A form that keeps changing says that the data do not tell these apart; a fixed one of them is easier to explain.`}
      </p>
    </>
  );
}
