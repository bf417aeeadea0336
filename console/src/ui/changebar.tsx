// The change bar: docked below whenever a change is open, with what it does, live.
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, got, type Impact } from '../api/client';
import { keys, useImpact } from '../api/queries';
import { useWrite } from '../api/writes';
import { announce, useAnnounced } from './announce';
import { useOpenChange } from './change';
import { Dialog, Failed } from './parts';
import { count, number } from './words';

/** What a change does, in one sentence. */
function impactSentence(title: string, impact: Impact): string {
  if (impact.faults?.length) return `‘${title}’ has ${count(impact.faults.length, 'fault')}.`;
  const parts = [
    `values change on ${number(impact.devices)} of ${count(impact.estate, 'laptop')}`,
    impact.weaker > 0 && `${number(impact.weaker)} get a weaker value`,
    impact.conflicts_gained.length > 0 && `${count(impact.conflicts_gained.length, 'conflict')} gained`,
    impact.conflicts_cleared.length > 0 && `${count(impact.conflicts_cleared.length, 'conflict')} cleared`,
    impact.problems_gained.length > 0 && `${count(impact.problems_gained.length, 'problem')} gained`,
    impact.problems_cleared.length > 0 && `${count(impact.problems_cleared.length, 'problem')} cleared`,
  ];
  return `With ‘${title}’ ${parts.filter(Boolean).join(', ')}.`;
}

export function ChangeBar() {
  const { id, change, choose } = useOpenChange();
  const impact = useImpact(change).data;
  const [asking, setAsking] = useState(false);
  const go = useNavigate();
  const discard = useWrite(() => got(api.DELETE('/api/v1/changes/{id}', { params: { path: { id: id! } } })), {
    alters: [keys.changes],
    done: () => {
      setAsking(false);
      choose(undefined);
      announce('The change was discarded. Nothing on laptops alters.');
      go('/changes');
    },
  });
  useAnnounced(change && impact ? impactSentence(change.title, impact) : '');
  if (!id || !change) return null;
  const edits = change.edits?.length ?? 0;
  const figures =
    impact && !impact.faults?.length
      ? [
          { n: impact.devices, one: 'laptop differs', word: 'laptops differ', tone: '' },
          { n: impact.weaker, one: 'gets weaker', word: 'get weaker', tone: 'text-warning' },
          { n: impact.conflicts_gained.length, one: 'conflict gained', word: 'conflicts gained', tone: 'text-warning' },
          { n: impact.conflicts_cleared.length, one: 'conflict cleared', word: 'conflicts cleared', tone: 'text-success' },
          { n: impact.problems_gained.length, one: 'problem gained', word: 'problems gained', tone: 'text-warning' },
          { n: impact.problems_cleared.length, one: 'problem cleared', word: 'problems cleared', tone: 'text-success' },
        ]
      : [];
  return (
    <aside aria-label="Open change" className="flex flex-wrap items-center gap-x-5 gap-y-2 border-t-2 border-primary bg-base-100 px-5 py-2.5 text-sm">
      <Link to={`/changes/${id}`} className="min-w-0 max-w-xs truncate font-semibold hover:underline" title={change.title}>
        {change.title}
      </Link>
      <span className="quiet">{count(edits, 'edit')}</span>
      <div className="flex flex-wrap gap-x-4">
        {figures.map(
          (f, i) =>
            (i === 0 || f.n > 0) && (
              <Link key={f.word} to={`/changes/${id}`} className={`hover:underline ${f.tone}`}>
                <strong className="tabular-nums">{number(f.n)}</strong> {f.n === 1 ? f.one : f.word}
              </Link>
            ),
        )}
        {impact?.faults?.length ? <span className="text-error">{count(impact.faults.length, 'fault')}</span> : null}
      </div>
      <div className="flex-1" />
      <Link to={`/changes/${id}`} className="btn btn-primary btn-sm">
        Look at the impact
      </Link>
      <button type="button" className="btn btn-sm" onClick={() => choose(undefined)} title="Leave the change open and put it out of sight">
        Hide this change for now
      </button>
      <button type="button" className="btn btn-ghost btn-sm" onClick={() => setAsking(true)}>
        Discard
      </button>
      <Dialog open={asking} onClose={() => setAsking(false)} title="Discard this change?">
        <p className="text-sm">
          {edits > 0
            ? `${count(edits, 'edit')} of ‘${change.title}’ will not go live. The change stays in the list as discarded. Nothing on laptops alters.`
            : `‘${change.title}’ has no edits. Nothing on laptops alters.`}
        </p>
        <Failed error={discard.error} />
        <div className="mt-4 flex justify-end gap-2">
          <button type="button" data-cancel className="btn btn-sm" onClick={() => setAsking(false)}>
            Cancel
          </button>
          <button type="button" className="btn btn-error btn-sm" disabled={discard.isPending} onClick={() => discard.mutate()}>
            Discard
          </button>
        </div>
      </Dialog>
    </aside>
  );
}
