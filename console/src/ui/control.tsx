// The right control for each type of setting. Text that does not fit the type is kept while it is typed and
// handed on as it is: the service says what is wrong with it.
import { useEffect, useState } from 'react';
import type { Setting, Value } from '../api/client';

export function blank(d: Setting): Value {
  if (d.default !== undefined) return d.default;
  switch (d.type) {
    case 'bool':
      return true;
    case 'integer':
      return d.min ?? 0;
    case 'choice':
      return d.options?.[0] ?? '';
    case 'list':
      return [];
  }
  return '';
}

export function Control({
  of: d,
  value,
  onChange,
  label,
  disabled,
}: {
  of: Setting;
  value: Value;
  onChange: (v: Value) => void;
  label: string;
  disabled?: boolean;
}) {
  switch (d.type) {
    case 'bool':
      return (
        <select
          aria-label={label}
          className="select select-sm w-40"
          disabled={disabled}
          value={String(value)}
          onChange={(e) => onChange(e.target.value === 'true')}
        >
          <option value="true">yes</option>
          <option value="false">no</option>
        </select>
      );
    case 'choice':
      return (
        <div className="flex flex-col gap-1">
          <select aria-label={label} className="select select-sm w-56" disabled={disabled} value={String(value)} onChange={(e) => onChange(e.target.value)}>
            {!d.options?.includes(String(value)) && <option value={String(value)}>{String(value)} (not an option)</option>}
            {d.options?.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
          {d.stricter === 'later' && <span className="quiet text-[13px]">from weakest to strictest: {d.options?.join(' → ')}</span>}
        </div>
      );
    case 'integer':
      return <NumberControl d={d} value={value} onChange={onChange} label={label} disabled={disabled} />;
    case 'list':
      return <ListControl value={value} onChange={onChange} label={label} disabled={disabled} />;
  }
  const text = String(value);
  return (d.max_length ?? 0) > 120 ? (
    <textarea
      aria-label={label}
      className="textarea textarea-sm w-full max-w-xl"
      rows={2}
      disabled={disabled}
      value={text}
      onChange={(e) => onChange(e.target.value)}
    />
  ) : (
    <input aria-label={label} className="input input-sm w-full max-w-md" disabled={disabled} value={text} onChange={(e) => onChange(e.target.value)} />
  );
}

function NumberControl({ d, value, onChange, label, disabled }: { d: Setting; value: Value; onChange: (v: Value) => void; label: string; disabled?: boolean }) {
  const [text, setText] = useState(String(value));
  useEffect(() => setText(String(value)), [value]);
  return (
    <span className="flex items-center gap-2">
      <input
        aria-label={label}
        inputMode="numeric"
        className="input input-sm w-28 text-right tabular-nums"
        disabled={disabled}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          onChange(/^-?\d+$/.test(e.target.value.trim()) ? Number(e.target.value) : e.target.value);
        }}
      />
      <span className="quiet text-[13px]">
        {d.measure}
        {d.min !== undefined && d.max !== undefined ? `, ${d.min} to ${d.max}` : ''}
      </span>
    </span>
  );
}

/** One item a line; many lines can be pasted. */
function ListControl({ value, onChange, label, disabled }: { value: Value; onChange: (v: Value) => void; label: string; disabled?: boolean }) {
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

const lines = (text: string) =>
  text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean);
