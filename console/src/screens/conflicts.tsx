// What does not fit together: conflicts, gathered where the same policies conflict on several settings; problems, where settings are right
// alone and wrong together; and what does nothing. Each is settled here, with its effect shown before it is kept.
import { useEffect, useState } from 'react';
import { Link, useLocation, useSearchParams } from 'react-router';
import type { Conflict, FoundProblem, InvolvedPolicy, Question } from '../api/client';
import { useConflicts, useOverview, useProblems, useTouched, useMay, type Disagreement } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { lintKey, lintPlace, lintText } from '../ui/lints';
import { Empty, Failed, Loading, Page, Sheet } from '../ui/parts';
import { AskOwners, Questions } from '../ui/questions';
import { DeviceLinks } from '../ui/reach';
import { count, number, Time, ValueText } from '../ui/words';
import { Closer, Ways, type About, type Choice } from './ways';

export function ConflictsScreen() {
  const open = useOpenChange();
  const [params, setParams] = useSearchParams();
  const only = params.get('setting');
  const check = params.get('check');
  const list = useConflicts(open.id);
  const { hash } = useLocation();
  const problems = useProblems(open.id);
  const overview = useOverview();
  const loaded = ![list, problems, overview].some((q) => q.isPending); // all lists come at once: none is moved down by another
  useEffect(() => {
    // What a link names is there only after the lists have come.
    if (loaded && hash) document.getElementById(hash.slice(1))?.scrollIntoView();
  }, [loaded, hash]);
  const groups = [...Map.groupBy(list.data ?? [], (c) => c.policies.join(' ')).values()].filter((g) => !only || g.some((c) => c.setting === only));
  return (
    <Page
      title="Conflicts"
      lead={
        open.change
          ? `As they would be with ‘${open.change.title}’`
          : 'What policies disagree about. A conflict has no value: laptops keep what they have until somebody decides.'
      }
    >
      <Failed error={list.error} />
      {!loaded && <Loading />}
      {(only || check) && (
        <p className="text-sm">
          Only <span className="id">{only || check}</span>.{' '}
          <button type="button" className="link" onClick={() => setParams({})}>
            Show all
          </button>
        </p>
      )}
      {loaded && list.data && groups.length === 0 && !check && (
        <div className="sheet">
          <Empty
            action={
              open.id ? (
                <Link to={`/changes/${open.id}`} className="btn btn-sm">
                  Look at the open change
                </Link>
              ) : undefined
            }
          >
            {only ? 'No conflict about this setting.' : 'No two policies disagree about anything.'}
          </Empty>
        </div>
      )}
      {loaded && !check && groups.map((g) => <Clashing key={g[0]!.policies.join()} list={g} />)}
      {loaded && !only && <Problems only={check} />}
      {loaded && !only && !check && <Idle />}
    </Page>
  );
}

function Problems({ only }: { only: string | null }) {
  const open = useOpenChange();
  const problems = useProblems(open.id);
  const shown = (problems.data ?? []).filter((p) => !only || p.check === only);
  return (
    <>
      <h2 id="problems" className="mt-3 text-lg font-semibold tracking-tight">
        Problems
      </h2>
      <Failed error={problems.error} />
      {problems.data && shown.length === 0 && (
        <div className="sheet">
          <Empty>{only ? 'This check finds nothing wrong any more.' : 'No check finds anything wrong on any laptop.'}</Empty>
        </div>
      )}
      {shown.map((p) => (
        <Wrong key={p.check + p.from.join()} p={p} />
      ))}
    </>
  );
}

function Idle() {
  const lints = useOverview().data?.lints ?? [];
  return (
    <>
      <h2 id="no-effect" className="mt-3 text-lg font-semibold tracking-tight">
        Does nothing
      </h2>
      <div className="sheet">
        {lints.length === 0 ? (
          <Empty>Every entry, policy and group that is live does something.</Empty>
        ) : (
          <ul className="divide-y divide-base-300/60">
            {lints.map((l) => (
              <li key={lintKey(l)}>
                <Link to={lintPlace(l)} className="flex items-baseline justify-between gap-4 px-4 py-1.5 text-sm hover:bg-base-200">
                  <span>{lintText(l)}</span>
                  {l.devices ? <span className="quiet text-[13px] tabular-nums">{count(l.devices, 'laptop')}</span> : null}
                </Link>
              </li>
            ))}
          </ul>
        )}
      </div>
    </>
  );
}

const namesOf = (involved: InvolvedPolicy[]) => Object.fromEntries(involved.map((p) => [p.policy, p.title || p.policy]));

/** Conflicts of the same policies: they have the same cause, and are settled together or one by one. */
function Clashing({ list }: { list: Conflict[] }) {
  const first = list[0]!;
  const involved = first.involved ?? [];
  const several = list.length > 1;
  const mayWrite = useMay('write');
  const [choice, setChoice] = useState<{ about: About; way: Choice }>();
  const names = namesOf(involved);
  const title = several ? `${involved.map((p) => p.title || p.policy).join(' and ')} on ${list.length} settings` : first.title || first.setting;
  const about: About = { of: { setting: list.map((c) => c.setting), policies: first.policies }, title, names };
  const settleable = list.every((c) => c.settleable);
  return (
    <Sheet title={title} aside={several ? 'the same policies conflict' : <span className="id">{first.setting}</span>}>
      <div className="flex flex-col gap-3 px-4 py-3">
        {!several && first.help && <p className="quiet max-w-prose text-sm">{first.help}</p>}
        <div className="grid gap-3 md:grid-cols-2 xl:grid-cols-3">
          {involved.map((p) => (
            <Involved key={p.policy} p={p} level={first.values.find((v) => v.policy === p.policy)}>
              {!several && <Entry of={p} setting={first.setting} />}
              {mayWrite && settleable && (
                <button type="button" className="btn btn-sm self-start" onClick={() => setChoice({ about, way: { kind: 'prefer', policy: p.policy } })}>
                  {several ? `Use this value for all ${list.length}` : 'Use this value'}
                </button>
              )}
            </Involved>
          ))}
        </div>
        {several && (
          <SettingsTable
            list={list}
            onChoose={
              mayWrite
                ? (c, policy) =>
                    setChoice({
                      about: { of: { setting: [c.setting], policies: c.policies }, title: c.title || c.setting, names },
                      way: { kind: 'prefer', policy },
                    })
                : undefined
            }
          />
        )}
        {!several && first.since && <Since of={first.since} />}
        {!settleable && (
          <p className="text-sm text-warning">
            {several ? 'Where lists' : 'The lists'} have nothing in common, nothing would be allowed. No ruling settles that: alter one of the lists.
          </p>
        )}
        {mayWrite && <Ways about={about} onChoose={(way) => setChoice({ about, way })} />}
        <Asking
          of={{ setting: [first.setting], policies: first.policies }}
          title={first.title || first.setting}
          involved={involved}
          list={list.flatMap((c) => c.questions ?? [])}
        />
        <Touched of={about.of} n={several ? undefined : first.device_count} units={several ? [] : (first.units ?? [])} />
      </div>
      {choice && <Closer about={choice.about} choice={choice.way} onClose={() => setChoice(undefined)} />}
    </Sheet>
  );
}

/** A problem with the policies that it comes from, and ways to make it right. */
function Wrong({ p }: { p: FoundProblem }) {
  const involved = p.involved ?? [];
  const mayWrite = useMay('write');
  const [choice, setChoice] = useState<Choice>();
  const about: About = { of: { check: p.check, policies: p.from }, title: p.message, names: namesOf(involved) };
  return (
    <Sheet title={p.message} aside={count(p.device_count, 'laptop')}>
      <div className="flex flex-col gap-3 px-4 py-3 text-sm">
        <div className="grid gap-3 md:grid-cols-2 xl:grid-cols-3">
          {involved.map((i) => (
            <Involved key={i.policy} p={i}>
              {i.entries.map((e) => (
                <Entry key={e.setting} of={i} setting={e.setting} named />
              ))}
            </Involved>
          ))}
        </div>
        {p.from.length > involved.length && (
          <p>
            <span className="quiet">Also from</span> {p.from.filter((id) => !involved.some((i) => i.policy === id)).join(', ')},{' '}
            <Link className="link" to="/exceptions">
              exceptions
            </Link>
          </p>
        )}
        {involved.length === 0 && p.from.length === 0 && (
          <p className="quiet">It comes from no policy: {p.settings.join(', ')} are as laptops have them by themselves.</p>
        )}
        {mayWrite && involved.length > 0 && <Ways about={about} onChoose={setChoice} />}
        <Asking of={about.of} title={p.message} involved={involved} list={p.questions ?? []} />
        <Touched of={about.of} n={p.device_count} units={p.units ?? []} />
      </div>
      {choice && <Closer about={about} choice={choice} onClose={() => setChoice(undefined)} />}
    </Sheet>
  );
}

/** A policy that is part of it: what it says, why, for whom, and who answers for it. */
function Involved({ p, level, children }: { p: InvolvedPolicy; level?: { level: string; priority: number; locked: boolean }; children: React.ReactNode }) {
  const a = p.audience;
  return (
    <div className="flex flex-col gap-2 rounded border border-base-300 p-3 text-sm">
      <Link to={`/policies/${p.policy}`} className="link link-hover font-medium">
        {p.title || p.policy}
      </Link>
      {children}
      <dl className="quiet grid grid-cols-[4.5rem_1fr] gap-x-2 gap-y-0.5 text-[13px]">
        <dt>Why</dt>
        <dd>{p.why || 'nobody wrote it down'}</dd>
        <dt>For</dt>
        <dd>
          {(a.include ?? []).join(', ') || 'nobody'}
          {a.exclude?.length ? `, not ${a.exclude.join(', ')}` : ''}
          {a.when ? (
            <>
              , when <span className="id">{a.when}</span>
            </>
          ) : null}
          ; {count(p.devices, 'laptop')}
        </dd>
        <dt>Owner</dt>
        <dd>{p.owner || 'nobody'}</dd>
        {level && (
          <>
            <dt>Level</dt>
            <dd>
              {level.level}, priority {level.priority}
              {level.locked ? ', locked' : ''}
            </dd>
          </>
        )}
      </dl>
    </div>
  );
}

function Entry({ of, setting, named = false }: { of: InvolvedPolicy; setting: string; named?: boolean }) {
  const e = of.entries.find((x) => x.setting === setting);
  if (!e) return null;
  return (
    <div>
      {named && (
        <div className="text-[13px]">
          {e.title || e.setting} <span className="id quiet">{e.setting}</span>
        </div>
      )}
      <ValueText of={e.value} className="text-[15px] font-semibold" />
      {e.note && <div className="quiet text-[13px]">‘{e.note}’</div>}
    </div>
  );
}

/** The settings on which the same policies conflict, with each one's value. */
function SettingsTable({ list, onChoose }: { list: Conflict[]; onChoose?: (c: Conflict, policy: string) => void }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm">
        <caption className="sr-only">Values by policy</caption>
        <thead>
          <tr>
            <th scope="col">Setting</th>
            {list[0]!.policies.map((p) => (
              <th scope="col" key={p} className="id">
                {p}
              </th>
            ))}
            <th scope="col" className="text-right">
              Laptops
            </th>
            <th scope="col">Since</th>
          </tr>
        </thead>
        <tbody>
          {list.map((c) => (
            <tr key={c.setting}>
              <th scope="row">
                <Link className="link-hover link" to={`/dictionary/${c.setting}`} title={c.help}>
                  {c.title || c.setting}
                </Link>
              </th>
              {c.policies.map((p) => (
                <td key={p}>
                  <ValueText of={c.values.find((v) => v.policy === p)?.value} />
                  {onChoose && c.settleable && (
                    <button
                      type="button"
                      aria-label={`Prefer ${p} for ${c.title || c.setting}`}
                      className="btn btn-ghost btn-xs ml-1"
                      onClick={() => onChoose(c, p)}
                    >
                      Prefer
                    </button>
                  )}
                </td>
              ))}
              <td className="text-right tabular-nums">{number(c.device_count)}</td>
              <td>{c.since ? <Time at={c.since.at} /> : <span className="quiet">not known</span>}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Since({ of }: { of: NonNullable<Conflict['since']> }) {
  return (
    <p className="quiet text-[13px]">
      Since <Time at={of.at} />, by{' '}
      {of.change ? (
        <Link className="link" to={`/changes/${of.change}`}>
          {of.title}
        </Link>
      ) : (
        of.title
      )}{' '}
      ({of.by})
    </p>
  );
}

/** What was asked of the owners, and asking. */
function Asking({ of, title, involved, list }: { of: Disagreement; title: string; involved: InvolvedPolicy[]; list: Question[] }) {
  const [asking, setAsking] = useState(false);
  const { id: change } = useOpenChange();
  const mayWrite = useMay('write');
  return (
    <>
      <Questions list={list} />
      {mayWrite && !change && involved.length > 0 && (
        <button type="button" className="btn btn-sm self-start" onClick={() => setAsking(true)}>
          Ask the owners …
        </button>
      )}
      {asking && <AskOwners of={of} title={title} involved={involved} onClose={() => setAsking(false)} />}
    </>
  );
}

/** The laptops: where they are, in which groups, and by name. */
function Touched({ of, n, units }: { of: Disagreement; n?: number; units: { unit: string; title?: string; devices: number }[] }) {
  const [open, setOpen] = useState(false);
  const { change } = useOpenChange();
  const touched = useTouched(of, change, open);
  const t = touched.data;
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer text-sm">
        {n === undefined ? 'Which laptops' : `Touches ${count(n, 'laptop')}`}
        {units.length > 0 && <span className="quiet">: {units.map((u) => `${u.title || u.unit} ${number(u.devices)}`).join(', ')}</span>}
      </summary>
      <Failed error={touched.error} />
      {open && touched.isPending && <Loading rows={2} />}
      {t && (
        <div className="mt-2 flex flex-col gap-2 text-sm">
          <p>
            <span className="quiet">In units</span> {t.units.map((u) => `${u.title || u.unit} ${number(u.devices)}`).join(', ')}
          </p>
          <p>
            <span className="quiet">In groups</span>{' '}
            {t.groups.length === 0
              ? 'none'
              : t.groups.map((g, i) => (
                  <span key={g.group}>
                    {i > 0 && ', '}
                    <Link className="link-hover link" to={`/groups/${g.group}`}>
                      {g.title || g.group}
                    </Link>{' '}
                    {number(g.devices)}
                  </span>
                ))}
          </p>
          <DeviceLinks ids={t.devices.slice(0, 60)} more={t.devices.length - Math.min(60, t.devices.length)} />
        </div>
      )}
    </details>
  );
}
