/** Parts of the review of a file: its first rows as understood, the first period, the role of a column. */
import { useState } from 'react';
import type { Schema } from '../../api/client';
import type { Role } from './roles';

export function AsUnderstood({ rows }: { rows: Schema['FirstRows'] }) {
  return (
    <table className="sheet w-auto!" aria-label="The first rows as understood">
      <caption className="pb-1 text-left whitespace-nowrap">
        <b>As understood</b>
      </caption>
      <thead>
        <tr>
          {rows.columns.map((name, i) => (
            <th key={name} className={i === rows.columns.length - 1 ? 'num' : ''}>
              {name}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.rows.map((row) => (
          <tr key={row.join(' ')}>
            {row.map((cell, i) => (
              <td
                key={rows.columns[i]}
                className={`whitespace-nowrap ${i === rows.columns.length - 1 ? 'num' : ''} ${cell === 'left out' ? 'text-error' : ''}`}
              >
                {cell}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** Where headings of periods say nothing: which period the first of them is. */
export function FirstPeriod({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const [text, setText] = useState(value);
  return (
    <form
      className="flex items-center gap-2 text-[13px] text-second"
      onSubmit={(event) => {
        event.preventDefault();
        onChange(text.trim());
      }}
    >
      <label className="flex items-center gap-2">
        The first column of periods is
        <input
          className="input input-xs w-[110px] text-base-content"
          placeholder="2023-01"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onBlur={() => onChange(text.trim())}
        />
      </label>
      <span>a week, month, quarter or year; left empty, headings are read, or else numbered from 1 on</span>
    </form>
  );
}

export function RoleSelect({
  column,
  columns,
  said,
  onChange,
  onPeriods,
}: {
  column: Schema['Column'];
  columns: Schema['Column'][];
  /** Whether somebody said which columns are periods. */
  said: boolean;
  onChange: (role: Role, of: string | null) => void;
  onPeriods: (alone: boolean) => void;
}) {
  if (column.role === 'period' && !said) return <span>period</span>;
  const keys = columns.filter((one) => one.role === 'key' && one.name !== column.name);
  return (
    <select
      className="select select-xs w-[160px] text-base-content"
      aria-label={`Role of ${column.name}`}
      value={column.role === 'attribute' ? `attribute ${column.of}` : column.role}
      onChange={(event) => {
        const [role, ...of] = event.target.value.split(' ');
        if (role === 'period' || role === 'periods') return onPeriods(role === 'period');
        onChange(role as Role, of.join(' ') || null);
      }}
    >
      <option value="time">period</option>
      <option value="value">sales</option>
      <option value="key">key of a series</option>
      {keys.map((key) => (
        <option key={key.name} value={`attribute ${key.name}`}>
          describes {key.name}
        </option>
      ))}
      <option value="driver">driver, known ahead</option>
      <option value="period">sales of one period</option>
      <option value="periods">sales of one period, as all after it</option>
      <option value="ignored">not used</option>
    </select>
  );
}
