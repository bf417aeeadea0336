// A table as a value: a row for each thing, a control for each cell. Rows can be pasted from a spreadsheet, and started from a file
// whose contents fill the columns that nobody should retype.
import { ClipboardPaste, FilePlus, Plus, Trash2 } from 'lucide-react';
import { useLayoutEffect, useRef, useState } from 'react';
import type { Cell, Column, StoredFile, Row, Value } from '../api/client';
import { CellControl } from './cell';
import { lines, type ControlProps } from './shape';
import { Contents, KeptFiles, useAddChain, useAddFile } from './file';
import { Failed } from './parts';
import { count } from './words';

export function TableControl({ of: d, value, onChange, label, disabled }: ControlProps<Row[]> & { onChange: (v: Value) => void }) {
  const columns = d.columns ?? [];
  const fileColumn = columns.find((c) => c.type === 'file' && c.required);
  const reads = columns.some((c) => c.reads);
  const [pasting, setPasting] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const set = (at: number, row: Row) => onChange(value.map((r, i) => (i === at ? row : r)));
  // Files are read while other rows may be added: what is added goes behind what is there then.
  const latest = useRef(value);
  useLayoutEffect(() => {
    latest.current = value;
  });
  const addRows = (rows: Row[]) => {
    latest.current = [...latest.current, ...rows];
    onChange(latest.current);
  };
  const add = (row: Row) => addRows([row]);
  const adding = useAddFile(fileColumn ? (fileColumn.content ?? 'any') : 'application', (k) =>
    add(fileColumn ? { [fileColumn.name]: { file: k.sha256, name: k.name, size: k.size } } : factsOf(k, columns)),
  );
  const chain = useAddChain(fileColumn?.store, (kept) =>
    addRows(kept.map((k): Row => ({ [fileColumn!.name]: { file: k.sha256, name: k.name, size: k.size } }))),
  );
  const added = async (from: HTMLInputElement) => {
    const file = from.files?.[0];
    from.value = '';
    if (file && !(await chain.add(file))) adding.drop(file);
  };
  const word = fileColumn ? 'Add a file' : 'Read from an application’s file';
  return (
    <div className="flex flex-col gap-2">
      {value.length > 0 && (
        <div className="overflow-x-auto rounded border border-base-300">
          <table className="table table-sm">
            <caption className="sr-only">{label}</caption>
            <thead>
              <tr>
                {columns.map((c) => (
                  <th key={c.name} scope="col" title={c.help} className="font-medium">
                    {c.title || c.name}
                    {c.required && (
                      <span className="quiet" title="needed">
                        {' '}
                        *
                      </span>
                    )}
                  </th>
                ))}
                <th scope="col" className="w-8">
                  <span className="sr-only">Remove</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {value.map((row, i) => (
                <tr key={i} className="[&_td]:align-top">
                  {columns.map((c) => (
                    <td key={c.name} className={`${widths[c.type]} ${c.reads === 'identifier' || c.format ? 'min-w-72' : ''} px-2 py-1.5`}>
                      <CellControl
                        of={{ ...c, max_length: 1 }}
                        value={row[c.name]}
                        label={`${c.title || c.name}, row ${i + 1}`}
                        disabled={disabled}
                        onChange={(v) => set(i, withCell(row, c, v))}
                      />
                    </td>
                  ))}
                  <th scope="row" className="px-1 py-1.5">
                    <button
                      type="button"
                      className="btn btn-ghost btn-xs btn-square"
                      disabled={disabled}
                      aria-label={`Remove row ${i + 1}`}
                      onClick={() => onChange(value.filter((_, j) => j !== i))}
                    >
                      <Trash2 size={13} aria-hidden />
                    </button>
                  </th>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {!disabled && (
        <div className="flex flex-wrap items-center gap-2">
          {(fileColumn || reads) && (
            <button type="button" className="btn btn-sm" disabled={adding.busy} onClick={() => input.current?.click()}>
              <FilePlus size={14} aria-hidden /> {adding.busy ? 'Reading …' : word}
            </button>
          )}
          <input ref={input} type="file" className="sr-only" tabIndex={-1} aria-label={word} onChange={(e) => void added(e.target)} />
          {(fileColumn || reads) && (
            <KeptFiles
              content={fileColumn ? (fileColumn.content ?? 'any') : 'application'}
              label={label}
              onPick={(k) => add(fileColumn ? { [fileColumn.name]: { file: k.sha256, name: k.name, size: k.size } } : factsOf(k, columns))}
            />
          )}
          {!fileColumn && (
            <>
              <button type="button" className="btn btn-sm" onClick={() => add({})}>
                <Plus size={14} aria-hidden /> Add a row
              </button>
              <button type="button" className="btn btn-ghost btn-sm" aria-expanded={pasting} onClick={() => setPasting(!pasting)}>
                <ClipboardPaste size={14} aria-hidden /> Paste rows
              </button>
            </>
          )}
          <span className="quiet text-[13px]">
            {count(value.length, 'row')}
            {d.key?.length ? `, each ${d.key.join(' and ')} once` : ''}
          </span>
        </div>
      )}
      {adding.kept && !fileColumn && <Contents of={adding.kept} />}
      {chain.left.length > 0 && (
        <div role="status" className="text-[13px]">
          <p className="font-medium">Left out of the chain:</p>
          <ul>
            {chain.left.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ul>
        </div>
      )}
      <Failed error={chain.error} />
      <Failed error={adding.error} />
      {adding.expired && (
        <button type="button" className="btn btn-warning btn-sm self-start" onClick={adding.acceptExpired}>
          Take it although it has expired
        </button>
      )}
      {pasting && (
        <PasteRows
          columns={columns}
          onRows={(rows) => {
            onChange([...value, ...rows]);
            setPasting(false);
          }}
        />
      )}
    </div>
  );
}

/** How much room a column needs. */
const widths: Record<Column['type'], string> = {
  bool: 'min-w-24',
  integer: 'min-w-40',
  text: 'min-w-40',
  choice: 'min-w-44',
  list: 'min-w-52',
  table: '',
  file: 'min-w-96',
};

/** The row with a cell; an empty one is left out. */
function withCell(row: Row, c: Column, v: Cell): Row {
  const next = { ...row };
  if (v === '' || (Array.isArray(v) && v.length === 0)) delete next[c.name];
  else next[c.name] = v;
  return next;
}

/** The columns that an application's file fills. */
function factsOf(kept: StoredFile, columns: Column[]): Row {
  const a = kept.reading.application;
  if (!a) return {};
  const facts: Record<string, string | undefined> = { name: a.name, identifier: a.identifier, version: a.version, signer: a.signer };
  return Object.fromEntries(columns.flatMap((c) => (c.reads && facts[c.reads] ? [[c.name, facts[c.reads]!]] : [])));
}

/** Rows as text: cells between tabs, semicolons or commas, in the order of the columns. */
function PasteRows({ columns, onRows }: { columns: Column[]; onRows: (rows: Row[]) => void }) {
  const [text, setText] = useState('');
  const plain = columns.filter((c) => c.type !== 'file');
  const rows = lines(text).map((line) => {
    const cells = line.split(line.includes('\t') ? '\t' : line.includes(';') ? ';' : ',');
    return Object.fromEntries(
      plain.flatMap((c, i): [string, Cell][] => {
        const cell = cells[i]?.trim();
        if (!cell) return [];
        if (c.type === 'bool') return [[c.name, /^(yes|true|on|1)$/i.test(cell)]];
        if (c.type === 'integer') return [[c.name, /^-?\d+$/.test(cell) ? Number(cell) : cell]];
        return [[c.name, c.type === 'list' ? cell.split(/[ |]+/) : cell]];
      }),
    );
  });
  return (
    <div className="flex max-w-2xl flex-col gap-1.5">
      <textarea
        aria-label="Rows to paste"
        className="textarea textarea-sm w-full font-mono text-[13px]"
        rows={4}
        placeholder={plain.map((c) => c.title || c.name).join('; ')}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <span className="flex items-center gap-2">
        <button type="button" className="btn btn-sm" disabled={rows.length === 0} onClick={() => onRows(rows)}>
          Add {count(rows.length, 'row')}
        </button>
        <span className="quiet text-[13px]">one row a line: {plain.map((c) => c.title || c.name).join('; ')}</span>
      </span>
    </div>
  );
}
