// The review of a change: what it touches, what approval rules ask, who decided what, and what is said about it.
import { Check, CircleAlert, CircleDashed, X } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type Review, type ReviewComment, type Verdict } from '../api/client';
import { keys, useMay, useWho } from '../api/queries';
import { useWrite } from '../api/writes';
import { announce } from '../ui/announce';
import { Dialog, Failed, Faults, Field, Sheet } from '../ui/parts';
import { count, number, Time } from '../ui/words';

/** What a change touches, in figures; what alarms stands out. */
function Figures({ r }: { r: Review }) {
  const f = r.facts;
  if (!f) return null;
  const list: [number, string, boolean][] = [
    [f.weaker, 'get a weaker value', true],
    [f.irreversible, 'cannot be undone', true],
    [f.restarts, 'need a restart', false],
    [f.prompts, 'are asked something', false],
    [f.lockouts, 'may be locked out', true],
  ];
  const share = Math.round(f.share * 10) / 10;
  return (
    <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1 text-sm">
      <span>
        <strong className="text-2xl tabular-nums">{number(f.laptops)}</strong> {f.laptops === 1 ? 'laptop' : 'laptops'}, {share} % of the estate
      </span>
      {list
        .filter(([n]) => n > 0)
        .map(([n, word, alarms]) => (
          <span key={word} className={alarms ? 'font-medium text-warning' : ''}>
            <strong className="tabular-nums">{number(n)}</strong> {word}
          </span>
        ))}
      {f.conflicts_gained > 0 && <span className="font-medium text-warning">{count(f.conflicts_gained, 'conflict begins', 'conflicts begin')}</span>}
      {f.problems_gained > 0 && <span className="font-medium text-warning">{count(f.problems_gained, 'problem begins', 'problems begin')}</span>}
      <span className="quiet">{count(f.edits, 'edit')}</span>
    </div>
  );
}

function Demands({ r }: { r: Review }) {
  if (r.demands.length === 0) return <p className="quiet text-sm">No approval rule asks for an approval of this change.</p>;
  return (
    <ul className="flex flex-col gap-1.5 text-sm">
      {r.demands.map((d) => (
        <li key={d.rule} className="flex gap-2">
          {d.met ? (
            <Check size={16} className="mt-0.5 shrink-0 text-success" aria-hidden />
          ) : (
            <CircleDashed size={16} className="mt-0.5 shrink-0 text-warning" aria-hidden />
          )}
          <span>
            <span className="font-medium">{d.title || d.rule}</span>: {count(d.approvals, 'approval')}
            {d.from && <> from {d.from.startsWith('group:') ? `the group ${d.from.slice(6)}` : `the role ${d.from}`}</>},{' '}
            <span className={d.met ? 'text-success' : 'text-warning'}>{d.met ? 'met' : d.by.length > 0 ? `${d.by.length} so far` : 'missing'}</span>
            {d.by.length > 0 && <span className="quiet"> ({d.by.join(', ')})</span>}
            {d.reason && <span className="quiet block text-[13px]">{d.reason}</span>}
            {d.fault && <span className="block text-[13px] text-warning">It could not be evaluated, so it asks: {d.fault}</span>}
          </span>
        </li>
      ))}
    </ul>
  );
}

function VerdictLine({ v }: { v: Verdict }) {
  const approved = v.verdict === 'approve';
  const icon = v.outdated ? (
    <CircleAlert size={16} className="mt-0.5 shrink-0 text-warning" aria-hidden />
  ) : approved ? (
    <Check size={16} className="mt-0.5 shrink-0 text-success" aria-hidden />
  ) : (
    <X size={16} className="mt-0.5 shrink-0 text-error" aria-hidden />
  );
  return (
    <li className="flex gap-2 text-sm">
      {icon}
      <span className="min-w-0">
        <span className="font-medium">{v.by}</span> {approved ? 'approved' : 'declined'}{' '}
        <span className="quiet">
          <Time at={v.at} />
        </span>
        {v.note && <span className="block">{v.note}</span>}
        {v.outdated && (
          <span className="mt-1 block rounded border border-warning/50 bg-warning/8 px-3 py-1.5">
            <span className="font-medium text-warning">Outdated: the impact differs since. It counts again when {v.by} confirms it.</span>
            {v.differs?.map((d) => (
              <span key={d.what} className="block text-[13px]">
                <span className="id">{d.what}</span>: on {number(d.was)}, now on {count(d.is, 'laptop')}
              </span>
            ))}
          </span>
        )}
      </span>
    </li>
  );
}

/** Other rollouts that touch the same settings, laptops or objects. */
function Meets({ r }: { r: Review }) {
  if (!r.meets?.length && !r.waits_for?.length) return null;
  return (
    <div className="flex flex-col gap-1 text-sm">
      {r.waits_for?.map((w) => (
        <p key={w.rollout} className="text-warning">
          It waits until{' '}
          <Link className="link" to={`/rollouts/${w.rollout}`}>
            {w.title}
          </Link>{' '}
          is over, {w.objects?.length ? `which edits ${w.objects.join(', ')}, too` : 'which brings what this change names'}.
        </p>
      ))}
      {r.meets
        ?.filter((m) => !r.waits_for?.some((w) => w.rollout === m.rollout))
        .map((m) => (
          <p key={m.rollout} className="quiet">
            <Link className="link" to={`/rollouts/${m.rollout}`}>
              {m.title}
            </Link>{' '}
            is under way
            {m.settings?.length ? ` and alters the same ${m.settings.length === 1 ? 'setting' : 'settings'}: ${m.settings.join(', ')}` : ''}
            {m.laptops ? `${m.settings?.length ? ';' : ' and'} both alter something on ${count(m.laptops, 'laptop')}` : ''}.
          </p>
        ))}
    </div>
  );
}

export function ReviewSheet({ r }: { r: Review }) {
  const inReview = r.change.state === 'in-review';
  return (
    <Sheet
      title="Review"
      aside={
        r.sent_by && inReview ? (
          <>
            sent by {r.sent_by} <Time at={r.sent_at} /> to {r.reviewers?.length ? r.reviewers.join(', ') : 'whoever may approve'}
          </>
        ) : undefined
      }
    >
      <div className="flex flex-col gap-4 px-4 py-3">
        {r.faults?.length ? (
          <div role="alert" className="text-sm text-error">
            <p className="font-medium">This can’t be published as it is:</p>
            <Faults list={r.faults} />
          </div>
        ) : null}
        <Figures r={r} />
        {r.undoes && (
          <p className="text-sm">
            It undoes{' '}
            <Link className="id link" to={`/changes/${r.undoes}`}>
              {r.undoes}
            </Link>
            .
          </p>
        )}
        {r.urgent && (
          <p role="note" className="rounded border border-warning/60 bg-warning/8 px-3 py-2 text-sm">
            <span className="font-medium text-warning">Published urgently:</span> {r.urgent}
            {r.approve_by && !r.demands.every((d) => d.met) && (
              <>
                {' '}
                Its approvals must follow <Time at={r.approve_by} />.
              </>
            )}
          </p>
        )}
        <Meets r={r} />
        <div className="grid gap-4 md:grid-cols-2">
          <div>
            <h3 className="quiet mb-1.5 text-[13px]">What is asked</h3>
            <Demands r={r} />
          </div>
          <div>
            <h3 className="quiet mb-1.5 text-[13px]">Decisions</h3>
            {r.verdicts.length === 0 ? (
              <p className="quiet text-sm">{inReview ? 'Nobody has decided yet.' : 'None.'}</p>
            ) : (
              <ul className="flex flex-col gap-2">
                {r.verdicts.map((v) => (
                  <VerdictLine key={v.by} v={v} />
                ))}
              </ul>
            )}
          </div>
        </div>
        <Comments r={r} />
      </div>
    </Sheet>
  );
}

function Comments({ r }: { r: Review }) {
  const mayBlock = useMay('approve');
  const [about, setAbout] = useState('');
  const [text, setText] = useState('');
  const [blocking, setBlocking] = useState(false);
  const path = { id: r.change.id };
  const say = useWrite(() => got(api.POST('/api/v1/changes/{id}/comments', { params: { path }, body: { text, about, blocking } })), {
    alters: [keys.changes],
    done: () => {
      setText('');
      setBlocking(false);
      setAbout('');
    },
  });
  const subjects = [
    ...(r.change.edits ?? []).slice(0, 50).map((e) => `${e.kind}/${e.id}`),
    ...(r.facts?.settings ?? []).slice(0, 50).map((s) => `settings/${s}`),
  ];
  return (
    <div className="flex flex-col gap-2">
      <h3 className="quiet text-[13px]">Comments</h3>
      {r.comments.length > 0 && (
        <ul className="flex flex-col gap-2">
          {r.comments.map((c) => (
            <CommentLine key={c.id} c={c} change={r.change.id} />
          ))}
        </ul>
      )}
      <form
        className="flex flex-wrap items-start gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          say.mutate();
        }}
      >
        <textarea
          aria-label="Comment"
          className="textarea textarea-sm min-h-9 min-w-0 flex-1 basis-72"
          rows={1}
          maxLength={10_000}
          placeholder="Say something about the change"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <select aria-label="About" className="select select-sm w-52" value={about} onChange={(e) => setAbout(e.target.value)}>
          <option value="">the change</option>
          {subjects.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </select>
        {mayBlock && (
          <label className="flex h-8 items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" checked={blocking} onChange={(e) => setBlocking(e.target.checked)} /> must be resolved
          </label>
        )}
        <button type="submit" className="btn btn-sm" disabled={!text.trim() || say.isPending}>
          Comment
        </button>
      </form>
      <Failed error={say.error} />
    </div>
  );
}

function CommentLine({ c, change }: { c: ReviewComment; change: string }) {
  const resolve = useWrite(() => got(api.POST('/api/v1/changes/{id}/comments/{comment}/resolve', { params: { path: { id: change, comment: c.id } } })), {
    alters: [keys.changes],
  });
  return (
    <li className={`rounded border px-3 py-2 text-sm ${c.blocking && !c.resolved_at ? 'border-warning/60' : 'border-base-300'}`}>
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <span>
          <span className="font-medium">{c.by}</span>{' '}
          <span className="quiet">
            <Time at={c.at} />
            {c.about && (
              <>
                {' '}
                about <span className="id">{c.about}</span>
              </>
            )}
          </span>
          {c.blocking && !c.resolved_at && <span className="ml-2 text-[13px] font-medium text-warning">must be resolved</span>}
        </span>
        {c.resolved_at ? (
          <span className="quiet text-[13px]">resolved by {c.resolved_by}</span>
        ) : c.may_resolve ? (
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            aria-label={`Resolve the comment of ${c.by}`}
            disabled={resolve.isPending}
            onClick={() => resolve.mutate()}
          >
            Resolve
          </button>
        ) : null}
      </div>
      <p className="mt-0.5 whitespace-pre-wrap">{c.text}</p>
      <Failed error={resolve.error} />
    </li>
  );
}

/** The buttons of whoever decides: approve, decline, confirm. */
export function Decide({ r }: { r: Review }) {
  const me = useWho().data?.name;
  const [asking, setAsking] = useState<'approve' | 'decline'>();
  const [note, setNote] = useState('');
  const decide = useWrite(
    (verdict: 'approve' | 'decline') =>
      got(api.POST('/api/v1/changes/{id}/verdicts', { params: { path: { id: r.change.id } }, body: { verdict, note, digest: r.digest ?? '' } })),
    {
      alters: [keys.changes],
      done: (_, verdict) => {
        setAsking(undefined);
        setNote('');
        announce(verdict === 'approve' ? 'You approved the change.' : 'You declined the change.');
      },
    },
  );
  if (r.why_not || !r.digest) return null;
  const mine = r.verdicts.find((v) => v.by === me);
  const approves = mine?.outdated ? 'Confirm your approval' : 'Approve';
  return (
    <>
      {(!mine || mine.outdated || mine.verdict === 'decline') && (
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setAsking('approve')}>
          {approves} …
        </button>
      )}
      {(!mine || mine.verdict === 'approve') && (
        <button type="button" className="btn btn-sm" onClick={() => setAsking('decline')}>
          Decline …
        </button>
      )}
      <Dialog
        open={!!asking}
        onClose={() => setAsking(undefined)}
        title={asking === 'decline' ? `Decline ‘${r.change.title}’?` : `${approves}: ‘${r.change.title}’?`}
      >
        <form
          className="flex flex-col gap-3 text-sm"
          onSubmit={(e) => {
            e.preventDefault();
            if (asking) decide.mutate(asking);
          }}
        >
          <p>
            {asking === 'decline'
              ? 'It cannot be published until you say otherwise, or until it is edited and sent again.'
              : `You approve these ${count(r.change.edits?.length ?? 0, 'edit')} with this impact. When either alters, your approval no longer counts.`}
          </p>
          <Field label={asking === 'decline' ? 'What has to be altered' : 'Note for the record'}>
            <textarea className="textarea textarea-sm w-full" rows={2} required={asking === 'decline'} value={note} onChange={(e) => setNote(e.target.value)} />
          </Field>
          <Failed error={decide.error} />
          <div className="flex justify-end gap-2">
            <button type="button" data-cancel className="btn btn-sm" onClick={() => setAsking(undefined)}>
              Cancel
            </button>
            <button type="submit" className={`btn btn-sm ${asking === 'decline' ? 'btn-warning' : 'btn-primary'}`} disabled={decide.isPending}>
              {asking === 'decline' ? 'Decline' : approves}
            </button>
          </div>
        </form>
      </Dialog>
    </>
  );
}

/** Sends a change for review, or takes it back to be edited. */
export function SendForReview({ r }: { r: Review }) {
  const [asking, setAsking] = useState(false);
  const [names, setNames] = useState('');
  const path = { id: r.change.id };
  const send = useWrite(
    () =>
      got(
        api.POST('/api/v1/changes/{id}/review', {
          params: { path },
          body: { reviewers: names.split(/[\s,]+/).filter(Boolean) },
        }),
      ),
    {
      alters: [keys.changes],
      done: () => {
        setAsking(false);
        announce('The change is in review. It is frozen until somebody decides, or until it is edited.');
      },
    },
  );
  const back = useWrite(() => got(api.DELETE('/api/v1/changes/{id}/review', { params: { path } })), { alters: [keys.changes] });
  if (r.change.state === 'in-review')
    return (
      <>
        <button type="button" className="btn btn-sm" disabled={back.isPending} onClick={() => back.mutate()} title="What was approved is void then">
          Edit again
        </button>
        <Failed error={back.error} />
      </>
    );
  return (
    <>
      <button
        type="button"
        className={`btn btn-sm ${r.approved ? '' : 'btn-primary'}`}
        disabled={!r.change.edits?.length || !!r.faults?.length}
        onClick={() => setAsking(true)}
      >
        Send for review …
      </button>
      <Dialog open={asking} onClose={() => setAsking(false)} title="Send for review">
        <form
          className="flex flex-col gap-3 text-sm"
          onSubmit={(e) => {
            e.preventDefault();
            send.mutate();
          }}
        >
          <p>The change is frozen: an edit makes it open again, and what was approved is void then.</p>
          <Demands r={r} />
          <Field label="Ask" hint="Accounts, separated by commas. Nobody named: whoever may approve.">
            <input className="input input-sm w-full" value={names} onChange={(e) => setNames(e.target.value)} placeholder="whoever may approve" />
          </Field>
          <Failed error={send.error} />
          <div className="flex justify-end gap-2">
            <button type="button" data-cancel className="btn btn-sm" onClick={() => setAsking(false)}>
              Cancel
            </button>
            <button type="submit" className="btn btn-primary btn-sm" disabled={send.isPending}>
              Send for review
            </button>
          </div>
        </form>
      </Dialog>
    </>
  );
}
