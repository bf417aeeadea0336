// The right control for each type of setting. Text that does not fit the type is kept while it is typed and
// handed on as it is: the service says what is wrong with it.
import { isFile, type Cell, type Row, type Setting, type Value } from '../api/client';
import { CellControl } from './cell';
import type { ControlProps } from './shape';
import { TableControl } from './table';

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
    case 'table':
      return [];
    case 'file':
      return { file: '' };
  }
  return '';
}

/** Tells whether a value is so far only a place for one: a file that is still to be chosen. */
export const isPlaceholder = (v: Value) => isFile(v) && v.file === '';

const isRows = (v: Value): v is Row[] => Array.isArray(v) && v.every((r) => typeof r === 'object');
const rowsOf = (v: Value): Row[] => (isRows(v) ? v : []);
/** A value that a cell of a table could hold, too; a table could not. */
const cellOf = (v: Value): Cell | undefined => (isRows(v) ? (v.length ? undefined : []) : v);

export function Control({ of: d, value, onChange, label, disabled }: ControlProps<Value>) {
  switch (d.type) {
    case 'table':
      return <TableControl of={d} value={rowsOf(value)} onChange={onChange} label={label} disabled={disabled} />;
    case 'choice':
      return (
        <div className="flex flex-col gap-1">
          <CellControl of={d} value={cellOf(value)} onChange={onChange} label={label} disabled={disabled} />
          {d.stricter === 'later' && <Strength options={d.options ?? []} at={String(value)} />}
        </div>
      );
  }
  return <CellControl of={d} value={cellOf(value)} onChange={onChange} label={label} disabled={disabled} />;
}

/** The options of a choice in order of strength, with the one that is chosen. */
function Strength({ options, at }: { options: string[]; at: string }) {
  return (
    <span className="quiet text-[13px]">
      from weakest to strictest:{' '}
      {options.map((o, i) => (
        <span key={o}>
          {i > 0 && <span aria-hidden> → </span>}
          <span className={o === at ? 'rounded bg-primary/12 px-1 font-medium text-primary' : ''}>{o}</span>
        </span>
      ))}
    </span>
  );
}
