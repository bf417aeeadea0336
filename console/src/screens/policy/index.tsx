// A policy: its settings, who gets it, and what it will do, while it is typed.
import { replaceEqualDeep } from '@tanstack/react-query';
import { memo, useEffect, useMemo, useRef, useState } from 'react';
import { Link, Navigate, useNavigate, useParams } from 'react-router';
import { type Change, type Fault, type PolicyDoc, isPolicy } from '../../api/client';
import { useAreas, useDictionary, useExceptions, useLivePolicy, usePolicyUse, useRetirement, useMay, useScope } from '../../api/queries';
import { useAnnounced } from '../../ui/announce';
import { useOpenChange } from '../../ui/change';
import { Findings as Gained, ImpactPanel } from '../../ui/impact';
import { Dialog, Empty, Failed, Faults, Id, Loading, Page, Sheet } from '../../ui/parts';
import { ReachBar } from '../../ui/reach';
import { count, noticeWord, number, Status } from '../../ui/words';
import { About, AudienceSheet } from './audience';
import { WhoMay } from '../access/whomay';
import { MergeConflicts } from './conflicts';
import { same } from './entry';
import { forgetTyped, useSaving, type Saving } from './saving';
import { FindingsSheet } from './findings';
import { useAudienceReach } from './reach';
import { Settings } from './settings';

/** Begins the id of the policy that puts right what a baseline wants. Every other policy overrides it. */
const baselineMark = 'baseline:';

export function PolicyScreen() {
  const { id = '' } = useParams();
  return id.startsWith(baselineMark) ? <Navigate to={`/baselines/${id.slice(baselineMark.length)}`} replace /> : <LivePolicy id={id} />;
}

function LivePolicy({ id }: { id: string }) {
  const { id: openID, change } = useOpenChange();
  const edit = change?.edits?.find((e) => e.kind === 'policies' && e.id === id);
  const live = useLivePolicy(id, (!openID || !!change) && edit?.action !== 'create');
  const body = edit?.action === 'retire' ? live.data?.body : isPolicy(edit?.body) ? edit.body : live.data?.body;
  if (!body)
    return (
      <Page title={<Id>{id}</Id>}>
        {live.isPending ? <Loading /> : <Failed error={live.error} />}
        {live.isError && (
          <Empty
            action={
              <Link className="btn btn-sm" to="/policies">
                To the policies
              </Link>
            }
          >
            It may be part of a change that is not open here.
          </Empty>
        )}
      </Page>
    );
  return <Editor key={id} id={id} start={body} editVersion={edit?.version} retiring={edit?.action === 'retire'} live={live.data?.version} />;
}

/** A value with those parts of the one before it that are equal: what shows them is not rendered again. */
function useShared<T>(value: T): T {
  const last = useRef(value);
  last.current = useMemo(() => replaceEqualDeep(last.current, value), [value]);
  return last.current;
}

const noFaults: Fault[] = [];

/** A policy as it was when one of some parts of it altered last. */
function useParts(doc: PolicyDoc, parts: unknown[]): PolicyDoc {
  return useMemo(() => doc, parts); // eslint-disable-line react-hooks/exhaustive-deps
}

function Editor({ id, start, editVersion, retiring, live }: { id: string; start: PolicyDoc; editVersion?: number; retiring: boolean; live?: number }) {
  const open = useOpenChange();
  const scope = useScope('write');
  const outside = useMay('write') && live !== undefined && !scope.has(start.within); // somebody else's, for whoever writes for a unit alone
  const reader = !useMay('write') || outside;
  const { doc, alter, take, choose, decide, trial, saving, isDirty, late, complete } = useSaving(start, editVersion);
  const stored = usePolicyUse(id, open.change, !trial && (!open.id || !!open.change));
  const use = useShared(trial?.use ?? (saving.state === 'faults' ? undefined : stored.data));
  const faults = useShared(trial?.faults ?? noFaults);
  const impact = useShared((open.change?.version ?? 0) <= (trial?.version ?? 0) ? trial?.impact : undefined /* a colleague went on in the change */);
  const said = new Set(use?.findings.map((f) => f.check));
  const problems = use?.problems.filter((p) => !said.has(p.check)) ?? []; // what is wrong in this policy alone is shown at its settings
  const areas = useAreas().data ?? [];
  // The page is shown as a whole: nothing of it moves because something else has come.
  const definitions = useDictionary(open.change);
  const dictionary = useMemo(() => new Map((definitions.data ?? []).map((d) => [d.id, d])), [definitions.data]);
  // What is shown of a part of the policy is rendered again only when that part is another: a key in one field costs nothing elsewhere.
  const forAudience = useParts(doc, [
    doc.id,
    doc.title,
    doc.kind,
    doc.platforms,
    doc.offered,
    doc.on_drift,
    doc.within,
    doc.audience,
    Object.keys(doc.settings).join(),
  ]);
  const forSettings = useParts(doc, [doc.id, doc.platforms, doc.settings]);
  const forAbout = useParts(doc, [doc.id, doc.title, doc.why, doc.priority, doc.state, doc.offered, doc.on_drift, doc.platforms]);
  const forFindings = useParts(doc, [doc.id, doc.title, doc.labels, doc.settings]);
  const asked = useMemo(() => ({ change: open.id, version: open.change?.version, edits: [] }), [open.id, open.change?.version]);
  const reach = useAudienceReach(forAudience);
  const shown = useRef(false);
  shown.current ||= !definitions.isPending && !reach.isPending && (!!use || faults.length > 0 || stored.isError);
  const locked = reader || retiring;
  const latest = useRef(doc);
  latest.current = doc;
  // When a colleague saves this policy, and nothing is typed here that is not kept, theirs is shown.
  useEffect(() => {
    if (!isDirty() && !late(editVersion) && !same(start, complete(latest.current))) take(start, editVersion);
  }, [editVersion, start, isDirty, late, take, complete]);
  return (
    <Page
      title={doc.title || doc.id}
      lead={
        <>
          <Id copy>{doc.id}</Id> · {doc.offered && 'offered · '}
          {doc.kind} · <Status of={retiring ? 'retired' : (doc.state ?? 'active')} /> · {live ? `version ${live} is live` : 'not live yet'}
        </>
      }
      actions={<Actions id={id} doc={doc} live={live} retiring={retiring} edited={editVersion !== undefined} saving={saving} reader={reader} />}
    >
      {!shown.current && <Loading rows={12} />}
      {saving.state === 'conflicts' && <MergeConflicts merged={saving.merged} theirs={start} onChosen={(chosen) => choose(chosen, start)} />}
      {saving.state === 'refused' && <Failed error={saving.error} />}
      {saving.state === 'which change' && open.change && <WhichChange change={open.change} title={doc.title || id} decide={decide} />}
      {outside && (
        <p className="rounded border border-info/50 bg-info/5 px-4 py-2 text-sm">
          You write for {scope.titles.join(', ')} alone, and this policy is not bound to it. You can{' '}
          <Link className="link" to={`/policies/new?like=${encodeURIComponent(id)}`}>
            copy it
          </Link>
          : your copy will be.
        </p>
      )}
      {retiring && (
        <p className="rounded border border-warning/60 bg-warning/8 px-4 py-2 text-sm">The open change retires this policy. Undo the retirement to edit it.</p>
      )}
      <div className={`grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_23rem] ${shown.current ? '' : 'hidden'}`}>
        <div className="flex min-w-0 flex-col gap-4">
          <Settings doc={forSettings} alter={alter} dictionary={dictionary} areas={areas} use={use} faults={faults} locked={locked} />
          <AudienceSheet doc={forAudience} alter={alter} faults={faults} locked={locked} />
          <About doc={forAbout} alter={alter} locked={locked} />
          <Departures doc={forSettings} />
        </div>
        <div className="flex min-w-0 flex-col gap-4 xl:sticky xl:top-4">
          {faults.length > 0 && (
            <div role="alert" className="rounded border border-error/50 bg-error/5 px-4 py-3 text-sm">
              <p className="font-medium text-error">Not saved yet: {count(faults.length, 'fault')}</p>
              <Faults list={faults.map((f) => ({ ...f, path: f.path?.replace(`/policies/${id}`, '') }))} />
            </div>
          )}
          {use && <FindingsSheet doc={forFindings} alter={alter} findings={use.findings} locked={locked} isDirty={isDirty} />}
          <Sheet title="Who gets it">
            {use ? (
              <div className="px-4 py-3">
                <ReachBar of={use.reach} />
              </div>
            ) : (
              <div className="px-4 py-3">
                {faults.length > 0 ? <p className="quiet text-sm">Counted again when nothing is wrong any more.</p> : <Loading rows={2} />}
              </div>
            )}
          </Sheet>
          {use && problems.length > 0 && (
            <Sheet title="Wrong together with others">
              <ul className="flex flex-col gap-2 px-4 py-3 text-sm">
                {problems.map((p) => (
                  <li key={p.check + p.from.join()}>
                    <span className="text-warning">{p.message}</span>
                    <span className="quiet">
                      {' '}
                      — {p.from.join(', ')}, on {count(p.device_count, 'laptop')}
                    </span>
                  </li>
                ))}
              </ul>
            </Sheet>
          )}
          {(trial?.impact || open.id) && !retiring && (
            <ImpactPanel
              title={!open.id ? 'What comes of it' : faults.length > 0 ? 'What the open change does, without this' : 'What the open change does, with this'}
              asked={asked}
              known={impact}
            />
          )}
        </div>
      </div>
    </Page>
  );
}

/** Asks where an edit belongs while the open change is about something else. What is typed goes on being tried meanwhile. */
function WhichChange({ change, title, decide }: { change: Change; title: string; decide: (how: 'this' | 'all' | 'new') => void }) {
  const sentence = `Not saved yet. ‘${change.title}’ is open, and has no edit of ${title}. Which change does this edit go into?`;
  useAnnounced(sentence);
  return (
    <section aria-label="Which change" className="flex flex-wrap items-center gap-2 rounded border border-warning/60 bg-warning/8 px-4 py-2 text-sm">
      <p className="min-w-72 flex-1">{sentence}</p>
      <button type="button" className="btn btn-sm" onClick={() => decide('new')}>
        Begin a new change
      </button>
      <button type="button" className="btn btn-sm" onClick={() => decide('this')}>
        Put it into ‘{change.title}’
      </button>
      <button
        type="button"
        className="btn btn-ghost btn-sm"
        onClick={() => decide('all')}
        title="Edits of other objects go into it, too, without being asked about"
      >
        Put all edits there
      </button>
    </section>
  );
}

const savingWords = {
  'as stored': '',
  checking: 'Checking …',
  saved: 'Saved in the open change',
  merged: 'Merged with what a colleague saved',
  conflicts: 'Not saved: choose below',
  faults: 'Not saved: it has faults',
  'which change': 'Not saved: say in which change',
  refused: 'Not saved',
};

function Actions({
  id,
  doc,
  live,
  retiring,
  edited,
  saving,
  reader,
}: {
  id: string;
  doc: PolicyDoc;
  live?: number;
  retiring: boolean;
  edited: boolean;
  saving: Saving;
  reader: boolean;
}) {
  const open = useOpenChange();
  const go = useNavigate();
  const [asking, setAsking] = useState(false);
  const [error, setError] = useState<unknown>();
  const reach = usePolicyUse(id, undefined, asking).data?.reach;
  const effect = useRetirement(id, open.change, asking).data?.impact;
  const pages = (
    <>
      <Link className="btn btn-ghost btn-sm" to={`/policies/${id}/summary`}>
        Summary
      </Link>
      {live && (
        <Link className="btn btn-ghost btn-sm" to={`/policies/${id}/history`}>
          History
        </Link>
      )}
      {live && <WhoMay kind="policies" id={id} />}
    </>
  );
  if (reader)
    return (
      <>
        {pages}
        <span className="quiet text-sm">You may look, not edit</span>
      </>
    );
  return (
    <>
      <span
        className={`text-sm ${saving.state === 'faults' || saving.state === 'refused' || saving.state === 'conflicts' ? 'text-error' : 'quiet'}`}
        role="status"
      >
        {savingWords[saving.state]}
      </span>
      {pages}
      <Link className="btn btn-ghost btn-sm" to={`/policies/new?like=${encodeURIComponent(id)}`}>
        Copy
      </Link>
      {edited && (
        <button
          type="button"
          className="btn btn-sm"
          onClick={() =>
            void open
              .drop('policies', id)
              .then(() => {
                forgetTyped(id);
                if (live) location.reload();
                else void go('/policies');
              })
              .catch(setError)
          }
        >
          {retiring ? 'Undo the retirement' : 'Undo this edit'}
        </button>
      )}
      {live && !retiring && doc.state !== 'retired' && (
        <button type="button" className="btn btn-ghost btn-sm" onClick={() => setAsking(true)}>
          Retire …
        </button>
      )}
      <Dialog open={asking} onClose={() => setAsking(false)} title={`Retire ‘${doc.title || id}’?`}>
        <p className="text-sm">
          It reaches {reach ? count(reach.gets, 'laptop') : '…'} now. The retirement goes into the open change; look at its impact before you publish. The
          policy stays in the list as retired.
        </p>
        {effect ? (
          <div className="mt-3 flex flex-col gap-2 text-sm">
            <p>
              With it, the open change gives <strong className="tabular-nums">{number(effect.devices)}</strong> of {count(effect.estate, 'laptop')} something
              else
              {effect.weaker > 0 && <span className="text-warning">; {number(effect.weaker)} get a weaker value</span>}.
            </p>
            <Gained of={effect} />
          </div>
        ) : (
          asking && <Loading rows={2} />
        )}
        <Failed error={error} />
        <div className="mt-4 flex justify-end gap-2">
          <button type="button" data-cancel className="btn btn-sm" onClick={() => setAsking(false)}>
            Cancel
          </button>
          <button
            type="button"
            className="btn btn-warning btn-sm"
            disabled={!effect}
            onClick={() =>
              void open
                .retire('policies', id, `Retire ${doc.title || id}`)
                .then(() => setAsking(false))
                .catch(setError)
            }
          >
            Put the retirement into the change
          </button>
        </div>
      </Dialog>
    </>
  );
}

/** The exceptions from the settings of a policy. */
const Departures = memo(function Departures({ doc }: { doc: PolicyDoc }) {
  const { change } = useOpenChange();
  const list = (useExceptions(change).data ?? []).filter((x) => x.days >= 0 && x.setting in doc.settings);
  if (list.length === 0) return null;
  return (
    <Sheet title="Exceptions from its settings" aside={<Link to="/exceptions">all of them</Link>}>
      <ul className="divide-y divide-base-300/60 text-sm">
        {list.map((x) => (
          <li key={x.id} className="px-4 py-2">
            <span className="id">{x.id}</span>: {x.title || x.setting} for <span className="id">{x.target}</span>{' '}
            {x.unset ? 'is left to the laptop' : 'is another value'}, on {count(x.devices, 'laptop')};{' '}
            <span className={x.notice ? 'text-warning' : 'quiet'}>{noticeWord(x.days)}</span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
});
