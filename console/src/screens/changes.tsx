// All changes: open, published, discarded.
import { Plus } from 'lucide-react';
import { useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, got } from '../api/client';
import { keys, queries, useChanges } from '../api/queries';
import { useWrite } from '../api/writes';
import { useOpenChange } from '../ui/change';
import { Dialog, Empty, Failed, Field, Heads, Id, Loading, Page } from '../ui/parts';
import { Status, Time } from '../ui/words';

const states = [undefined, 'open', 'in-review', 'rolling-out', 'published', 'taken-back', 'discarded'] as const;
const stateWords: Record<string, string> = { 'in-review': 'in review', 'rolling-out': 'rolling out', 'taken-back': 'taken back' };

export function ChangesScreen() {
  const [params] = useSearchParams();
  const state = states.find((s) => s === params.get('state'));
  const list = useChanges(state);
  const open = useOpenChange();
  const [asking, setAsking] = useState(false);
  return (
    <Page
      title="Changes"
      lead="Edits laid over what is live. Nothing reaches a laptop until its change is published."
      actions={
        <>
          <Link className="btn btn-sm" to="/changes/rules">
            Approval rules
          </Link>
          <button type="button" className="btn btn-primary btn-sm" onClick={() => setAsking(true)}>
            <Plus size={15} aria-hidden /> New change
          </button>
        </>
      }
    >
      <nav aria-label="State" className="flex flex-wrap gap-1">
        {states.map((s) => (
          <Link
            key={s ?? 'all'}
            aria-current={state === s ? 'true' : undefined}
            className={`btn btn-sm ${state === s ? 'btn-primary' : 'btn-ghost'}`}
            to={s ? `/changes?state=${s}` : '/changes'}
          >
            {s ? (stateWords[s] ?? s) : 'all'}
          </Link>
        ))}
      </nav>
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {list.data.length === 0 ? (
            <Empty
              action={
                <Link className="btn btn-sm" to="/policies">
                  To the policies
                </Link>
              }
            >
              No such changes. Editing a policy opens one by itself.
            </Empty>
          ) : (
            <table className="table table-sm">
              <caption className="sr-only">Changes</caption>
              <Heads of={['Change', 'State', 'Opened by', 'Altered', 'Revision']} actions />
              <tbody>
                {list.data.map((c) => (
                  <tr key={c.id}>
                    <th scope="row">
                      <Link to={`/changes/${c.id}`} className="font-medium hover:underline">
                        {c.title}
                      </Link>
                      <div className="quiet">
                        <Id>{c.id}</Id>
                      </div>
                    </th>
                    <td>
                      <Status of={c.state} />
                    </td>
                    <td>{c.created_by}</td>
                    <td>
                      <Time at={c.updated_at} />
                    </td>
                    <td className="tabular-nums">{c.revision || ''}</td>
                    <td className="text-right">
                      {c.state === 'open' &&
                        (open.id === c.id ? (
                          <span className="quiet text-[13px]">you are in it</span>
                        ) : (
                          <button type="button" className="btn btn-xs" aria-label={`Work in ${c.title}`} onClick={() => open.choose(c.id)}>
                            Work in it
                          </button>
                        ))}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
      )}
      <NewChange open={asking} onClose={() => setAsking(false)} />
    </Page>
  );
}

function NewChange({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { choose } = useOpenChange();
  const [title, setTitle] = useState('');
  const [why, setWhy] = useState('');
  const go = useNavigate();
  const begin = useWrite(() => got(api.POST('/api/v1/changes', { body: { title, why } })), {
    done: (c) => {
      choose(c.id);
      void queries.invalidateQueries({ queryKey: keys.changes });
      onClose();
      go(`/changes/${c.id}`);
    },
  });
  return (
    <Dialog open={open} onClose={onClose} title="New change">
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          begin.mutate();
        }}
      >
        <Field label="What it is for">
          <input className="input w-full" required maxLength={200} value={title} onChange={(e) => setTitle(e.target.value)} />
        </Field>
        <Field label="Why" hint="A ticket, who asked">
          <input className="input w-full" value={why} onChange={(e) => setWhy(e.target.value)} />
        </Field>
        <Failed error={begin.error} />
        <button type="submit" className="btn btn-primary self-end" disabled={begin.isPending}>
          Open
        </button>
      </form>
    </Dialog>
  );
}
