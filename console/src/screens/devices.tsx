// All devices, looked at as people need it; chosen ones can be moved, compared, or become a group.
import { FolderInput, GitCompare, Users } from 'lucide-react';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, got, type Device } from '../api/client';
import { keys, useDevices, useGroups, useMay, useUnitTree } from '../api/queries';
import { useWrite } from '../api/writes';
import { useOpenChange, type Subject } from '../ui/change';
import { ListScreen, useListQuery, type ListColumn } from '../ui/listing';
import { Dialog, Failed, Field, UnitOptions } from '../ui/parts';
import { count, number, Status, Time } from '../ui/words';

const columns: ListColumn<Device>[] = [
  {
    key: 'id',
    word: 'Device',
    width: 'minmax(6.5rem,0.8fr)',
    cell: (d) => (
      <span className="id font-semibold">
        {d.id}
        {d.origin?.left && <span className="ml-1.5 font-sans text-[12px] font-normal text-warning">left</span>}
      </span>
    ),
  },
  { key: 'owner_name', word: 'Owner', width: 'minmax(8rem,1.4fr)', cell: (d) => d.owner_name || <span className="quiet">no owner</span> },
  { key: 'unit', word: 'Unit', width: 'minmax(6.5rem,1fr)', cell: (d) => <span className="id">{d.unit}</span> },
  { key: 'os', word: 'System', width: 'minmax(4.5rem,0.6fr)', cell: (d) => d.os },
  { key: 'os_version', word: 'Release', width: 'minmax(4.5rem,0.5fr)', cell: (d) => d.os_version },
  { key: 'model', word: 'Model', width: 'minmax(6.5rem,1fr)', cell: (d) => d.model },
  { key: 'last_seen', word: 'Last seen', width: 'minmax(5.5rem,0.7fr)', cell: (d) => <Time at={d.last_seen} /> },
  { key: 'applied', word: 'In force', width: '4.5rem', cell: (d) => <span className="tabular-nums">{number(d.statuses.applied)}</span> },
  { key: 'failed', word: 'Needs a look', width: 'minmax(8rem,1.4fr)', cell: (d) => <Needs d={d} /> },
];

function Needs({ d }: { d: Device }) {
  const parts = (['failed', 'pending', 'conflict'] as const).flatMap((of) =>
    d.statuses[of] > 0
      ? [
          <span key={of} className="inline-flex gap-1">
            {d.statuses[of]} <Status of={of} />
          </span>,
        ]
      : [],
  );
  if (d.problems > 0)
    parts.push(
      <span key="problems" className="text-warning">
        {count(d.problems, 'problem')}
      </span>,
    );
  if (d.silent)
    parts.push(
      <span key="silent" className="text-warning">
        silent
      </span>,
    );
  return <span className="flex flex-wrap gap-x-3 text-[13px]">{parts.length ? parts : <span className="quiet">nothing</span>}</span>;
}

export function DevicesScreen() {
  const view = useListQuery();
  const [query, set] = view;
  const list = useDevices(query);
  const [selected, setSelected] = useState(new Set<string>());
  const tree = useUnitTree().data ?? [];
  const groups = useGroups().data ?? [];
  const mayEnrol = useMay('devices');
  const choice = (key: 'unit' | 'group' | 'os' | 'state', label: string, options: [string, string][]) => (
    <select aria-label={label} className="select select-sm w-auto max-w-30" value={query[key] ?? ''} onChange={(e) => set({ [key]: e.target.value })}>
      <option value="">{label}: any</option>
      {options.map(([value, word]) => (
        <option key={value} value={value}>
          {word}
        </option>
      ))}
    </select>
  );
  return (
    <ListScreen
      of="devices"
      title="Devices"
      nouns={['laptop', 'laptops']}
      placeholder="Id, serial, owner, model, tag"
      view={view}
      list={list}
      columns={columns}
      to={(d) => `/devices/${d.id}`}
      nothing="The estate has no laptops yet. They come from a source, or with an import: zridge import FOLDER."
      bring="Bring laptops in"
      actions={
        mayEnrol && (
          <Link className="btn btn-sm" to="/enrolment">
            Enrolment
          </Link>
        )
      }
      selected={selected}
      onSelect={setSelected}
      between={selected.size > 0 && <Chosen ids={[...selected]} clear={() => setSelected(new Set())} />}
      filters={
        <>
          {choice(
            'unit',
            'Unit',
            tree.map((u) => [u.id, `${'\u2007'.repeat(2 * u.depth)}${u.title || u.id}`]),
          )}
          {choice(
            'group',
            'Group',
            groups.map((g) => [g.id, g.title ?? g.id]),
          )}
          {choice(
            'os',
            'System',
            ['linux', 'windows', 'macos'].map((os) => [os, os]),
          )}
          {choice('state', 'State', [
            ['failed', 'settings failed'],
            ['pending', 'settings pending'],
            ['conflict', 'in a conflict'],
            ['problem', 'with problems'],
            ['silent', 'silent'],
            ['never-seen', 'never seen'],
          ])}
        </>
      }
    />
  );
}

/** What can be done with the chosen laptops. */
function Chosen({ ids, clear }: { ids: string[]; clear: () => void }) {
  const go = useNavigate();
  const [moving, setMoving] = useState(false);
  return (
    <div className="flex flex-wrap items-center gap-2 rounded border border-primary/40 bg-primary/6 px-3 py-2 text-sm" role="group" aria-label="Chosen laptops">
      <strong>{count(ids.length, 'laptop')} chosen</strong>
      <button type="button" className="btn btn-sm" onClick={() => setMoving(true)}>
        <FolderInput size={14} aria-hidden /> Move to a unit
      </button>
      {ids.length === 2 && (
        <button type="button" className="btn btn-sm" onClick={() => go(`/compare?a=${ids[0]}&b=${ids[1]}`)}>
          <GitCompare size={14} aria-hidden /> Compare
        </button>
      )}
      <button type="button" className="btn btn-sm" onClick={() => go('/groups/new', { state: { of: 'devices', members: ids } })}>
        <Users size={14} aria-hidden /> Make a group
      </button>
      <button type="button" className="btn btn-ghost btn-sm" onClick={clear}>
        None
      </button>
      <MoveDialog ids={ids} open={moving} onClose={() => setMoving(false)} onMoved={clear} />
    </div>
  );
}

/** Moves laptops as edits of the open change; what that does is shown in the change bar before anything is published. */
export function MoveDialog({ ids, open, onClose, onMoved }: { ids: string[]; open: boolean; onClose: () => void; onMoved?: () => void }) {
  const { id: change, need } = useOpenChange();
  const tree = useUnitTree().data ?? [];
  const [unit, setUnit] = useState('');
  const go = useNavigate();
  const move = useWrite(
    async () => {
      const into = await need(
        `Move ${count(ids.length, 'laptop')}`,
        ids.map((one): Subject => `devices/${one}`),
      );
      await got(api.POST('/api/v1/changes/{id}/moved-devices', { params: { path: { id: into } }, body: { devices: ids, unit } }));
      return into;
    },
    {
      alters: [keys.changes],
      done: (into) => {
        onMoved?.();
        onClose();
        go(`/changes/${into}`);
      },
    },
  );
  return (
    <Dialog open={open} onClose={onClose} title={`Move ${count(ids.length, 'laptop')}`}>
      <div className="flex flex-col gap-3">
        <Field label="To the unit" hint="A unit of their own; without one they follow their owners">
          <select className="select select-sm w-full" value={unit} onChange={(e) => setUnit(e.target.value)}>
            <option value="">none of their own: that of the owner</option>
            <UnitOptions of={tree} />
          </select>
        </Field>
        <p className="quiet text-sm">
          {change ? 'The moves are put into the open change.' : 'This opens a change.'} Nothing moves before it is published; its page shows first what the
          laptops will get instead.
        </p>
        <Failed error={move.error} />
        <button type="button" className="btn btn-primary btn-sm self-end" disabled={move.isPending} onClick={() => move.mutate()}>
          See what that does
        </button>
      </div>
    </Dialog>
  );
}
