// A long list that the service filters, sorts and pages: the browser keeps only the rows in view. The filter and order are in the
// address: words, conditions, columns, order. It can be kept as a view, and exported as it is shown.
import { fieldWord, ListBar } from './listbar';
import { useVirtualizer } from '@tanstack/react-virtual';
import { ArrowDown, ArrowUp } from 'lucide-react';
import { useEffect, useRef, type ReactNode } from 'react';
import { Link, useSearchParams } from 'react-router';
import { type Value } from '../api/client';
import { type ListQuery } from '../api/queries';
import { Empty, Failed, Loading, Page } from './parts';
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
