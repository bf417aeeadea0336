// The tree of units with counts; a unit can be moved with all below it, its laptops too, and be detached.
import { ChevronDown, ChevronRight, FolderInput } from 'lucide-react';
import { useRef, useState, type KeyboardEvent } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, got, type Unit } from '../../api/client';
import { keys, useDetached, useUnitTree } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { useOpenChange } from '../../ui/change';
import { Dialog, Empty, Failed, Field, Loading, Page, Sheet, UnitOptions } from '../../ui/parts';
import { count, number, Time, ValueText } from '../../ui/words';
import { DetachButton, detachText } from './detach';

export function UnitsScreen() {
  const { change } = useOpenChange();
  const tree = useUnitTree(change);
  const [moving, setMoving] = useState<Unit>();
  return (
    <Page
      title="Units"
      lead={tree.data ? `${count(tree.data.length, 'unit')}${change ? `, as they would be with ‘${change.title}’` : ''}` : ' '}
      actions={
        <Link className="btn btn-sm" to="/units/matrix">
          Settings by unit
        </Link>
      }
    >
      <Failed error={tree.error} />
      {tree.isPending && <Loading />}
      {tree.data && (
        <div className="sheet overflow-x-auto">
          <Tree tree={tree.data} onMove={setMoving} />
        </div>
      )}
      {tree.data && <DetachedPlaces />}
      {moving && tree.data && <MoveUnit unit={moving} tree={tree.data} onClose={() => setMoving(undefined)} />}
    </Page>
  );
}

/**
 * The units as a tree with columns. Up and Down go from unit to unit, Right and Left open and close what is below one, Home and End go to
 * the first and the last, Enter opens the unit's page.
 */
function Tree({ tree, onMove }: { tree: Unit[]; onMove: (u: Unit) => void }) {
  const [closed, setClosed] = useState(new Set<string>());
  const [current, setCurrent] = useState(tree[0]?.id);
  const body = useRef<HTMLTableSectionElement>(null);
  const go = useNavigate();
  let under = Infinity; // the depth of a closed unit: what is deeper is not shown
  const shown = tree.filter((u) => {
    if (u.depth > under) return false;
    under = closed.has(u.id) ? u.depth : Infinity;
    return true;
  });
  const toggle = (id: string, close: boolean) => {
    const next = new Set(closed);
    if (close) next.add(id);
    else next.delete(id);
    setClosed(next);
  };
  const focus = (id: string | undefined) => {
    if (!id) return;
    setCurrent(id);
    body.current?.querySelector<HTMLElement>(`[data-unit="${CSS.escape(id)}"]`)?.focus();
  };
  const onKey = (e: KeyboardEvent, u: Unit, at: number) => {
    if (e.target !== e.currentTarget) return; // a link or a button of the row
    const keysOf: Record<string, () => void> = {
      ArrowDown: () => focus(shown[at + 1]?.id),
      ArrowUp: () => focus(shown[at - 1]?.id),
      ArrowRight: () => (u.children > 0 && closed.has(u.id) ? toggle(u.id, false) : u.children > 0 && focus(shown[at + 1]?.id)),
      ArrowLeft: () => (u.children > 0 && !closed.has(u.id) ? toggle(u.id, true) : focus(u.parent)),
      Home: () => focus(shown[0]?.id),
      End: () => focus(shown.at(-1)?.id),
      Enter: () => void go(`/units/${u.id}`),
    };
    if (!keysOf[e.key]) return;
    e.preventDefault();
    keysOf[e.key]!();
  };
  const tabStop = shown.some((u) => u.id === current) ? current : shown[0]?.id;
  return (
    <table className="table table-sm" role="treegrid">
      <caption className="sr-only">Units, each above those below it</caption>
      <thead>
        <tr>
          <th scope="col">Unit</th>
          <th scope="col" className="text-right">
            Laptops
          </th>
          <th scope="col" className="text-right">
            In it alone
          </th>
          <th scope="col" className="text-right">
            People
          </th>
          <th scope="col" className="text-right">
            Policies for it
          </th>
          <th scope="col">Detached</th>
          <th scope="col">From</th>
          <th scope="col">
            <span className="sr-only">What can be done</span>
          </th>
        </tr>
      </thead>
      <tbody ref={body}>
        {shown.map((u, at) => (
          <tr
            key={u.id}
            data-unit={u.id}
            aria-level={u.depth + 1}
            aria-expanded={u.children > 0 ? !closed.has(u.id) : undefined}
            tabIndex={u.id === tabStop ? 0 : -1}
            className="focus-visible:-outline-offset-2"
            onFocus={() => setCurrent(u.id)}
            onKeyDown={(e) => onKey(e, u, at)}
          >
            <th scope="row">
              <div className="flex items-center whitespace-nowrap" style={{ paddingLeft: `${u.depth * 1.25}rem` }}>
                {u.children > 0 ? (
                  <button
                    type="button"
                    tabIndex={-1}
                    className="btn btn-ghost btn-xs btn-square"
                    aria-label={`${closed.has(u.id) ? 'Show' : 'Hide'} what is below ${u.title || u.id}`}
                    onClick={() => toggle(u.id, !closed.has(u.id))}
                  >
                    {closed.has(u.id) ? <ChevronRight size={13} aria-hidden /> : <ChevronDown size={13} aria-hidden />}
                  </button>
                ) : (
                  <span className="w-6" />
                )}
                <Link className="link-hover link font-medium" to={`/units/${u.id}`}>
                  {u.title || u.id}
                </Link>
                <span className="id quiet ml-2">{u.id}</span>
              </div>
            </th>
            <td className="text-right tabular-nums">
              <Link className="link-hover link" to={`/devices?unit=${u.id}`} aria-label={`${count(u.devices, 'laptop')} of ${u.title || u.id}`}>
                {number(u.devices)}
              </Link>
            </td>
            <td className="text-right tabular-nums">{number(u.own)}</td>
            <td className="text-right tabular-nums">
              <Link
                className="link-hover link"
                to={`/people?where=${encodeURIComponent(`unit=${u.id}`)}`}
                aria-label={`${count(u.people, 'person', 'people')} of ${u.title || u.id}`}
              >
                {number(u.people)}
              </Link>
            </td>
            <td className="text-right tabular-nums">{number(u.policies)}</td>
            <td className="text-info">{detachText(u.detach)}</td>
            <td className="whitespace-nowrap">{u.source ?? <span className="quiet">edited here</span>}</td>
            <td>
              <div className="flex justify-end gap-1">
                {u.parent && (
                  <button type="button" className="btn btn-ghost btn-xs" aria-label={`Move ${u.title || u.id}`} onClick={() => onMove(u)}>
                    <FolderInput size={13} aria-hidden /> Move
                  </button>
                )}
                {u.parent && <DetachButton small place={`unit:${u.id}`} title={u.title || u.id} detach={u.detach} />}
              </div>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The unit and all below it. */
const within = (tree: Unit[], id: string) => {
  const at = tree.findIndex((u) => u.id === id);
  const end = tree.findIndex((u, i) => i > at && u.depth <= tree[at]!.depth);
  return tree.slice(at, end < 0 ? undefined : end);
};

function MoveUnit({ unit, tree, onClose }: { unit: Unit; tree: Unit[]; onClose: () => void }) {
  const { need } = useOpenChange();
  const [parent, setParent] = useState('');
  const go = useNavigate();
  const inside = new Set(within(tree, unit.id).map((u) => u.id));
  const move = useWrite(
    async () => {
      const into = await need(`Move ${unit.title || unit.id}`, [`units/${unit.id}`]);
      await got(api.POST('/api/v1/changes/{id}/moved-units', { params: { path: { id: into } }, body: { unit: unit.id, parent } }));
      return into;
    },
    { alters: [keys.changes, keys.estate], done: (into) => go(`/changes/${into}`) },
  );
  return (
    <Dialog open onClose={onClose} title={`Move ${unit.title || unit.id}`}>
      <div className="flex flex-col gap-3">
        <p className="text-sm">
          With it go {count(inside.size - 1, 'unit')} below it, {count(unit.devices, 'laptop')} and {count(unit.people, 'person', 'people')}.
        </p>
        <Field label="Below">
          <select className="select select-sm w-full" value={parent} onChange={(e) => setParent(e.target.value)}>
            <option value="">Choose a unit …</option>
            <UnitOptions of={tree.filter((u) => !inside.has(u.id) && u.id !== unit.parent)} />
          </select>
        </Field>
        <Failed error={move.error} />
        <button type="button" className="btn btn-primary btn-sm self-end" disabled={!parent || move.isPending} onClick={() => move.mutate()}>
          See what that does
        </button>
      </div>
    </Dialog>
  );
}

/** Places that detach something, with what each missed since. */
function DetachedPlaces() {
  const places = useDetached();
  return (
    <Sheet title="Detached" aside="later changes from above do not arrive there">
      <Failed error={places.error} />
      {places.data?.length === 0 && <Empty>Every unit and group inherits everything from above.</Empty>}
      <ul className="divide-y divide-base-300">
        {places.data?.map((p) => (
          <li key={p.place} className="flex flex-col gap-2 px-4 py-3 text-sm">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <strong>{p.title || p.place}</strong>
              <span className="id quiet">{p.place}</span>
              <span className="text-info">{detachText(p.detach)}</span>
              {p.due.length > 0 && <strong className="text-warning">review due since {p.due.map((d) => d.review_on).sort()[0]}</strong>}
              <span className="quiet">
                {count(p.devices, 'laptop')}
                {p.since && (
                  <>
                    , since <Time at={p.since} /> by {p.by}
                  </>
                )}
              </span>
            </div>
            {p.detach.some((d) => d.reason) && (
              <p className="quiet">
                {p.detach
                  .map((d) => d.reason)
                  .filter(Boolean)
                  .join(' · ')}
              </p>
            )}
            {p.missed.length === 0 ? (
              <p className="quiet">Nothing was missed since: no policy from above came or altered.</p>
            ) : (
              <table className="table table-sm">
                <caption className="sr-only">Units and groups that are detached</caption>
                <thead>
                  <tr>
                    <th scope="col">Missed since</th>
                    <th scope="col">From the policy</th>
                    <th scope="col">Was</th>
                    <th scope="col">Would be</th>
                    <th scope="col" className="text-right">
                      Laptops
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {p.missed.map((m) => (
                    <tr key={m.policy + m.setting}>
                      <th scope="row">
                        <div>{m.title || m.setting}</div>
                        <div className="id quiet">{m.setting}</div>
                      </th>
                      <td>
                        <Link className="link-hover link" to={`/policies/${m.policy}`}>
                          {m.policy_title || m.policy}
                        </Link>
                      </td>
                      <td>{m.was === undefined ? <span className="quiet">not there</span> : <ValueText of={m.was} />}</td>
                      <td>
                        <ValueText of={m.value} />
                      </td>
                      <td className="text-right tabular-nums">{number(m.devices)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
