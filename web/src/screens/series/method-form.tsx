/** A method as fields that a planner changes. What they are, and what a change makes of the text, the server says. */
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { api, body, type Schema } from '../../api/client';
import { ChoiceField, FlagField, NamesField, NumberField, ShareField, type Value } from './fields';
import { methodForm } from './queries';
import { Stepper } from './stepper';

type Field = Schema['Field'];
interface Change {
  name: string;
  value: Value;
  then: (text: string) => void;
}

/**
 * Changes of a text, one after the other, each made to what the one before left. Of several of one field that wait, the
 * newest is made: a drag does not ask for every pixel.
 */
function useChanges(study: number, node: string, text: string, estimates: Record<string, number>) {
  const client = useQueryClient();
  const now = useRef(text);
  const queue = useRef<Change[]>([]);
  const busy = useRef(false);
  const found = useRef(estimates);
  found.current = estimates;
  const [shown, setShown] = useState<Record<string, Value>>({});
  const [problem, setProblem] = useState('');
  useEffect(() => {
    if (!busy.current) now.current = text;
  }, [text]);

  const make = async () => {
    busy.current = true;
    for (let next = queue.current.shift(); next; next = queue.current.shift()) {
      const { name, value, then } = next;
      try {
        const answer = await body(
          api.POST('/api/studies/{id}/nodes/{node}/form/', {
            params: { path: { id: study, node } },
            body: { method: now.current, change: { name, value }, estimates: found.current },
          }),
        );
        setProblem(answer.problem);
        now.current = answer.method;
        if (!answer.problem)
          client.setQueryData(methodForm(study, node, answer.method).queryKey, { ...answer, problem: '' });
        then(answer.method);
      } catch (error) {
        setProblem(error instanceof Error ? error.message : String(error));
      }
      if (!queue.current.some((one) => one.name === name)) setShown(({ [name]: _, ...rest }) => rest);
    }
    busy.current = false;
  };
  const change = (name: string, value: Value, then: (text: string) => void) => {
    setShown((before) => ({ ...before, [name]: value }));
    queue.current = [...queue.current.filter((one) => one.name !== name), { name, value, then }];
    if (!busy.current) void make();
  };
  return { change, shown, problem };
}

export function MethodForm({
  study,
  node,
  text,
  estimates,
  noun,
  onChange,
}: {
  study: number;
  node: string;
  text: string;
  /** What was estimated for this method, where constants are not given. */
  estimates: Record<string, number>;
  noun: string;
  onChange: (text: string) => void;
}) {
  const { data } = useQuery({ ...methodForm(study, node, text), placeholderData: keepPreviousData });
  const { change, shown, problem } = useChanges(study, node, text, estimates);
  if (!data) return null;
  const set = (name: string) => (value: Value) => change(name, value, onChange);
  const unread = data.family === '';
  const menu = unread
    ? { ...data.menu, options: [{ value: '', label: 'written by hand' }, ...data.menu.options] }
    : data.menu;
  return (
    <div className="space-y-2.5 text-[13px]">
      <ChoiceField field={menu} value={shown.method ?? menu.value} onChange={set('method')} />
      {data.fields.map((field) => (
        <div key={field.name} className="space-y-2.5">
          {field.group && <p className="border-t border-rule pt-1.5 text-second">{field.group.trim()}</p>}
          <OneField
            field={field}
            value={shown[field.name] === undefined ? field.value : shown[field.name]}
            estimate={estimates[field.name]}
            family={data.family}
            noun={noun}
            onChange={set(field.name)}
          />
        </div>
      ))}
      {problem && (
        <p role="alert" className="text-error">
          {problem}
        </p>
      )}
      <Written key={text} text={text} onChange={onChange} />
    </div>
  );
}

function OneField({
  field,
  value,
  estimate,
  family,
  noun,
  onChange,
}: {
  field: Field;
  value: unknown;
  estimate: number | undefined;
  family: string;
  noun: string;
  onChange: (value: Value) => void;
}) {
  if (field.kind === 'choice') return <ChoiceField field={field} value={value} onChange={onChange} />;
  if (field.kind === 'flag') return <FlagField field={field} value={value} onChange={onChange} />;
  if (field.kind === 'names') return <NamesField field={field} value={value} onChange={onChange} />;
  if (field.kind === 'number') return <NumberField field={field} value={value} onChange={onChange} />;
  if (field.kind === 'count')
    return <Stepper label={field.label} value={Number(value)} most={field.most} onChange={onChange} />;
  return (
    <ShareField
      field={field}
      value={value}
      estimate={estimate}
      family={family}
      noun={noun}
      onChange={onChange}
    />
  );
}

/** The text itself, for what fields cannot say. */
function Written({ text, onChange }: { text: string; onChange: (text: string) => void }) {
  const [written, setWritten] = useState(text);
  const say = () => {
    if (written.trim() !== text) onChange(written.trim());
  };
  return (
    <label className="block border-t border-rule pt-2">
      <span className="text-second">As text</span>
      <textarea
        aria-label="Method as text"
        className="textarea textarea-sm min-h-0 w-full text-[13px]"
        rows={3}
        spellCheck={false}
        value={written}
        onChange={(event) => setWritten(event.target.value)}
        onBlur={say}
        onKeyDown={(event) => {
          if (event.key !== 'Enter') return;
          event.preventDefault();
          say();
        }}
      />
    </label>
  );
}
