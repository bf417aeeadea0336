// What its source no longer has: still in the estate, until somebody removes it.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type LeftObject, type Source } from '../../api/client';
import { keys, useLeft } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { ImpactView } from '../../ui/impact';
import { Dialog, Failed, Faults, Loading, Sheet } from '../../ui/parts';
import { number, Time } from '../../ui/words';
import { thingWord } from './index';
import { objectTo } from './report';

export function Left({ s }: { s: Source }) {
  const left = useLeft(s.id);
  const [chosen, setChosen] = useState(new Set<string>());
  const [removing, setRemoving] = useState(false);
  const items = left.data?.items ?? [];
  if (items.length === 0) return null;
  const key = (l: LeftObject) => `${l.kind}/${l.id}`;
  return (
    <Sheet title="Left" aside="no longer at the source, and still here">
      <table className="table table-sm">
        <caption className="sr-only">Objects that left the source</caption>
        <thead>
          <tr>
            <th scope="col" className="w-8">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                aria-label="Choose all"
                checked={chosen.size === items.length}
                onChange={(e) => setChosen(new Set(e.target.checked ? items.map(key) : []))}
              />
            </th>
            <th scope="col">What</th>
            <th scope="col">Since</th>
            <th scope="col">Removed by itself</th>
          </tr>
        </thead>
        <tbody>
          {items.map((l) => (
            <tr key={key(l)}>
              <td>
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  aria-label={`Choose ${l.id}`}
                  checked={chosen.has(key(l))}
                  onChange={(e) => {
                    const next = new Set(chosen);
                    if (e.target.checked) next.add(key(l));
                    else next.delete(key(l));
                    setChosen(next);
                  }}
                />
              </td>
              <th scope="row">
                <Link className="link-hover link" to={objectTo[l.kind]!(l.id)}>
                  {l.title || l.id}
                </Link>{' '}
                <span className="quiet">
                  {thingWord[l.kind]?.[0]} <span className="id">{l.id}</span>
                </span>
              </th>
              <td>
                <Time at={l.since} />
              </td>
              <td>{l.due ? <Time at={l.due} /> : <span className="quiet">only by a person</span>}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="flex justify-end px-4 py-2">
        <button type="button" className="btn btn-sm" disabled={chosen.size === 0} onClick={() => setRemoving(true)}>
          Remove {number(chosen.size)} …
        </button>
      </div>
      <Dialog open={removing} onClose={() => setRemoving(false)} title={`Remove ${number(chosen.size)}`} wide>
        <Removal
          s={s}
          objects={items.filter((l) => chosen.has(key(l))).map((l) => ({ kind: l.kind, id: l.id }))}
          onDone={() => {
            setChosen(new Set());
            setRemoving(false);
          }}
        />
      </Dialog>
    </Sheet>
  );
}

function Removal({ s, objects, onDone }: { s: Source; objects: { kind: 'units' | 'people' | 'devices' | 'groups'; id: string }[]; onDone: () => void }) {
  const remove = useWrite(() => got(api.POST('/api/v1/sources/{id}/removals', { params: { path: { id: s.id } }, body: { objects } })), {
    alters: [keys.sources],
    done: onDone,
  });
  const look = useQuery({
    queryKey: [...keys.sources, s.id, 'removal', objects],
    queryFn: () => got(api.POST('/api/v1/sources/{id}/removals', { params: { path: { id: s.id } }, body: { objects, look: true } })),
    retry: false,
  });
  return (
    <div className="flex flex-col gap-3 text-sm">
      <Failed error={look.error ?? remove.error} />
      {look.isPending && <Loading rows={3} />}
      {look.data?.named && (
        <div role="alert">
          <p className="font-medium text-warning">Something still names it. Take it out there first, in a change:</p>
          <Faults list={look.data.named} />
        </div>
      )}
      {look.data?.impact && <ImpactView of={look.data.impact} />}
      <button type="button" className="btn btn-primary btn-sm self-end" disabled={!look.data?.impact || remove.isPending} onClick={() => remove.mutate()}>
        Remove from the estate
      </button>
    </div>
  );
}
