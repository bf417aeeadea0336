// Entries and policies as data: the long and short form, and when two policies say the same.
import { isFile, type Entry, type PolicyDoc, type Value } from '../../api/client';

/** An entry in its long form. */
export interface LongEntry {
  value: Value;
  lock?: boolean;
  note?: string;
}

/** How a policy is altered: a function from what it is to what it becomes. */
export type Alter = (how: (d: PolicyDoc) => PolicyDoc) => void;

const isLong = (e: Entry): e is LongEntry => typeof e === 'object' && !Array.isArray(e) && 'value' in e;
export const long = (e: Entry): LongEntry => (isLong(e) ? e : { value: e });
export const short = (e: LongEntry): Entry => (e.lock || e.note ? e : e.value);

/** A value with the cells of its rows in one order, and files by their contents alone. */
function ordered(v: Value): unknown {
  if (isFile(v)) return v.file;
  if (!Array.isArray(v)) return v;
  return v.map((item) =>
    typeof item === 'string'
      ? item
      : Object.entries(item)
          .map(([k, c]) => [k, ordered(c)] as const)
          .sort(([a], [b]) => (a < b ? -1 : 1)),
  );
}

/** Tells whether two policies say the same: the service orders fields and leaves empty ones out. */
export function same(a: PolicyDoc, b: PolicyDoc): boolean {
  const plain = (o: object): [string, unknown][] =>
    Object.entries(o)
      .filter(([, v]) => v !== undefined && v !== '' && v !== 0 && v !== false && !(Array.isArray(v) && v.length === 0))
      .sort(([x], [y]) => (x < y ? -1 : 1));
  const text = (p: PolicyDoc) =>
    JSON.stringify([
      plain({ ...p, settings: undefined, audience: undefined, state: p.state === 'active' ? undefined : p.state }),
      Object.entries(p.settings)
        .map(([id, e]) => [id, ordered(long(e).value), plain({ ...long(e), value: undefined })] as const)
        .sort(([x], [y]) => (x < y ? -1 : 1)),
      plain(p.audience),
    ]);
  return text(a) === text(b);
}
