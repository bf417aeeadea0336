// The tree of units with counts; a unit can be moved with all below it, its laptops too, and be detached.
import { FolderInput } from 'lucide-react';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, got, type Unit } from '../../api/client';
import { keys, useDetached, useUnitTree } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { useOpenChange } from '../../ui/change';
import { Dialog, Empty, Failed, Field, Loading, Page, Sheet } from '../../ui/parts';
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
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Unit</th>
                <th className="text-right">Laptops</th>
                <th className="text-right">In it alone</th>
                <th className="text-right">People</th>
                <th className="text-right">Policies for it</th>
                <th>Detached</th>
                <th>From</th>
                <th>
                  <span className="sr-only">What can be done</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {tree.data.map((u) => (
                <tr key={u.id}>
                  <td>
                    <div className="whitespace-nowrap" style={{ paddingLeft: `${u.depth * 1.25}rem` }}>
                      <Link className="link-hover link font-medium" to={`/units/${u.id}`}>
                        {u.title || u.id}
                      </Link>
                      <span className="id quiet ml-2">{u.id}</span>
                    </div>
                  </td>
                  <td className="text-right tabular-nums">
                    <Link className="link-hover link" to={`/devices?unit=${u.id}`}>
                      {number(u.devices)}
                    </Link>
                  </td>
                  <td className="text-right tabular-nums">{number(u.own)}</td>
                  <td className="text-right tabular-nums">
                    <Link className="link-hover link" to={`/people?where=${encodeURIComponent(`unit=${u.id}`)}`}>
                      {number(u.people)}
                    </Link>
                  </td>
                  <td className="text-right tabular-nums">{number(u.policies)}</td>
                  <td className="text-info">{detachText(u.detach)}</td>
                  <td className="whitespace-nowrap">{u.source ?? <span className="quiet">edited here</span>}</td>
                  <td>
                    <div className="flex justify-end gap-1">
                      {u.parent && (
                        <button type="button" className="btn btn-ghost btn-xs" onClick={() => setMoving(u)}>
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
        </div>
      )}
      <DetachedPlaces />
      {moving && tree.data && <MoveUnit unit={moving} tree={tree.data} onClose={() => setMoving(undefined)} />}
    </Page>
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
      const into = await need(`Move ${unit.title || unit.id}`);
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
            {tree
              .filter((u) => !inside.has(u.id) && u.id !== unit.parent)
              .map((u) => (
                <option key={u.id} value={u.id}>
                  {'\u2007'.repeat(2 * u.depth)}
                  {u.title || u.id}
                </option>
              ))}
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
                <thead>
                  <tr>
                    <th>Missed since</th>
                    <th>From the policy</th>
                    <th>Was</th>
                    <th>Would be</th>
                    <th className="text-right">Laptops</th>
                  </tr>
                </thead>
                <tbody>
                  {p.missed.map((m) => (
                    <tr key={m.policy + m.setting}>
                      <td>
                        <div>{m.title || m.setting}</div>
                        <div className="id quiet">{m.setting}</div>
                      </td>
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
