// Controls for what a cell of a table can hold, and for every setting but tables.
import { useEffect, useState } from 'react';
import { isFile, type Cell } from '../api/client';
import { FileControl } from './file';
import { lines, type ControlProps } from './shape';

type CellProps = Omit<ControlProps<Cell>, 'value'> & { value: Cell | undefined };

/** A control for what a cell of a table can hold, and for every setting but tables. */
export function CellControl({ of: d, value, onChange, label, disabled }: CellProps) {
  switch (d.type) {
    case 'bool':
      return (
        <select
          aria-label={label}
          className="select select-sm w-full max-w-40"
          disabled={disabled}
          value={value === undefined ? '' : String(value)}
          onChange={(e) => onChange(e.target.value === 'true')}
        >
          {value === undefined && <option value="">–</option>}
          <option value="true">on</option>
          <option value="false">off</option>
        </select>
      );
    case 'choice': {
      const text = value === undefined ? '' : String(value);
      return (
        <select aria-label={label} className="select select-sm w-full max-w-56" disabled={disabled} value={text} onChange={(e) => onChange(e.target.value)}>
          {!d.options?.includes(text) && <option value={text}>{text ? `${text} (not an option)` : '–'}</option>}
          {d.options?.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      );
    }
    case 'integer':
      return <NumberControl of={d} value={value} onChange={onChange} label={label} disabled={disabled} />;
    case 'list':
      return <ListControl of={d} value={value} onChange={onChange} label={label} disabled={disabled} />;
    case 'file':
      return <FileControl of={d} value={isFile(value) ? value : undefined} onChange={onChange} label={label} disabled={disabled} />;
  }
  const text = value === undefined ? '' : String(value);
  const invalid = d.format === 'node-path' && text !== '' && !/^\.\/[^{}]*$/.test(text);
  return (d.max_length ?? 0) > 120 && !d.format ? (
    <textarea
      aria-label={label}
      className="textarea textarea-sm w-full max-w-xl"
      rows={2}
      disabled={disabled}
      value={text}
      onChange={(e) => onChange(e.target.value)}
    />
  ) : (
    <input
      aria-label={label}
      aria-invalid={invalid || undefined}
      className={`input input-sm w-full max-w-md ${d.format ? 'font-mono text-[13px]' : ''}`}
      disabled={disabled}
      value={text}
      onChange={(e) => onChange(e.target.value)}
    />
  );
}

/** How many of a measure a unit is. What is typed with a unit is turned into the measure. */
const units: Record<string, Record<string, number>> = {
  seconds: { s: 1, m: 60, min: 60, h: 3600 },
  minutes: { m: 1, min: 1, h: 60, d: 1440 },
  hours: { h: 1, d: 24, w: 168 },
  days: { d: 1, w: 7, y: 365 },
  MB: { mb: 1, gb: 1000 },
  GB: { gb: 1, tb: 1000 },
};

function numberOf(text: string, measure?: string): number | string {
  const parts = /^(-?\d+)\s*([a-z]*)$/i.exec(text.trim());
  const factor = parts?.[2] ? units[measure ?? '']?.[parts[2].toLowerCase()] : 1;
  return parts && factor ? Number(parts[1]) * factor : text;
}

/** Says a number in the largest units that it is whole in: 1440 minutes are 1 d. */
function larger(n: number, measure?: string): string {
  const all = Object.entries(units[measure ?? ''] ?? {})
    .filter(([, f]) => f > 1 && n >= f && n % f === 0)
    .sort((a, b) => b[1] - a[1]);
  return all[0] ? `${n / all[0][1]} ${all[0][0]}` : '';
}

function NumberControl({ of: d, value, onChange, label, disabled }: CellProps) {
  const [text, setText] = useState(String(value ?? ''));
  useEffect(() => setText((t) => (numberOf(t, d.measure) === value ? t : String(value ?? ''))), [value, d.measure]);
  const also = typeof value === 'number' ? larger(value, d.measure) : '';
  return (
    <span className="flex items-center gap-2">
      <input
        aria-label={label}
        className="input input-sm w-28 text-right tabular-nums"
        disabled={disabled}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          onChange(numberOf(e.target.value, d.measure));
        }}
        onBlur={() => setText(String(value ?? ''))}
      />
      <span className="quiet text-[13px]">
        {d.measure}
        {also ? ` (${also})` : ''}
        {d.min !== undefined && d.max !== undefined ? `, ${d.min} to ${d.max}` : ''}
      </span>
    </span>
  );
}

/** One item a line; many lines can be pasted, repeats and empty ones are left out. */
function ListControl({ value, onChange, label, disabled }: CellProps) {
  const items = Array.isArray(value) ? value : [];
  const [text, setText] = useState(items.join('\n'));
  const joined = items.join('\n');
  useEffect(() => setText((t) => (lines(t).join('\n') === joined ? t : joined)), [joined]);
  return (
    <div className="flex max-w-xl flex-col gap-1">
      <textarea
        aria-label={label}
        className="textarea textarea-sm w-full font-mono text-[13px]"
        rows={Math.min(8, Math.max(2, text.split('\n').length))}
        disabled={disabled}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          onChange(lines(e.target.value));
        }}
      />
      <span className="quiet text-[13px]">one a line, {items.length} in all</span>
    </div>
  );
}
