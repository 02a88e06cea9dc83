/** Jump to a product, a group or a place by typing a part of its name or code. */
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { sheet } from '../api/queries';
import { Dialog } from './dialog';
import { useHere } from './here';

const MOST = 12;

export function SearchDialog({ close }: { close: () => void }) {
  const { portfolio, study } = useHere();
  const data = useQuery({ ...sheet(study ?? 0), enabled: study !== undefined }).data;
  const [text, setText] = useState('');
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  const entries = useMemo(() => {
    if (!data) return [];
    const found: { name: string; beside: string; text: string; node: string }[] = [];
    const add = (name: string, codes: string, all: string, node: string) =>
      found.push({
        name,
        beside: [codes, all].filter(Boolean).join(', '),
        text: `${name} ${codes}`.toLowerCase(),
        node,
      });
    const met = new Set<string>();
    data.node.forEach((node, i) => {
      const row = data.rows[data.row[i] ?? 0];
      const column = data.columns[data.column[i] ?? 0];
      if (!row || !column) return;
      const codes = [row.code, column.code].filter(Boolean).join(' × ');
      if (data.columns.length === 1) {
        if (!met.has(node)) add(row.name, codes, '', node); // once, though it stands below several parents
        met.add(node);
      } else if (row.depth === 0) add(column.name, codes, 'all products', node);
      else if (column.depth === 0) add(row.name, codes, 'all places', node);
      else add(`${row.name} × ${column.name}`, codes, '', node);
    });
    return found;
  }, [data]);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const hits = words.length
    ? entries.filter((entry) => words.every((word) => entry.text.includes(word))).slice(0, MOST)
    : [];
  const open = (node: string) => {
    close();
    navigate(`/p/${portfolio}/s/${study}/series/${node}`);
  };
  return (
    <Dialog title="Search" close={close}>
      <input
        autoFocus
        className="input input-sm w-full"
        aria-label="Part of a name or code"
        placeholder="lavender coast"
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={(event) => {
          if (event.key === 'ArrowDown') setAt(Math.min(at + 1, hits.length - 1));
          if (event.key === 'ArrowUp') setAt(Math.max(at - 1, 0));
          const hit = hits[at];
          if (event.key === 'Enter' && hit) {
            event.preventDefault();
            open(hit.node);
          }
        }}
      />
      <ul className="mt-2">
        {hits.map((hit, i) => (
          <li key={hit.node}>
            <button
              type="button"
              className={`flex w-full cursor-pointer justify-between px-2 py-1 text-left ${i === at ? 'bg-raised' : ''}`}
              onClick={() => open(hit.node)}
            >
              <span>{hit.name}</span>
              <span className="text-second">{hit.beside}</span>
            </button>
          </li>
        ))}
        {words.length > 0 && hits.length === 0 && (
          <li className="px-2 py-1 text-second">
            {study === undefined
              ? 'Names can be searched once a study has been run.'
              : data
                ? 'No name or code holds all of these.'
                : 'Names are being loaded.'}
          </li>
        )}
      </ul>
    </Dialog>
  );
}
