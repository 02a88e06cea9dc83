/** Levels as a graph: how many nodes each has, what they hold, and their error before and after reconciliation. */
import { useState } from 'react';
import type { Schema } from '../../api/client';
import { count, fixed } from '../../ui/format';
import { aboveOf, firstFolds, unfolded, waysOf } from './fold';
import { layersOf } from './layers';

const WIDTH = 172;
const HEIGHT = 58;
const GAP = 14;
const DOWN = 84;
const MOST_DRAWN = 60;

interface Errors {
  before: number | null;
  after: number | null;
}

export function LevelGraph({ levels, errors }: { levels: Schema['StructureLevel'][]; errors: Errors[] }) {
  const ways = waysOf(levels);
  const [folds, setFolds] = useState(() => firstFolds(levels, ways, MOST_DRAWN));
  const stays = unfolded(levels, ways, folds);
  const above = aboveOf(
    levels.map((level) => level.above),
    stays,
  );
  const shown = levels.filter((_, i) => stays[i]).map((level, i) => ({ ...level, above: above[i] ?? [] }));
  const own = errors.filter((_, i) => stays[i]);
  return (
    <>
      {ways.some((labels) => labels.length > 1) && (
        <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1">
          <span className="text-second">Shown down to</span>
          {ways.map((labels, way) =>
            labels.length < 2 ? null : (
              <select
                key={labels.join()}
                aria-label={`Shown down to, ${labels.at(-1)}`}
                className="select select-xs w-36"
                value={folds[way]}
                onChange={(event) =>
                  setFolds(folds.map((one, k) => (k === way ? Number(event.target.value) : one)))
                }
              >
                {labels.map((label, k) => (
                  <option key={label} value={k}>
                    {label}
                  </option>
                ))}
              </select>
            ),
          )}
          {shown.length < levels.length && (
            <span className="text-second">
              {count(shown.length)} of {count(levels.length)} levels
            </span>
          )}
        </div>
      )}
      <Drawn key={folds.join()} levels={shown} errors={own} />
    </>
  );
}

function Drawn({ levels, errors }: { levels: Schema['StructureLevel'][]; errors: Errors[] }) {
  const [picked, pick] = useState<number>();
  const placed = layersOf(levels.map((level) => level.above));
  const widest = Math.max(...placed.map((one) => one.at)) + 1;
  const layers = Math.max(...placed.map((one) => one.layer)) + 1;
  const inLayer = (layer: number) => placed.filter((one) => one.layer === layer).length;
  const x = (i: number) => {
    const one = placed[i] ?? { layer: 0, at: 0 };
    return ((widest - inLayer(one.layer)) / 2 + one.at) * (WIDTH + GAP);
  };
  const y = (i: number) => (placed[i]?.layer ?? 0) * DOWN;
  const beside = new Set(
    picked === undefined
      ? []
      : [
          ...(levels[picked]?.above ?? []),
          ...levels.flatMap((one, i) => (one.above.includes(picked) ? [i] : [])),
        ],
  );
  return (
    <figure className="overflow-x-auto">
      <figcaption className="pb-2 text-second">
        Levels, each the sum of those below it that a line leads to: nodes, share of the volume of the last
        season, RMSSE before and after reconciliation. Press one to follow its lines.
      </figcaption>
      <div
        className="relative"
        style={{ width: widest * (WIDTH + GAP) - GAP, height: (layers - 1) * DOWN + HEIGHT }}
      >
        <svg className="absolute inset-0 h-full w-full" aria-hidden="true">
          <title>What lies below what</title>
          {levels.flatMap((level, i) =>
            level.above.map((j) => {
              const on = picked === i || picked === j;
              return (
                <line
                  key={`${level.name} ${levels[j]?.name}`}
                  x1={x(j) + WIDTH / 2}
                  y1={y(j) + HEIGHT}
                  x2={x(i) + WIDTH / 2}
                  y2={y(i)}
                  stroke="currentColor"
                  strokeWidth={on ? 2 : 1}
                  className={on ? 'text-base-content' : 'text-second'}
                  opacity={picked === undefined || on ? 1 : 0.35}
                />
              );
            }),
          )}
        </svg>
        {levels.map((level, i) => {
          const error = errors[i];
          const faint = picked !== undefined && picked !== i && !beside.has(i);
          return (
            <button
              key={level.name}
              type="button"
              aria-pressed={picked === i}
              onClick={() => pick(picked === i ? undefined : i)}
              className={`absolute border bg-base-100 px-2 py-1 text-left leading-tight ${
                picked === i ? 'border-2 border-base-content' : 'border-base-content'
              } ${faint ? 'opacity-60' : ''}`}
              style={{ left: x(i), top: y(i), width: WIDTH, height: HEIGHT }}
            >
              <span className="block truncate" title={level.name}>
                {level.name}
              </span>
              <span className="block">
                <b>{count(level.n_nodes)}</b>
                <span className="text-second">
                  {' '}
                  {level.n_nodes === 1 ? 'node' : 'nodes'},{' '}
                  {fixed(level.volume, level.volume === 100 ? 0 : 1)} %
                </span>
              </span>
              <span className="block text-second">
                {fixed(error?.before ?? null, 3)} → <b>{fixed(error?.after ?? null, 3)}</b>
              </span>
            </button>
          );
        })}
      </div>
    </figure>
  );
}
