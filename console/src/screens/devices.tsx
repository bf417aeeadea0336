// All devices: paged, filtered and sorted by the service; the browser keeps only the rows in view.
import { useVirtualizer } from '@tanstack/react-virtual';
import { ArrowDown, ArrowUp } from 'lucide-react';
import { useEffect, useRef, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import type { Device } from '../api/client';
import { useDevices, useGroups, useUnits, type DeviceFilter } from '../api/queries';
import { Empty, Failed, Loading, Page } from '../ui/parts';
import { count, number, Status, Time } from '../ui/words';

const columns: { key: string; word: string; sort?: string; width: string; cell: (d: Device) => React.ReactNode }[] = [
  { key: 'id', word: 'Device', sort: 'id', width: 'minmax(6rem,0.8fr)', cell: (d) => <span className="id font-semibold">{d.id}</span> },
  { key: 'owner', word: 'Owner', sort: 'owner', width: 'minmax(9rem,1.4fr)', cell: (d) => d.owner_name || <span className="quiet">no owner</span> },
  { key: 'unit', word: 'Unit', sort: 'unit', width: 'minmax(7rem,1fr)', cell: (d) => <span className="id">{d.unit}</span> },
  { key: 'os', word: 'System', sort: 'os', width: 'minmax(7rem,0.9fr)', cell: (d) => `${d.os} ${d.os_version}` },
  { key: 'model', word: 'Model', width: 'minmax(8rem,1fr)', cell: (d) => d.model },
  { key: 'seen', word: 'Last seen', sort: 'last_seen', width: 'minmax(7rem,0.8fr)', cell: (d) => <Time at={d.last_seen} /> },
  { key: 'applied', word: 'In force', width: '5.5rem', cell: (d) => <span className="tabular-nums">{number(d.statuses.applied)}</span> },
  { key: 'state', word: 'Needs a look', sort: '-failed', width: 'minmax(11rem,1.4fr)', cell: (d) => <Needs d={d} /> },
];
const template = columns.map((c) => c.width).join(' ');

function Needs({ d }: { d: Device }) {
  const parts = [
    d.statuses.failed > 0 && (
      <span key="f" className="inline-flex gap-1">
        {d.statuses.failed} <Status of="failed" />
      </span>
    ),
    d.statuses.pending > 0 && (
      <span key="p" className="inline-flex gap-1">
        {d.statuses.pending} <Status of="pending" />
      </span>
    ),
    d.statuses.conflict > 0 && (
      <span key="c" className="inline-flex gap-1">
        {d.statuses.conflict} <Status of="conflict" />
      </span>
    ),
    d.problems > 0 && (
      <span key="r" className="text-warning">
        {count(d.problems, 'problem')}
      </span>
    ),
    d.silent && (
      <span key="s" className="text-warning">
        silent
      </span>
    ),
  ].filter(Boolean);
  return <span className="flex flex-wrap gap-x-3 text-[13px]">{parts.length ? parts : <span className="quiet">nothing</span>}</span>;
}

export function DevicesScreen() {
  const [params, setParams] = useSearchParams();
  const filter = Object.fromEntries(params) as DeviceFilter;
  const set = (key: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(key, value);
        else p.delete(key);
        return p;
      },
      { replace: true },
    );
  const list = useDevices(filter);
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  return (
    <div className="mx-auto flex h-full max-w-[1440px] flex-col">
      <Page title="Devices" lead={list.data ? `${count(total, 'laptop')}${params.size ? ' that fit' : ''}` : ' '}>
        <Filters filter={filter} set={set} clear={() => setParams({})} />
        <Failed error={list.error} />
      </Page>
      <div className="min-h-0 flex-1 px-5 pb-5">
        {list.isPending ? (
          <Loading />
        ) : rows.length === 0 && !list.error ? (
          <div className="sheet">
            <Empty
              action={
                params.size ? (
                  <button type="button" className="btn btn-sm" onClick={() => setParams({})}>
                    Show all devices
                  </button>
                ) : undefined
              }
            >
              {params.size ? 'No laptop fits these filters.' : 'The estate has no laptops yet. They come with an import: zridge import FOLDER.'}
            </Empty>
          </div>
        ) : (
          <Rows
            rows={rows}
            sort={filter.sort ?? 'id'}
            onSort={(s) => set('sort', s)}
            more={() => list.hasNextPage && !list.isFetchingNextPage && void list.fetchNextPage()}
            total={total}
          />
        )}
      </div>
    </div>
  );
}

function Filters({ filter, set, clear }: { filter: DeviceFilter; set: (key: string, value: string) => void; clear: () => void }) {
  const units = useUnits().data ?? [];
  const groups = useGroups().data ?? [];
  const [text, setText] = useState(filter.q ?? '');
  useEffect(() => setText(filter.q ?? ''), [filter.q]);
  useEffect(() => {
    if (text === (filter.q ?? '')) return;
    const wait = setTimeout(() => set('q', text), 200);
    return () => clearTimeout(wait);
  });
  const choice = (key: keyof DeviceFilter, label: string, options: [string, string][]) => (
    <select aria-label={label} className="select select-sm w-auto" value={filter[key] ?? ''} onChange={(e) => set(key, e.target.value)}>
      <option value="">{label}: any</option>
      {options.map(([value, word]) => (
        <option key={value} value={value}>
          {word}
        </option>
      ))}
    </select>
  );
  return (
    <div className="flex flex-wrap items-center gap-2" role="search">
      <input
        type="search"
        aria-label="Search devices"
        placeholder="Id, serial, owner, model, tag"
        className="input input-sm w-64"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      {choice(
        'unit',
        'Unit',
        units.map((u) => [u.id, u.title ?? u.id]),
      )}
      {choice(
        'group',
        'Group',
        groups.map((g) => [g.id, g.title ?? g.id]),
      )}
      {choice('os', 'System', [
        ['linux', 'linux'],
        ['windows', 'windows'],
        ['macos', 'macos'],
      ])}
      {choice('state', 'State', [
        ['failed', 'settings failed'],
        ['pending', 'settings pending'],
        ['conflict', 'in a clash'],
        ['problem', 'with problems'],
        ['silent', 'silent'],
        ['never-seen', 'never seen'],
      ])}
      {Object.keys(filter).length > 0 && (
        <button type="button" className="btn btn-ghost btn-sm" onClick={clear}>
          Clear
        </button>
      )}
    </div>
  );
}

function Rows({ rows, sort, onSort, more, total }: { rows: Device[]; sort: string; onSort: (sort: string) => void; more: () => void; total: number }) {
  const scroller = useRef<HTMLDivElement>(null);
  const go = useNavigate();
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => 37, overscan: 12 });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= rows.length - 30) more();
  });
  return (
    <div ref={scroller} className="sheet h-full overflow-auto text-sm" role="table" aria-label="Devices" aria-rowcount={total + 1} tabIndex={0}>
      <div
        role="row"
        aria-rowindex={1}
        className="sticky top-0 z-10 grid min-w-[64rem] items-center gap-3 border-b border-base-300 bg-base-100 px-4 py-2 font-medium"
        style={{ gridTemplateColumns: template }}
      >
        {columns.map((c) => (
          <div key={c.key} role="columnheader" aria-sort={c.sort === sort ? 'ascending' : `-${c.sort}` === sort ? 'descending' : undefined}>
            {c.sort ? (
              <button
                type="button"
                className="inline-flex cursor-pointer items-center gap-1 hover:text-primary"
                onClick={() => onSort(sort === c.sort ? (c.sort!.startsWith('-') ? c.sort!.slice(1) : `-${c.sort}`) : c.sort!)}
              >
                {c.word}
                {sort === c.sort && <ArrowUp size={13} aria-hidden />}
                {(sort === `-${c.sort}` || `-${sort}` === c.sort) && <ArrowDown size={13} aria-hidden />}
              </button>
            ) : (
              c.word
            )}
          </div>
        ))}
      </div>
      <div role="rowgroup" className="relative min-w-[64rem]" style={{ height: virtual.getTotalSize() }}>
        {items.map((item) => {
          const d = rows[item.index]!;
          return (
            <div
              key={d.id}
              role="row"
              aria-rowindex={item.index + 2}
              tabIndex={0}
              className="absolute inset-x-0 grid cursor-pointer items-center gap-3 border-b border-base-300/60 px-4 hover:bg-base-200"
              style={{ gridTemplateColumns: template, height: item.size, transform: `translateY(${item.start}px)` }}
              onClick={() => go(`/devices/${d.id}`)}
              onKeyDown={(e) => e.key === 'Enter' && go(`/devices/${d.id}`)}
            >
              {columns.map((c) => (
                <div key={c.key} role="cell" className="truncate">
                  {c.cell(d)}
                </div>
              ))}
            </div>
          );
        })}
      </div>
    </div>
  );
}
