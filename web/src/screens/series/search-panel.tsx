/** What the search for orders chose, and the models that it tried. */
import type { Schema } from '../../api/client';
import { fixed } from '../../ui/format';

type Fit = Schema['Fit'];

export function SearchPanel({ found, onTry }: { found: Fit | undefined; onTry: (text: string) => void }) {
  if (!found) return <p className="text-[13px] text-second">Searching …</p>;
  const tried = [...found.search].sort((a, b) => (a.aicc ?? 1e12) - (b.aicc ?? 1e12));
  return (
    <div className="space-y-2 text-[13px]">
      <p className="font-semibold">{found.fit.model}</p>
      <p>{found.fit.words}</p>
      <h3 className="font-semibold text-second">{tried.length} models tried, by AICc</h3>
      <div className="max-h-[320px] overflow-auto">
        <table className="sheet">
          <tbody>
            {tried.map((one) => (
              <tr key={one.model} className={one.refused ? 'text-second' : ''}>
                <td>
                  <button
                    type="button"
                    className="cursor-pointer text-left hover:underline"
                    title={one.refused ? `Refused: ${one.refused}` : 'Put it beside the others'}
                    onClick={() => onTry(one.model)}
                  >
                    {one.model}
                  </button>
                  {one.refused && <span className="block text-xs">refused: {one.refused}</span>}
                </td>
                <td className="num">{fixed(one.aicc, 1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}
