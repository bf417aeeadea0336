// One change: its edits before and after, what it does to laptops, and publishing.
import { Link, useNavigate, useParams } from 'react-router';
import { api, got, type Change, type Edit, type Value, type EstateObject } from '../api/client';
import { keys, useChange, useImpact, useMay } from '../api/queries';
import { useReview, useRollouts } from '../api/rollouts';
import { useWrite } from '../api/writes';
import { announce } from '../ui/announce';
import { useOpenChange } from '../ui/change';
import { BeforeAfter, ImpactView } from '../ui/impact';
import { Empty, Failed, Id, Loading, Page, Sheet } from '../ui/parts';
import { Publish } from './publish';
import { Decide, ReviewSheet, SendForReview } from './review';
import { count, Status, Time, ValueText } from '../ui/words';

/** The report for the change board, in the forms in which it is asked for. */
function Reports({ id }: { id: string }) {
  const forms = { html: 'page', markdown: 'Markdown', csv: 'table', json: 'JSON' };
  return (
    <span className="flex flex-wrap gap-x-3 text-[13px]">
      <span className="quiet">Report:</span>
      {Object.entries(forms).map(([form, word]) => (
        <a key={form} className="link" href={`/api/v1/changes/${id}/impact/report?format=${form}`} target="_blank" rel="noreferrer">
          {word}
        </a>
      ))}
    </span>
  );
}

export function ChangeScreen() {
  const { id = '' } = useParams();
  const { data: c, error } = useChange(id);
  const open = useOpenChange();
  const isOpen = c?.state === 'open';
  const isDraft = isOpen || c?.state === 'in-review';
  const impact = useImpact(isDraft ? c : undefined);
  const { data: review, isPending: reviewComes } = useReview(id);
  const mayPublish = useMay('publish');
  const mayWrite = useMay('write');
  if (!c || (isDraft && reviewComes))
    // what is decided stands first: shown later, it would push the rest down
    return (
      <Page title="Change">
        <Failed error={error} />
        {!error && <Loading />}
      </Page>
    );
  return (
    <Page
      title={c.title}
      lead={
        <>
          <Id copy>{c.id}</Id> · <Status of={c.state} /> · opened by {c.created_by} <Time at={c.created_at} />
          {c.revision ? ` · live as revision ${c.revision}` : ''}
          {c.why ? ` · ${c.why}` : ''}
        </>
      }
      actions={
        <>
          {isOpen && open.id !== c.id && (
            <button type="button" className="btn btn-sm" onClick={() => open.choose(c.id)}>
              Work in it
            </button>
          )}
          {review && <Decide r={review} />}
          {isDraft && review && mayWrite && <SendForReview r={review} />}
          {isDraft && mayPublish && <Publish change={c} impact={impact.data} review={review} />}
          {(c.state === 'rolling-out' || c.state === 'published' || c.state === 'taken-back') && <ToRollout change={c} />}
          {c.state === 'published' && mayWrite && <Undo change={c} />}
        </>
      }
    >
      {review && (review.facts || review.comments.length > 0 || review.faults?.length) && <ReviewSheet r={review} />}
      <Sheet title="Edits" aside={count(c.edits?.length ?? 0, 'object')}>
        {c.edits?.length ? (
          <ul>
            {c.edits.slice(0, 100).map((e) => (
              <EditRow key={e.kind + e.id} e={e} change={c} />
            ))}
            {(c.hidden_edits ?? 0) > 0 && (
              <li className="quiet px-4 py-2 text-sm">and {count(c.hidden_edits ?? 0, 'edit')} outside of the units that you may read</li>
            )}
            {c.edits.length > 100 && <li className="quiet px-4 py-2 text-sm">and {c.edits.length - 100} more</li>}
          </ul>
        ) : (
          <Empty
            action={
              <Link className="btn btn-sm" to="/policies">
                To the policies
              </Link>
            }
          >
            Nothing is edited yet. Open a policy and alter it, or settle a conflict: it goes in here.
          </Empty>
        )}
      </Sheet>
      {isDraft && (
        <Sheet title="What it does to what is live" aside={impact.data && !impact.data.faults?.length ? <Reports id={c.id} /> : undefined}>
          <div className="px-4 py-3">
            <Failed error={impact.error} />
            {impact.data ? <ImpactView of={impact.data} asked={{ change: c.id, version: c.version, edits: [] }} /> : impact.isPending && <Loading />}
          </div>
        </Sheet>
      )}
    </Page>
  );
}

function ToRollout({ change }: { change: Change }) {
  const rollouts = useRollouts().data ?? [];
  if (!rollouts.some((r) => r.id === change.id)) return null;
  return (
    <Link className="btn btn-sm" to={`/rollouts/${change.id}`}>
      To its rollout
    </Link>
  );
}

/** Makes a change that turns a published one round. */
function Undo({ change }: { change: Change }) {
  const open = useOpenChange();
  const go = useNavigate();
  const undo = useWrite(() => got(api.POST('/api/v1/changes/{id}/undo', { params: { path: { id: change.id } } })), {
    alters: [keys.changes, keys.rollouts],
    done: (u) => {
      const kept = u.objects.filter((o) => o.way === 'left' || o.parts?.length);
      announce(
        kept.length > 0
          ? `A change undoes it. ${count(kept.length, 'object')} altered since ${kept.length === 1 ? 'stays' : 'stay'} in part: ${kept.map((o) => o.id).join(', ')}.`
          : 'A change undoes it. Look at what it does, then publish it.',
      );
      if (u.change) {
        open.choose(u.change);
        go(`/changes/${u.change}`);
      }
    },
  });
  return (
    <>
      <button type="button" className="btn btn-sm" disabled={undo.isPending} onClick={() => undo.mutate()}>
        Undo it with a new change
      </button>
      <Failed error={undo.error} />
    </>
  );
}

function EditRow({ e, change }: { e: Edit; change: Change }) {
  const overtaken = change.state === 'open' && e.base_version !== e.live_version;
  const path = { id: change.id, kind: e.kind, object: e.id };
  const takeOut = useWrite(() => got(api.DELETE('/api/v1/changes/{id}/edits/{kind}/{object}', { params: { path } })), { alters: [keys.changes] });
  const rebase = useWrite(() => got(api.POST('/api/v1/changes/{id}/edits/{kind}/{object}/rebase', { params: { path } })), { alters: [keys.changes] });
  return (
    <li className="border-b border-base-300/60 px-4 py-2.5 text-sm last:border-0">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <span>
          <strong className="font-medium">{e.action}</strong>{' '}
          {e.kind === 'policies' ? (
            <Link className="id link" to={`/policies/${e.id}`}>
              {e.kind}/{e.id}
            </Link>
          ) : (
            <Id>{`${e.kind}/${e.id}`}</Id>
          )}
          <span className="quiet">
            {' '}
            by {e.by}, <Time at={e.at} />
          </span>
        </span>
        {change.state === 'open' && (
          <button
            type="button"
            aria-label={`Undo this edit: ${e.kind}/${e.id}`}
            className="btn btn-ghost btn-xs"
            disabled={takeOut.isPending}
            onClick={() => takeOut.mutate()}
          >
            Undo this edit
          </button>
        )}
      </div>
      {overtaken && (
        <div role="alert" className="mt-1 flex flex-wrap items-center gap-3 text-warning">
          Another change published version {e.live_version} since this edit began with version {e.base_version}.
          <button
            type="button"
            aria-label={`Let this one replace it: ${e.kind}/${e.id}`}
            className="btn btn-xs"
            disabled={rebase.isPending}
            onClick={() => rebase.mutate()}
          >
            Let this one replace it
          </button>
        </div>
      )}
      <Failed error={takeOut.error ?? rebase.error} />
      <Differences e={e} />
    </li>
  );
}

type Row = { label: string; from?: Value; to?: Value };

/** What differs between the live object and the edit, field by field and setting by setting. */
function differences(live: EstateObject | undefined, body: EstateObject | undefined): Row[] {
  const flat = (o: object | undefined, prefix = ''): Record<string, Value> => {
    const out: Record<string, Value> = {};
    for (const [k, v] of Object.entries(o ?? {})) {
      const key = prefix ? `${prefix} · ${k}` : k;
      if (v !== null && typeof v === 'object' && !Array.isArray(v)) Object.assign(out, flat(v, key));
      else out[key] = v;
    }
    return out;
  };
  const a = flat(live);
  const b = flat(body);
  return [...new Set([...Object.keys(a), ...Object.keys(b)])]
    .filter((k) => JSON.stringify(a[k]) !== JSON.stringify(b[k]))
    .map((k) => ({ label: k, from: a[k], to: b[k] }));
}

function Differences({ e }: { e: Edit }) {
  if (e.action === 'retire') return <p className="quiet mt-1">It stays in the history and reaches nobody any more.</p>;
  const rows = differences(e.action === 'create' ? undefined : e.live, e.body).filter((r) => r.label !== 'id');
  if (!rows.length) return <p className="quiet mt-1">The same as what is live.</p>;
  return (
    <dl className="mt-1 grid grid-cols-[minmax(8rem,auto)_1fr] gap-x-4 gap-y-0.5">
      {rows.slice(0, 30).map((r) => (
        <div key={r.label} className="contents">
          <dt className="quiet id">{r.label}</dt>
          <dd>
            {e.action === 'create' ? (
              <ValueText of={r.to} />
            ) : (
              <BeforeAfter from={r.from === undefined ? {} : { status: 'set', value: r.from }} to={r.to === undefined ? {} : { status: 'set', value: r.to }} />
            )}
          </dd>
        </div>
      ))}
      {rows.length > 30 && <div className="quiet col-span-2">and {rows.length - 30} more</div>}
    </dl>
  );
}
