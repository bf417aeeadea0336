// A long list that the service filters, sorts and pages: the browser keeps only the rows in view. The filter and order are in the
// address: words, conditions, columns, order. It can be kept as a view, and exported as it is shown.
import { useVirtualizer } from '@tanstack/react-virtual';
import { ArrowDown, ArrowUp, Bookmark, Columns3, Download, ListFilter, X } from 'lucide-react';
import { useEffect, useId, useRef, useState, type ReactNode } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, got, type Value } from '../api/client';
import { useFields, useViews, type ListQuery } from '../api/queries';
import { useWrite } from '../api/writes';
import { Dialog, Empty, Failed, Field, Loading, Page } from './parts';
import { useTyped } from './typed';
import { count, valueText } from './words';

export interface ListColumn<T> {
  key: string; // the field by which it is sorted and exported
  word: string;
  width: string;
  cell: (row: T) => ReactNode;
}

/** How the list is looked at, out of the address and into it. */
export function useListQuery(): [ListQuery, (part: Partial<ListQuery>) => void, URLSearchParams] {
  const [params, setParams] = useSearchParams();
  const query: ListQuery = {};
  for (const [key, value] of params) {
    if (key === 'where') (query.where ??= []).push(value);
    else if (key === 'columns') query.columns = value.split(',').filter(Boolean);
    else query[key as 'q'] = value;
  }
  const set = (part: Partial<ListQuery>) =>
    setParams(
      (p) => {
        for (const [key, value] of Object.entries(part)) {
          p.delete(key);
          if (key === 'columns') {
            if (value?.length) p.set(key, (value as string[]).join());
          } else if (Array.isArray(value)) value.forEach((v) => p.append(key, v));
          else if (value) p.set(key, value);
        }
        return p;
      },
      { replace: true },
    );
  return [query, set, params];
}

/** The words by which fields are called. */
export const fieldWord = (name: string) => name.replace(/^(facts|attributes)\//, '').replaceAll('_', ' ');

const operators: [string, string][] = [
  ['=', 'is'],
  ['!=', 'is not'],
  ['>=', 'at least'],
  ['<=', 'at most'],
  ['~', 'holds'],
  ['?', 'is known'],
  ['!?', 'is not known'],
];

const split = (condition: string) => {
  const found = /^([^=!><~?]+)(!=|>=|<=|!\?|=|>|<|~|\?)(.*)$/.exec(condition);
  return found ? { field: found[1]!, op: found[2]!, words: found[3]! } : { field: condition, op: '?', words: '' };
};

const said = (condition: string) => {
  const { field, op, words } = split(condition);
  return `${fieldWord(field)} ${operators.find(([o]) => o === op)?.[1] ?? op} ${words.replaceAll('|', ' or ')}`.trim();
};

/** Search, conditions as chips, columns, views and export in one line. */
function ListBar({
  of,
  placeholder,
  query,
  set,
  params,
  fixed,
  shown,
  children,
}: {
  of: 'devices' | 'people';
  placeholder: string;
  query: ListQuery;
  set: (part: Partial<ListQuery>) => void;
  params: URLSearchParams;
  fixed: string[];
  shown: string[];
  children?: ReactNode;
}) {
  const [text, type] = useTyped(query.q ?? '', (q) => set({ q }), 200);
  const [adding, setAdding] = useState(false);
  const narrowed = [...params.keys()].some((k) => k !== 'columns' && k !== 'sort');
  const exported = new URLSearchParams(params);
  exported.set('columns', shown.join());
  return (
    <div className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-2" role="search">
        <input
          type="search"
          aria-label={`Search ${of}`}
          placeholder={placeholder}
          className="input input-sm w-52"
          value={text}
          onChange={(e) => type(e.target.value)}
        />
        {children}
        <button type="button" className="btn btn-sm" aria-expanded={adding} onClick={() => setAdding(!adding)}>
          <ListFilter size={14} aria-hidden /> Condition
        </button>
        <div className="flex-1" />
        <Views of={of} params={params} />
        <Columns of={of} fixed={fixed} chosen={query.columns ?? []} onChange={(columns) => set({ columns })} />
        <a
          className="btn btn-sm"
          href={`/api/v1/exports/${of}?${exported}`}
          download={`${of}.csv`}
          title="All rows that fit, in these columns and this order, as CSV"
        >
          <Download size={14} aria-hidden /> Export
        </a>
      </div>
      {adding && (
        <Condition
          of={of}
          onAdd={(c) => {
            set({ where: [...(query.where ?? []), c] });
            setAdding(false);
          }}
        />
      )}
      {(narrowed || query.where?.length) && (
        <div className="flex flex-wrap items-center gap-1.5 text-[13px]">
          {query.where?.map((c) => (
            <span key={c} className="inline-flex items-center gap-1 rounded border border-base-300 bg-base-100 px-2 py-0.5">
              {said(c)}
              <button
                type="button"
                className="btn btn-ghost btn-xs btn-square"
                aria-label={`Without: ${said(c)}`}
                onClick={() => set({ where: query.where!.filter((o) => o !== c) })}
              >
                <X size={12} aria-hidden />
              </button>
            </span>
          ))}
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            onClick={() => set(Object.fromEntries([...params.keys()].filter((k) => k !== 'columns' && k !== 'sort').map((k) => [k, undefined])))}
          >
            Show all
          </button>
        </div>
      )}
    </div>
  );
}

/** One condition: a field, how it is compared, and with what; values that are frequent are offered with how many have them. */
function Condition({ of, onAdd }: { of: 'devices' | 'people'; onAdd: (condition: string) => void }) {
  const fields = useFields(of).data ?? [];
  const [field, setField] = useState(of === 'devices' ? 'os_version' : 'unit');
  const [op, setOp] = useState('=');
  const [words, setWords] = useState('');
  const known = fields.find((f) => f.name === field);
  const options = useId();
  const alone = op === '?' || op === '!?';
  return (
    <form
      className="flex flex-wrap items-center gap-2 rounded border border-base-300 bg-base-100 px-3 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (alone || words.trim()) onAdd(field + op + (alone ? '' : words.trim()));
      }}
    >
      <select aria-label="Field" className="select select-sm w-auto" value={field} onChange={(e) => setField(e.target.value)}>
        {fields.map((f) => (
          <option key={f.name} value={f.name}>
            {fieldWord(f.name)}
          </option>
        ))}
        {of === 'devices' &&
          ['state', 'problems', 'failed', 'pending', 'conflict', 'enrolled', 'last_seen', 'source', 'left'].map((n) => <option key={n}>{n}</option>)}
        {of === 'people' && ['source', 'left'].map((n) => <option key={n}>{n}</option>)}
      </select>
      <select aria-label="How it is compared" className="select select-sm w-auto" value={op} onChange={(e) => setOp(e.target.value)}>
        {operators.map(([o, word]) => (
          <option key={o} value={o}>
            {word}
          </option>
        ))}
      </select>
      {!alone && (
        <>
          <input
            aria-label="Value"
            list={options}
            className="input input-sm w-56"
            placeholder="value, or several with |"
            value={words}
            onChange={(e) => setWords(e.target.value)}
          />
          <datalist id={options}>
            {known?.most.map((m) => (
              <option key={valueText(m.value)} value={valueText(m.value)}>
                {count(m.count, of === 'devices' ? 'laptop' : 'person', of === 'devices' ? 'laptops' : 'people')}
              </option>
            ))}
          </datalist>
        </>
      )}
      <button type="submit" className="btn btn-primary btn-sm">
        Add
      </button>
      {known && (
        <span className="quiet text-[13px]">
          {count(known.known, 'has', 'have')} a value, {count(known.distinct, 'different one', 'different ones')}
        </span>
      )}
    </form>
  );
}

function Columns({ of, fixed, chosen, onChange }: { of: 'devices' | 'people'; fixed: string[]; chosen: string[]; onChange: (columns: string[]) => void }) {
  const fields = (useFields(of).data ?? []).map((f) => f.name).filter((n) => !fixed.includes(n));
  const more = of === 'devices' ? [...fields, 'enrolled', 'source', 'left'] : [...fields, 'source', 'left'];
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-sm">
        <Columns3 size={14} aria-hidden /> Columns{chosen.length > 0 ? ` (${chosen.length} more)` : ''}
      </summary>
      <fieldset className="dropdown-content z-30 max-h-80 w-60 overflow-auto rounded border border-base-300 bg-base-100 p-3 text-sm shadow-lg">
        <legend className="sr-only">Columns besides the usual ones</legend>
        {more.map((name) => (
          <label key={name} className="flex items-center gap-2 py-0.5">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={chosen.includes(name)}
              onChange={(e) => onChange(e.target.checked ? [...chosen, name] : chosen.filter((c) => c !== name))}
            />
            {fieldWord(name)}
          </label>
        ))}
      </fieldset>
    </details>
  );
}

function Views({ of, params }: { of: 'devices' | 'people'; params: URLSearchParams }) {
  const views = useViews(of).data ?? [];
  const go = useNavigate();
  const [saving, setSaving] = useState(false);
  const [title, setTitle] = useState('');
  const [shared, setShared] = useState(false);
  const alters = [['views', of]];
  const remove = useWrite((id: string) => got(api.DELETE('/api/v1/views/{id}', { params: { path: { id } } })), { alters });
  const keep = useWrite(() => got(api.POST('/api/v1/views', { body: { page: of, title, query: params.toString(), shared } })), {
    alters,
    done: () => {
      setSaving(false);
      setTitle('');
    },
  });
  return (
    <>
      <details className="dropdown dropdown-end">
        <summary className="btn btn-sm">
          <Bookmark size={14} aria-hidden /> Views
        </summary>
        <div className="dropdown-content z-30 w-72 rounded border border-base-300 bg-base-100 p-2 text-sm shadow-lg">
          {views.length === 0 && <p className="quiet px-2 py-1">No views yet. Filter the list, then keep it.</p>}
          <ul>
            {views.map((v) => (
              <li key={v.id} className="flex items-center gap-1">
                <button type="button" className="flex-1 cursor-pointer rounded px-2 py-1 text-left hover:bg-base-200" onClick={() => go(`/${of}?${v.query}`)}>
                  {v.title}
                  {v.shared && <span className="quiet"> · shared by {v.owner}</span>}
                </button>
                <button
                  type="button"
                  className="btn btn-ghost btn-xs btn-square"
                  aria-label={`Take the view ${v.title} away`}
                  onClick={() => remove.mutate(v.id)}
                >
                  <X size={12} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
          <button type="button" className="btn btn-sm mt-1 w-full" onClick={() => setSaving(true)}>
            Keep this list as a view
          </button>
          <Failed error={remove.error} />
        </div>
      </details>
      <Dialog open={saving} onClose={() => setSaving(false)} title="Keep this list as a view">
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            keep.mutate();
          }}
        >
          <Field label="Name">
            <input className="input input-sm w-full" required maxLength={100} value={title} onChange={(e) => setTitle(e.target.value)} />
          </Field>
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" checked={shared} onChange={(e) => setShared(e.target.checked)} /> Share it with everybody
            who signs in
          </label>
          <p className="quiet text-[13px]">Filters, order and columns are kept; the rows are always those of today.</p>
          <Failed error={keep.error} />
          <button type="submit" className="btn btn-primary btn-sm self-end" disabled={keep.isPending}>
            Keep
          </button>
        </form>
      </Dialog>
    </>
  );
}

/** The rows. Where onSelect is given each has a box, and Shift chooses a range. */
function ListRows<T extends { id: string; fields?: Record<string, Value> }>({
  label,
  rows,
  total,
  columns,
  extra,
  sort,
  onSort,
  more,
  to,
  selected,
  onSelect,
}: {
  label: string;
  rows: T[];
  total: number;
  columns: ListColumn<T>[];
  extra: string[];
  sort: string;
  onSort: (sort: string) => void;
  more: () => void;
  to: (row: T) => string;
  selected?: Set<string>;
  onSelect?: (ids: Set<string>) => void;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const anchor = useRef(0);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => 37, overscan: 12 });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= rows.length - 30) more();
  });
  const all: ListColumn<T>[] = [
    ...columns,
    ...extra.map((name) => ({
      key: name,
      word: fieldWord(name),
      width: 'minmax(7rem,1fr)',
      cell: (row: T) => valueText(row.fields?.[name]),
    })),
  ];
  const template = [...(onSelect ? ['1.5rem'] : []), ...all.map((c) => c.width)].join(' ');
  const wide = { gridTemplateColumns: template, minWidth: `${2 + all.length * 7}rem` };
  const choose = (index: number, range: boolean) => {
    if (!onSelect) return;
    const next = new Set(selected);
    const [from, until] = range ? [Math.min(anchor.current, index), Math.max(anchor.current, index)] : [index, index];
    const on = !selected?.has(rows[index]!.id);
    for (let i = from; i <= until; i++) {
      if (on) next.add(rows[i]!.id);
      else next.delete(rows[i]!.id);
    }
    anchor.current = index;
    onSelect(next);
  };
  return (
    <div ref={scroller} className="sheet h-full overflow-auto text-sm" role="table" aria-label={label} aria-rowcount={total + 1} tabIndex={0}>
      <div
        role="row"
        aria-rowindex={1}
        className="sticky top-0 z-10 grid items-center gap-3 border-b border-base-300 bg-base-100 px-4 py-2 font-medium"
        style={wide}
      >
        {onSelect && (
          <div role="columnheader">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              aria-label="Choose all that are shown"
              checked={rows.length > 0 && rows.every((r) => selected?.has(r.id))}
              onChange={(e) => onSelect(new Set(e.target.checked ? rows.map((r) => r.id) : []))}
            />
          </div>
        )}
        {all.map((c) => (
          <div key={c.key} role="columnheader" className="truncate" aria-sort={c.key === sort ? 'ascending' : `-${c.key}` === sort ? 'descending' : undefined}>
            <button
              type="button"
              className="inline-flex max-w-full cursor-pointer items-center gap-1 truncate hover:text-primary"
              onClick={() => onSort(sort === c.key ? `-${c.key}` : c.key)}
            >
              {c.word}
              {sort === c.key && <ArrowUp size={13} aria-hidden />}
              {sort === `-${c.key}` && <ArrowDown size={13} aria-hidden />}
            </button>
          </div>
        ))}
      </div>
      <div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize(), minWidth: wide.minWidth }}>
        {items.map((item) => {
          const row = rows[item.index]!;
          return (
            <div
              key={row.id}
              role="row"
              aria-rowindex={item.index + 2}
              className={`absolute inset-x-0 grid items-center gap-3 border-b border-base-300/60 px-4 hover:bg-base-200 ${selected?.has(row.id) ? 'bg-primary/8' : ''}`}
              style={{ ...wide, height: item.size, transform: `translateY(${item.start}px)` }}
            >
              {onSelect && (
                <div role="cell" className="relative z-1">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm"
                    aria-label={`Choose ${row.id}`}
                    checked={selected?.has(row.id) ?? false}
                    onChange={(e) => choose(item.index, e.nativeEvent instanceof MouseEvent && e.nativeEvent.shiftKey)}
                  />
                </div>
              )}
              {all.map((c, i) =>
                i === 0 ? (
                  <div key={c.key} role="rowheader" className="truncate">
                    <Link className="row-link hover:underline" to={to(row)}>
                      {c.cell(row)}
                    </Link>
                  </div>
                ) : (
                  <div key={c.key} role="cell" className="truncate">
                    {c.cell(row)}
                  </div>
                ),
              )}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** A page that is one long list: head, bar, what is between, and the rows or what to do where there are none. */
export function ListScreen<T extends { id: string; fields?: Record<string, Value> }>({
  of,
  title,
  nouns,
  placeholder,
  view: [query, set, params],
  list,
  columns,
  to,
  filters,
  between,
  nothing,
  bring,
  actions,
  selected,
  onSelect,
}: {
  of: 'devices' | 'people';
  title: string;
  nouns: [string, string];
  placeholder: string;
  view: ReturnType<typeof useListQuery>;
  list: {
    data?: { pages: { items: T[]; total: number }[] };
    error: unknown;
    isPending: boolean;
    hasNextPage: boolean;
    isFetchingNextPage: boolean;
    fetchNextPage: () => Promise<unknown>;
  };
  columns: ListColumn<T>[];
  to: (row: T) => string;
  filters?: ReactNode;
  between?: ReactNode;
  nothing: string; // where there is nobody at all
  bring: string; // the word for bringing some in
  actions?: ReactNode;
  selected?: Set<string>;
  onSelect?: (ids: Set<string>) => void;
}) {
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  const narrowed = params.size > 0;
  const keys = columns.map((c) => c.key);
  return (
    <div className="mx-auto flex h-full max-w-[1440px] flex-col">
      <Page title={title} lead={list.data ? `${count(total, ...nouns)}${narrowed ? ' that fit' : ''}` : ' '} actions={actions}>
        <ListBar of={of} placeholder={placeholder} query={query} set={set} params={params} fixed={keys} shown={[...keys, ...(query.columns ?? [])]}>
          {filters}
        </ListBar>
        <Failed error={list.error} />
        {between}
      </Page>
      <div className="min-h-0 flex-1 px-5 pb-5">
        {list.isPending ? (
          <Loading />
        ) : rows.length === 0 && !list.error ? (
          <div className="sheet">
            <Empty
              action={
                <Link to={narrowed ? `/${of}` : '/sources/new'} className="btn btn-sm">
                  {narrowed ? `Show all ${of}` : bring}
                </Link>
              }
            >
              {narrowed ? `No ${nouns[0]} fits these filters.` : nothing}
            </Empty>
          </div>
        ) : (
          <ListRows
            label={title}
            rows={rows}
            total={total}
            columns={columns}
            extra={query.columns ?? []}
            sort={query.sort ?? 'id'}
            onSort={(sort) => set({ sort })}
            more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()}
            to={to}
            selected={selected}
            onSelect={onSelect}
          />
        )}
      </div>
    </div>
  );
}
