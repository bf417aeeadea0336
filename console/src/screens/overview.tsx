// What needs a person: each line leads to the list behind it.
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Overview, Rollout } from '../api/client';
import { useOverview, useQuestions, useRecoveryFindings, useWho } from '../api/queries';
import { useReviews, useRollouts } from '../api/rollouts';
import { findingWords } from './keys/words';
import { lintKey, lintPlace, lintText } from '../ui/lints';
import { QuestionLine } from '../ui/questions';
import { Failed, Loading, Page, Sheet } from '../ui/parts';
import { Arisen } from '../ui/arisen';
import { Progress, StateBar, StateCounts } from '../ui/rollout';
import { count, number, Time, noticeWord } from '../ui/words';

export function OverviewScreen() {
  const { data: o, error } = useOverview();
  // What stands above the rest is there before the rest is shown: nothing moves.
  const above = [useReviews(), useRollouts()];
  const ready = o && above.every((q) => !q.isPending);
  return (
    <Page
      title="Overview"
      lead={
        o
          ? `${count(o.devices, 'laptop')}, ${count(o.people, 'person', 'people')}, ${count(o.policies, 'policy', 'policies')} in ${count(o.units, 'unit')} · revision ${o.revision}, judged as on ${o.day}`
          : ' '
      }
    >
      <Failed error={error ?? above.find((q) => q.error)?.error} />
      {!ready && !error ? <Loading /> : null}
      {ready && <Lists o={o} />}
    </Page>
  );
}

function Lists({ o }: { o: Overview }) {
  return (
    <>
      <ForReview />
      <UnderWay />
      <Delivery o={o} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <div className="flex flex-col gap-4">
          <Needs title="Conflicts to decide" n={o.conflicts.length} to="/conflicts" nothing="No two policies disagree.">
            {o.conflicts.map((c) => (
              <Line key={c.setting + c.policies.join()} to={`/conflicts?setting=${c.setting}`} n={c.device_count}>
                {c.title || c.setting}
                <span className="quiet"> — {c.policies.join(' or ')}</span>
              </Line>
            ))}
          </Needs>
          {o.arisen.length > 0 && (
            <Needs title="Conflicts that arose without an edit" n={o.arisen.length} to="/conflicts" nothing="">
              {o.arisen.slice(0, 6).map((e) => (
                <Arisen key={`${e.revision} ${e.setting} ${e.policies.join()}`} of={e} />
              ))}
            </Needs>
          )}
          {o.below.length > 0 && (
            <Needs title="Baselines below their line" n={o.below.length} to="/baselines" nothing="">
              {o.below.map((b) => (
                <Line key={b.id} to={`/baselines/${b.id}`} n={b.count.differs}>
                  {b.title || b.id}
                  <span className="quiet">
                    {' '}
                    — {b.count.percent} % of {count(b.count.laptops, 'laptop')} comply, the line is {b.alert_below} %
                  </span>
                </Line>
              ))}
            </Needs>
          )}
          <RecoveryNeeds />
          {o.fights.length > 0 && (
            <Needs title="Settings that another program sets, too" n={o.fights.length} to="/drift" nothing="">
              {o.fights.map((f) => (
                <Line key={f.setting} to={`/drift?setting=${f.setting}`} n={f.devices.length}>
                  {f.title || f.setting}
                  <span className="quiet"> — put right {count(f.times, 'time')} within a day</span>
                </Line>
              ))}
            </Needs>
          )}
          <Needs
            title="Settings that laptops refused or report otherwise"
            n={o.statuses.failed}
            to="/devices?state=failed"
            nothing="Every setting that was sent is in force."
          >
            {o.failed.slice(0, 7).map((f) => (
              <Line
                key={f.setting + f.code + f.reason}
                to={f.devices.length === 1 ? `/devices/${f.devices[0]}` : '/devices?state=failed&sort=-failed'}
                n={f.devices.length}
              >
                <span className="id">{f.setting}</span>
                <span className="quiet"> — {f.reason}</span>
              </Line>
            ))}
          </Needs>
        </div>
        <div className="flex flex-col gap-4">
          <AskedOfMe />
          <Needs
            title="Problems: each setting is right alone, wrong together"
            n={o.problems.length}
            to="/conflicts#problems"
            nothing="No check finds anything."
          >
            {o.problems.map((p) => (
              <Line key={p.check + p.from.join()} to={`/conflicts?check=${p.check}#problems`} n={p.device_count}>
                {p.message}
                <span className="quiet"> — {p.from.join(', ')}</span>
              </Line>
            ))}
          </Needs>
          <Needs title="Open changes" n={o.changes.length} to="/changes" nothing="Nothing is being edited. Editing a policy opens a change.">
            {o.changes.map((c) => (
              <li key={c.id}>
                <Link to={`/changes/${c.id}`} className="flex items-baseline justify-between gap-x-4 px-4 py-1.5 max-sm:flex-wrap text-sm hover:bg-base-200">
                  <span>
                    {c.title} <span className="quiet">— {c.created_by}</span>
                  </span>
                  <span className="quiet text-[13px]">
                    <Time at={c.updated_at} />
                  </span>
                </Link>
              </li>
            ))}
          </Needs>
          <Needs title="Exceptions about to lapse" n={o.lapsing.length} to="/exceptions" nothing="None ends within two weeks.">
            {o.lapsing.map((x) => (
              <li key={x.id} className="px-4 py-1.5 text-sm">
                <LapsingLine of={x} />
                <span className="quiet"> — {x.reason}</span>
              </li>
            ))}
          </Needs>
          <Needs
            title="People and laptops"
            n={o.asked + o.left + o.waiting.length + o.failed_runs.length + o.missed + o.detach_due.length}
            to="/sources"
            nothing="No source, request or place waits for anybody."
          >
            {o.asked > 0 && (
              <Line key="asked" to="/exceptions">
                {count(o.asked, 'exception is', 'exceptions are')} asked for
              </Line>
            )}
            {o.waiting.map((id) => (
              <Line key={id} to={`/sources/${id}`}>
                A reading of {id} waits to be looked at
              </Line>
            ))}
            {o.failed_runs.map((id) => (
              <Line key={`failed ${id}`} to={`/sources/${id}`}>
                The last reading of {id} failed
              </Line>
            ))}
            {o.left > 0 && (
              <Line key="left" to="/sources">
                {number(o.left)} left their source and are still here
              </Line>
            )}
            {o.detach_due.map((p) => (
              <Line key={`detach ${p.place}`} to="/units" n={p.devices}>
                Review what {p.title || p.place} detaches
                <span className="quiet"> — {p.due.map((d) => `${d.what}, due on ${d.review_on}`).join('; ')}</span>
              </Line>
            ))}
            {o.missed > 0 && (
              <Line key="missed" to="/units">
                {count(o.missed, 'entry was', 'entries were')} missed where something is detached
              </Line>
            )}
          </Needs>
          <Needs title="Policies and entries that do nothing" n={o.lints.length} to="/conflicts#no-effect" nothing="Every entry does something.">
            {o.lints.map((l) => (
              <Line key={lintKey(l)} to={lintPlace(l)} n={l.devices || undefined}>
                {lintText(l)}
              </Line>
            ))}
          </Needs>
        </div>
      </div>
    </>
  );
}

const waitsFor: Record<string, { word: string; tone: string }> = {
  approval: { word: 'waits for your approval', tone: 'text-warning' },
  outdated: { word: 'its impact differs since you approved it', tone: 'text-warning' },
  urgent: { word: 'was published urgently: approvals must follow', tone: 'text-warning' },
  publish: { word: 'is approved and can be published', tone: 'text-info' },
  other: { word: 'waits for somebody else', tone: 'quiet' },
};

/** Changes in review, those that wait for the reader first. */
function ForReview() {
  const list = useReviews().data ?? [];
  if (list.length === 0) return null;
  const mine = list.filter((r) => r.for !== 'other').length;
  return (
    <Sheet title="In review" aside={mine > 0 ? `${number(mine)} for you` : undefined}>
      <ul className="py-1.5">
        {list.map((r) => (
          <li key={r.change}>
            <Link to={`/changes/${r.change}`} className="flex items-baseline justify-between gap-x-4 px-4 py-1.5 text-sm hover:bg-base-200 max-sm:flex-wrap">
              <span>
                <span className="font-medium">{r.title}</span> <span className={waitsFor[r.for]?.tone}>{waitsFor[r.for]?.word}</span>
              </span>
              <span className="quiet text-[13px]">
                {r.sent_by} <Time at={r.sent_at} />
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** Rollouts under way, those that need a person first. */
function UnderWay() {
  const list = (useRollouts().data ?? []).filter((r) => !r.ended_at);
  if (list.length === 0) return null;
  const needs = (r: Rollout) => r.progress === 'stopped' || r.ready;
  return (
    <Sheet
      title="Rollouts under way"
      aside={
        <Link to="/rollouts" className="font-semibold hover:underline" aria-label={`All ${list.length} rollouts under way`}>
          {number(list.length)}
        </Link>
      }
    >
      <ul className="py-1.5">
        {[...list]
          .sort((a, b) => Number(needs(b)) - Number(needs(a)))
          .map((r) => (
            <li key={r.id}>
              <Link
                to={`/rollouts/${r.id}`}
                className="grid grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)_minmax(0,1.2fr)] items-center gap-4 px-4 py-1.5 text-sm hover:bg-base-200"
              >
                <span className="min-w-0 truncate">
                  <span className="font-medium">{r.title}</span> <Progress of={r} />
                </span>
                <StateBar counts={r.counts} laptops={r.laptops} height="h-2.5" />
                <StateCounts counts={r.counts} />
              </Link>
            </li>
          ))}
      </ul>
    </Sheet>
  );
}

/** Questions about conflicts and problems to whoever is signed in. */
function AskedOfMe() {
  const name = useWho().data?.name;
  const mine = (useQuestions('open').data ?? []).filter((q) => q.current && q.of.includes(name ?? ''));
  if (mine.length === 0) return null;
  return (
    <Sheet title="Questions to you" aside={count(mine.length, 'question')}>
      <ul className="flex flex-col gap-2 px-4 py-3">
        {mine.map((q) => (
          <QuestionLine key={q.id} q={q} about />
        ))}
      </ul>
    </Sheet>
  );
}

const shares = [
  ['applied', 'in force', 'bg-success', '/devices'],
  ['pending', 'pending', 'bg-info', '/devices?state=pending'],
  ['failed', 'failed', 'bg-error', '/devices?state=failed'],
  ['drifted', 'altered on the laptop', 'bg-secondary', '/drift'],
  ['conflict', 'in a conflict', 'bg-warning', '/devices?state=conflict'],
  ['unsupported', 'not supported', 'bg-base-300', '/devices'],
] as const;

/** How far what is wanted has come, over all laptops and settings. */
function Delivery({ o }: { o: Overview }) {
  const total = shares.reduce((sum, [key]) => sum + o.statuses[key], 0);
  return (
    <Sheet
      title="On the laptops"
      aside={
        <>
          {count(total, 'setting')} wanted on {count(o.devices, 'laptop')}
        </>
      }
    >
      <div className="flex flex-col gap-3 px-4 py-3">
        <div className="flex h-3 gap-px overflow-hidden rounded" aria-hidden>
          {shares.map(([key, , tone]) =>
            o.statuses[key] ? <div key={key} className={tone} style={{ width: `${(100 * o.statuses[key]) / Math.max(1, total)}%` }} /> : null,
          )}
        </div>
        <div className="flex flex-wrap gap-x-6 gap-y-1 text-sm">
          {shares.map(([key, word, tone, to]) => (
            <Link key={key} to={to} className="flex items-center gap-1.5 hover:underline">
              <span className={`h-2.5 w-2.5 rounded-sm ${tone}`} aria-hidden />
              <strong className="tabular-nums">{number(o.statuses[key])}</strong> {word}
            </Link>
          ))}
          <span className="flex-1" />
          <Link to="/devices?state=silent" className={`hover:underline ${o.silent ? 'text-warning' : 'quiet'}`}>
            <strong className="tabular-nums">{number(o.silent)}</strong> silent
          </Link>
          <Link to="/devices?state=never-seen" className={`hover:underline ${o.never_seen ? 'text-warning' : 'quiet'}`}>
            <strong className="tabular-nums">{number(o.never_seen)}</strong> never seen
          </Link>
        </div>
        {o.prediction.judged > 0 && (
          <p className="text-sm">
            <strong className="tabular-nums">{o.prediction.percent} %</strong> of the {count(o.prediction.judged, 'setting')} that laptops reported are as
            predicted before publishing.
          </p>
        )}
        {o.publications[0] && (
          <p className="quiet text-[13px]">
            Published last: ‘{o.publications[0].title}’ by {o.publications[0].by}, <Time at={o.publications[0].at} />
          </p>
        )}
      </div>
    </Sheet>
  );
}

function Needs({ title, n, to, nothing, children }: { title: string; n: number; to: string; nothing: string; children: ReactNode[] }) {
  return (
    <Sheet
      title={title}
      aside={
        n > 0 ? (
          <Link to={to} className="font-semibold hover:underline" aria-label={`${title}: all ${n}`}>
            {number(n)}
          </Link>
        ) : undefined
      }
    >
      {n === 0 ? <p className="quiet px-4 py-3 text-sm">{nothing}</p> : <ul className="py-1.5">{children}</ul>}
    </Sheet>
  );
}

function Line({ to, n, children }: { to: string; n?: number; children: ReactNode }) {
  return (
    <li>
      <Link to={to} className="flex items-baseline justify-between gap-x-4 px-4 py-1.5 max-sm:flex-wrap text-sm hover:bg-base-200">
        <span className="min-w-0">{children}</span>
        {n !== undefined && <span className="quiet shrink-0 text-[13px] tabular-nums">{count(n, 'laptop')}</span>}
      </Link>
    </li>
  );
}

/** An exception that lapses soon. */
function LapsingLine({ of }: { of: { id: string; setting: string; target: string; days: number; notice: string } }) {
  return (
    <Link to="/exceptions" className={`hover:underline ${of.notice === 'now' ? 'font-semibold text-error' : 'text-warning'}`}>
      {of.id}: {of.setting} for {of.target} {noticeWord(of.days)}
    </Link>
  );
}

/** What has to be looked at about encryption and recovery keys. */
function RecoveryNeeds() {
  const list = useRecoveryFindings().data ?? [];
  if (list.length === 0) return null;
  return (
    <Needs title="Encryption and recovery keys" n={list.length} to="/coverage" nothing="">
      {list.map((f) => (
        <Line key={f.code + (f.what ?? '')} to="/coverage" n={f.laptops}>
          {count(f.laptops, 'laptop')} {findingWords[f.code]}
          {f.what && <span className="quiet break-all"> — {[f.what, f.day].filter(Boolean).join(', by ')}</span>}
        </Line>
      ))}
    </Needs>
  );
}
