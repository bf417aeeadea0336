// A policy: its settings, who gets it, and what it will do, while it is typed. What is typed is kept in the open change
// by itself as soon as it has no faults.
import { Lock, LockOpen, Plus, Trash2, X } from 'lucide-react';
import { useCallback, useEffect, useRef, useState, type FormEvent } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { Refusal, type AlsoSet, type Entry, type Fault, type PolicyDoc, type PolicyUse, type Setting, type Trial, type Value } from '../api/client';
import { tryEdits, useDictionary, useGroups, useLivePolicy, usePolicies, usePolicyUse, useSettingSearch, useUnits, useWho } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { blank, Control } from '../ui/control';
import { Findings } from '../ui/impact';
import { Dialog, Empty, Failed, Faults, Field, Id, Loading, Page, Sheet } from '../ui/parts';
import { ReachBar } from '../ui/reach';
import { count, fateWord, number, relationWord, Status, ValueText, valueText } from '../ui/words';

/** Tells whether two policies say the same: the service orders fields and leaves empty ones out. */
function same(a: PolicyDoc, b: PolicyDoc): boolean {
  const plain = (o: object): [string, unknown][] =>
    Object.entries(o)
      .filter(([, v]) => v !== undefined && v !== '' && v !== 0 && v !== false && !(Array.isArray(v) && v.length === 0))
      .sort(([x], [y]) => (x < y ? -1 : 1));
  const text = (p: PolicyDoc) =>
    JSON.stringify([
      plain({ ...p, settings: undefined, audience: undefined, state: p.state === 'active' ? undefined : p.state }),
      Object.entries(p.settings)
        .map(([id, e]) => [id, long(e).value, plain({ ...long(e), value: undefined })] as const)
        .sort(([x], [y]) => (x < y ? -1 : 1)),
      plain(p.audience),
    ]);
  return text(a) === text(b);
}

const slug = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
    .slice(0, 60);

export function NewPolicyScreen() {
  const { put, change } = useOpenChange();
  const [title, setTitle] = useState('');
  const [kind, setKind] = useState<PolicyDoc['kind']>('security');
  const [why, setWhy] = useState('');
  const [error, setError] = useState<unknown>();
  const go = useNavigate();
  const create = (e: FormEvent) => {
    e.preventDefault();
    const doc: PolicyDoc = { id: slug(title), title, kind, settings: {}, audience: {}, ...(why ? { why } : {}) };
    put('policies', doc, undefined, title)
      .then(() => go(`/policies/${doc.id}`))
      .catch(setError);
  };
  return (
    <Page title="New policy" lead="One purpose, a name and a reason. It reaches nobody until you say who gets it, and nothing is live until you publish.">
      <form onSubmit={create} className="sheet flex max-w-xl flex-col gap-4 p-5">
        <Field
          label="Name"
          hint={
            slug(title) ? (
              <>
                Id: <Id>{slug(title)}</Id>
              </>
            ) : (
              'What it is for, in a few words'
            )
          }
        >
          <input className="input w-full" required autoFocus value={title} onChange={(e) => setTitle(e.target.value)} />
        </Field>
        <Field label="Kind" hint="Units and groups that go their own way do so for one kind of policy">
          <select className="select w-full" value={kind} onChange={(e) => setKind(e.target.value as PolicyDoc['kind'])}>
            <option value="security">security</option>
            <option value="configuration">configuration</option>
            <option value="encryption">encryption</option>
          </select>
        </Field>
        <Field label="Why" hint="Who asked for it, a ticket, a rule that it follows">
          <input className="input w-full" value={why} onChange={(e) => setWhy(e.target.value)} />
        </Field>
        <Failed error={error} />
        <div className="flex items-center gap-3">
          <button type="submit" className="btn btn-primary" disabled={!slug(title)}>
            Begin
          </button>
          <span className="quiet text-sm">{change ? `It goes into the open change ‘${change.title}’.` : 'A change is opened for it.'}</span>
        </div>
      </form>
    </Page>
  );
}

export function PolicyScreen() {
  const { id = '' } = useParams();
  const { id: openID, change } = useOpenChange();
  const edit = change?.edits?.find((e) => e.kind === 'policies' && e.id === id);
  const live = useLivePolicy(id, (!openID || !!change) && edit?.action !== 'create');
  const body = edit?.action === 'retire' ? live.data?.body : ((edit?.body as PolicyDoc | undefined) ?? live.data?.body);
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

type Saving = { state: 'as stored' | 'checking' | 'saved' | 'faults' } | { state: 'refused'; error: unknown };

/** Tries what is typed, and keeps it in the open change when it has no faults. */
function useKept(start: PolicyDoc, editVersion: number | undefined) {
  const open = useOpenChange();
  const [doc, setDoc] = useState(start);
  const [trial, setTrial] = useState<Trial>();
  const [saving, setSaving] = useState<Saving>({ state: 'as stored' });
  const version = useRef(editVersion);
  const dirty = useRef(false);
  const latest = useRef(0);
  const openRef = useRef(open);
  openRef.current = open;
  useEffect(() => {
    if (!dirty.current) version.current = editVersion;
  }, [editVersion]);

  useEffect(() => {
    if (!dirty.current) return;
    const turn = ++latest.current;
    setSaving({ state: 'checking' });
    const wait = setTimeout(() => {
      void (async () => {
        try {
          const said = await tryEdits(openRef.current.id, [{ kind: 'policies', id: doc.id, body: doc as never }]);
          if (turn !== latest.current) return;
          setTrial(said);
          if (said.faults?.length) return setSaving({ state: 'faults' });
          version.current = await openRef.current.put('policies', doc, version.current, `Edit ${doc.title || doc.id}`);
          if (turn === latest.current) {
            dirty.current = false;
            setSaving({ state: 'saved' });
          }
        } catch (error) {
          if (turn === latest.current) setSaving({ state: 'refused', error });
        }
      })();
    }, 350);
    return () => clearTimeout(wait);
  }, [doc]);

  const alter = useCallback((how: (d: PolicyDoc) => PolicyDoc) => {
    dirty.current = true;
    setDoc(how);
  }, []);
  const take = useCallback((stored: PolicyDoc, at: number | undefined) => {
    latest.current++;
    dirty.current = false;
    version.current = at;
    setDoc(stored);
    setTrial(undefined);
    setSaving({ state: 'as stored' });
  }, []);
  return { doc, alter, take, trial, saving, isDirty: () => dirty.current };
}

function Editor({ id, start, editVersion, retiring, live }: { id: string; start: PolicyDoc; editVersion?: number; retiring: boolean; live?: number }) {
  const open = useOpenChange();
  const reader = useWho().data?.role !== 'administrator';
  const { doc, alter, take, trial, saving, isDirty } = useKept(start, editVersion);
  const stored = usePolicyUse(id, open.change, !trial && (!open.id || !!open.change));
  const use = trial?.use ?? (saving.state === 'faults' ? undefined : stored.data);
  const faults = trial?.faults ?? [];
  const dictionary = new Map((useDictionary().data ?? []).map((d) => [d.id, d]));
  const locked = reader || retiring;
  const latest = useRef(doc);
  latest.current = doc;
  // When a colleague saves this policy, and nothing is typed here that is not kept, theirs is shown.
  useEffect(() => {
    if (!isDirty() && !same(start, latest.current)) take(start, editVersion);
  }, [editVersion, start, isDirty, take]);
  const stale = saving.state === 'refused' && saving.error instanceof Refusal && [412, 428].includes(saving.error.problem.status);
  return (
    <Page
      title={doc.title || doc.id}
      lead={
        <>
          <Id copy>{doc.id}</Id> · {doc.kind} · <Status of={retiring ? 'retired' : (doc.state ?? 'active')} /> ·{' '}
          {live ? `version ${live} is live` : 'not live yet'}
        </>
      }
      actions={<Actions id={id} doc={doc} live={live} retiring={retiring} edited={editVersion !== undefined} saving={saving} reader={reader} />}
    >
      {stale && (
        <div role="alert" className="rounded border border-warning/60 bg-warning/8 px-4 py-3 text-sm">
          <p className="font-medium text-warning">{(saving as { error: Refusal }).error.message}</p>
          <button type="button" className="btn btn-sm mt-2" onClick={() => take(start, editVersion)}>
            Show theirs (what you typed since is dropped)
          </button>
        </div>
      )}
      {saving.state === 'refused' && !stale && <Failed error={saving.error} />}
      {retiring && (
        <p className="rounded border border-warning/60 bg-warning/8 px-4 py-2 text-sm">
          The open change retires this policy. Take the retirement out of the change to edit it.
        </p>
      )}
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_23rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <Settings doc={doc} alter={alter} dictionary={dictionary} also={use?.also_set ?? []} use={use} faults={faults} locked={locked} />
          <AudienceSheet doc={doc} alter={alter} faults={faults} locked={locked} />
          <About doc={doc} alter={alter} locked={locked} />
        </div>
        <div className="flex min-w-0 flex-col gap-4 xl:sticky xl:top-4">
          {faults.length > 0 && (
            <div role="alert" className="rounded border border-error/50 bg-error/5 px-4 py-3 text-sm">
              <p className="font-medium text-error">Not kept yet: {count(faults.length, 'fault')}</p>
              <Faults list={faults.map((f) => ({ ...f, path: f.path?.replace(`/policies/${id}`, '') }))} />
            </div>
          )}
          <Sheet title="Who gets it">
            {use ? (
              <div className="px-4 py-3">
                <ReachBar of={use.reach} />
              </div>
            ) : (
              <Loading rows={2} />
            )}
          </Sheet>
          {use && use.problems.length > 0 && (
            <Sheet title="Wrong together with others">
              <ul className="flex flex-col gap-2 px-4 py-3 text-sm">
                {use.problems.map((p) => (
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
          {trial?.impact && (
            <Sheet title="What the open change does, with this">
              <div className="flex flex-col gap-2 px-4 py-3 text-sm">
                <p>
                  <strong className="tabular-nums">{number(trial.impact.devices)}</strong> of {count(trial.impact.estate, 'laptop')} get something else
                  {trial.impact.weaker > 0 && <span className="text-warning">; {number(trial.impact.weaker)} get a weaker value</span>}
                </p>
                <Findings of={trial.impact} />
              </div>
            </Sheet>
          )}
        </div>
      </div>
    </Page>
  );
}

const savingWords = { 'as stored': '', checking: 'Checking …', saved: 'Kept in the open change', faults: 'Not kept: it has faults', refused: 'Not kept' };

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
  if (reader) return <span className="quiet text-sm">You may look, not edit</span>;
  return (
    <>
      <span className={`text-sm ${saving.state === 'faults' || saving.state === 'refused' ? 'text-error' : 'quiet'}`} role="status">
        {savingWords[saving.state]}
      </span>
      {edited && (
        <button
          type="button"
          className="btn btn-sm"
          onClick={() =>
            void open
              .drop('policies', id)
              .then(() => (live ? location.reload() : go('/policies')))
              .catch(setError)
          }
        >
          {retiring ? 'Take the retirement back' : 'Take out of the change'}
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
        <Failed error={error} />
        <div className="mt-4 flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={() => setAsking(false)}>
            Keep it
          </button>
          <button
            type="button"
            className="btn btn-warning btn-sm"
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

const long = (e: Entry): { value: Value; lock?: boolean; note?: string } => (typeof e === 'object' && !Array.isArray(e) ? e : { value: e });
const short = (e: { value: Value; lock?: boolean; note?: string }): Entry => (e.lock || e.note ? e : e.value);

function Settings({
  doc,
  alter,
  dictionary,
  also,
  use,
  faults,
  locked,
}: {
  doc: PolicyDoc;
  alter: (how: (d: PolicyDoc) => PolicyDoc) => void;
  dictionary: Map<string, Setting>;
  also: AlsoSet[];
  use?: PolicyUse;
  faults: Fault[];
  locked: boolean;
}) {
  const ids = Object.keys(doc.settings);
  const areas = Map.groupBy(ids, (id) => dictionary.get(id)?.area ?? 'other');
  const set = (id: string, e: Entry | undefined) =>
    alter((d) => {
      const settings = { ...d.settings };
      if (e === undefined) delete settings[id];
      else settings[id] = e;
      return { ...d, settings };
    });
  return (
    <Sheet title="Settings" aside={count(ids.length, 'setting')}>
      {ids.length === 0 && <p className="quiet px-4 pt-3 text-sm">Nothing is set yet. Look for a setting by what it does.</p>}
      {[...areas].map(([area, list]) => (
        <div key={area}>
          {areas.size > 1 && <h3 className="quiet px-4 pt-3 text-[13px] font-semibold first-letter:uppercase">{area}</h3>}
          <ul>
            {list.map((id) => (
              <EntryRow
                key={id}
                id={id}
                entry={long(doc.settings[id]!)}
                definition={dictionary.get(id)}
                also={also.filter((a) => a.setting === id)}
                fates={use?.fates[id]}
                faults={faults.filter((f) => f.path?.includes(`/settings/${id}`))}
                locked={locked}
                onChange={(e) => set(id, e && short(e))}
              />
            ))}
          </ul>
        </div>
      ))}
      {!locked && <Picker taken={ids} onPick={(d) => set(d.id, blank(d))} />}
    </Sheet>
  );
}

function EntryRow({
  id,
  entry,
  definition: d,
  also,
  fates,
  faults,
  locked,
  onChange,
}: {
  id: string;
  entry: { value: Value; lock?: boolean; note?: string };
  definition?: Setting;
  also: AlsoSet[];
  fates?: Record<string, number>;
  faults: Fault[];
  locked: boolean;
  onChange: (e: { value: Value; lock?: boolean; note?: string } | undefined) => void;
}) {
  const [help, setHelp] = useState(false);
  const title = d?.title ?? id;
  const clashes = also.some((a) => a.relation === 'clashes');
  return (
    <li className="border-b border-base-300/60 px-4 py-3 last:border-0">
      <div className="flex items-start justify-between gap-3">
        <button type="button" className="min-w-0 cursor-pointer text-left" aria-expanded={help} onClick={() => setHelp(!help)}>
          <span className="text-sm font-medium hover:underline">{title}</span> <span className="id quiet ml-1">{id}</span>
        </button>
        <div className="flex shrink-0 items-center gap-1">
          <button
            type="button"
            className={`btn btn-ghost btn-xs ${entry.lock ? 'text-primary' : ''}`}
            disabled={locked}
            aria-pressed={!!entry.lock}
            title={
              entry.lock
                ? 'Locked: units and groups closer to the laptop can’t override it or detach from it'
                : 'Not locked: what is set closer to the laptop overrides it'
            }
            onClick={() => onChange({ ...entry, lock: !entry.lock || undefined })}
          >
            {entry.lock ? <Lock size={13} aria-hidden /> : <LockOpen size={13} aria-hidden />} {entry.lock ? 'locked' : 'lock'}
          </button>
          <button
            type="button"
            className="btn btn-ghost btn-xs btn-square"
            disabled={locked}
            aria-label={`Take ${title} out`}
            title="Take out of the policy"
            onClick={() => onChange(undefined)}
          >
            <Trash2 size={13} aria-hidden />
          </button>
        </div>
      </div>
      {help && d && (
        <div className="mt-1 max-w-prose text-sm">
          <p>{d.help}</p>
          <p className="quiet mt-1 text-[13px]">
            An unmanaged laptop: {d.default === undefined ? 'not known' : valueText(d.default)}. Supported by{' '}
            {d.supports?.length ? d.supports.map((s) => s.platform + (s.from ? ` from ${s.from}` : '')).join(', ') : 'every platform'}.
            {d.effects?.length ? ` What a person notices: ${d.effects.join(', ')}.` : ''}
          </p>
        </div>
      )}
      <div className="mt-2">
        {d ? (
          <Control of={d} value={entry.value} label={title} disabled={locked} onChange={(value) => onChange({ ...entry, value })} />
        ) : (
          <ValueText of={entry.value} />
        )}
      </div>
      {faults.map((f, i) => (
        <p key={i} role="alert" className="mt-1 text-[13px] text-error">
          Found {f.found}, expected {f.expected}
        </p>
      ))}
      <div className="mt-1.5 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px]">
        {fates && (
          <span className="quiet">
            {Object.entries(fates)
              .map(([fate, n]) => `${fateWord(fate)} on ${number(n)}`)
              .join(', ')}
          </span>
        )}
        {also.length > 0 && (
          <details>
            <summary className={`cursor-pointer ${clashes ? 'font-medium text-warning' : 'text-info'}`}>
              also set in {also.length === 1 ? also[0]!.policy : `${also.length} others`}
            </summary>
            <ul className="mt-1 flex flex-col gap-0.5">
              {also.map((a) => (
                <li key={a.policy} className="flex flex-wrap gap-x-2">
                  <Link to={`/policies/${a.policy}`} className="link">
                    {a.title || a.policy}
                  </Link>
                  <ValueText of={a.value} />
                  <span className={a.relation === 'clashes' ? 'text-warning' : 'quiet'}>
                    {relationWord(a.relation)}, on {count(a.devices, 'of these laptops', 'of these laptops')}
                  </span>
                  {a.relation === 'clashes' && (
                    <Link className="link text-warning" to={`/clashes?setting=${a.setting}`}>
                      settle
                    </Link>
                  )}
                </li>
              ))}
            </ul>
          </details>
        )}
      </div>
    </li>
  );
}

function Picker({ taken, onPick }: { taken: string[]; onPick: (d: Setting) => void }) {
  const [words, setWords] = useState('');
  const [at, setAt] = useState(0);
  const search = useSettingSearch(words);
  const found = search.data ?? [];
  const show = words.trim() !== '';
  const pick = (d: Setting | undefined) => {
    if (!d || taken.includes(d.id)) return;
    onPick(d);
    setWords('');
    setAt(0);
  };
  // What stands there may still answer the words before: Enter then waits for the answer to these.
  const [waiting, setWaiting] = useState(false);
  useEffect(() => {
    if (!waiting || search.isPlaceholderData || search.isFetching) return;
    setWaiting(false);
    pick(found[0]);
  });
  return (
    <div className="border-t border-base-300/60 px-4 py-3">
      <input
        role="combobox"
        aria-expanded={show}
        aria-controls="found-settings"
        aria-label="Add a setting"
        aria-activedescendant={show && found[at] ? `found-${at}` : undefined}
        placeholder="Add a setting: say what it should do, such as “copy to usb”"
        className="input input-sm w-full max-w-xl"
        value={words}
        onChange={(e) => {
          setWords(e.target.value);
          setAt(0);
          setWaiting(false);
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault();
            setAt((i) => Math.max(0, Math.min(found.length - 1, i + (e.key === 'ArrowDown' ? 1 : -1))));
          } else if (e.key === 'Enter') {
            e.preventDefault();
            if (search.isPlaceholderData) setWaiting(true);
            else pick(found[at]);
          } else if (e.key === 'Escape') setWords('');
        }}
      />
      {show && (
        <ul
          id="found-settings"
          role="listbox"
          aria-label="Settings found"
          className="mt-1 max-w-3xl divide-y divide-base-300/60 rounded border border-base-300"
        >
          {found.length === 0 && <li className="quiet px-3 py-2 text-sm">No setting fits. Try other words for what it does.</li>}
          {found.map((d, i) => (
            <li
              key={d.id}
              id={`found-${i}`}
              role="option"
              aria-selected={i === at}
              className={`cursor-pointer px-3 py-2 text-sm ${i === at ? 'bg-primary/10' : 'hover:bg-base-200'}`}
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => pick(d)}
            >
              <span className="font-medium">{d.title}</span> <span className="id quiet ml-1">{d.id}</span>
              {taken.includes(d.id) ? (
                <span className="quiet ml-2">in this policy already</span>
              ) : d.policies.length > 0 ? (
                <span className="ml-2 text-info">set in {d.policies.join(', ')}</span>
              ) : null}
              <div className="quiet line-clamp-1 text-[13px]">{d.help}</div>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

function AudienceSheet({
  doc,
  alter,
  faults,
  locked,
}: {
  doc: PolicyDoc;
  alter: (how: (d: PolicyDoc) => PolicyDoc) => void;
  faults: Fault[];
  locked: boolean;
}) {
  const set = (part: Partial<PolicyDoc['audience']>) => alter((d) => ({ ...d, audience: { ...d.audience, ...part } }));
  const whenFaults = faults.filter((f) => f.path?.endsWith('/audience/when'));
  return (
    <Sheet title="Audience" aside="nobody, unless you say who">
      <div className="flex flex-col gap-4 px-4 py-3">
        <Targets label="Gets it" list={doc.audience.include ?? []} locked={locked} onChange={(include) => set({ include })} />
        <Targets label="Left out" list={doc.audience.exclude ?? []} locked={locked} onChange={(exclude) => set({ exclude })} />
        <Field label="Only when" hint="A CEL condition over device and person; empty: always">
          <input
            className="input input-sm w-full font-mono text-[13px]"
            disabled={locked}
            placeholder='device.os == "linux" && device.os_version.atLeast("12")'
            value={doc.audience.when ?? ''}
            onChange={(e) => set({ when: e.target.value || undefined })}
          />
        </Field>
        {whenFaults.map((f, i) => (
          <p key={i} role="alert" className="text-[13px] text-error">
            {f.found}
          </p>
        ))}
      </div>
    </Sheet>
  );
}

function Targets({ label, list, locked, onChange }: { label: string; list: string[]; locked: boolean; onChange: (list: string[]) => void }) {
  const [text, setText] = useState('');
  const units = useUnits().data ?? [];
  const groups = useGroups().data ?? [];
  const listID = `targets-${label.replaceAll(' ', '-')}`;
  const add = (target: string) => {
    const t = target.trim();
    if (t && !list.includes(t)) onChange([...list, t]);
    setText('');
  };
  const known = ['everyone', ...units.map((u) => `unit:${u.id}`), ...groups.map((g) => `group:${g.id}`)];
  return (
    <div className="flex flex-col gap-1.5 text-sm">
      <span className="font-medium">{label}</span>
      <div className="flex flex-wrap items-center gap-1.5">
        {list.map((t) => (
          <span
            key={t}
            className={`inline-flex items-center gap-1 rounded border px-2 py-0.5 ${t === 'everyone' ? 'border-warning text-warning' : 'border-base-300'}`}
          >
            <span className="id">{t}</span>
            <button
              type="button"
              className="cursor-pointer"
              disabled={locked}
              aria-label={`Take ${t} out`}
              onClick={() => onChange(list.filter((o) => o !== t))}
            >
              <X size={12} aria-hidden />
            </button>
          </span>
        ))}
        {list.length === 0 && <span className="quiet">nobody</span>}
        {!locked && (
          <form
            className="join"
            onSubmit={(e) => {
              e.preventDefault();
              add(text);
            }}
          >
            <input
              list={listID}
              aria-label={`${label}: add a unit, group, device or person`}
              placeholder="unit:, group:, device:, person:"
              className="input input-sm join-item w-60 font-mono text-[13px]"
              value={text}
              onChange={(e) => {
                setText(e.target.value);
                if (known.includes(e.target.value) && !(e.nativeEvent as InputEvent).inputType?.startsWith('insertText')) add(e.target.value);
              }}
            />
            <datalist id={listID}>
              {known.map((k) => (
                <option key={k} value={k} />
              ))}
            </datalist>
            <button type="submit" className="btn btn-sm join-item" aria-label={`Add to ${label}`}>
              <Plus size={14} aria-hidden />
            </button>
          </form>
        )}
      </div>
    </div>
  );
}

function About({ doc, alter, locked }: { doc: PolicyDoc; alter: (how: (d: PolicyDoc) => PolicyDoc) => void; locked: boolean }) {
  const [priority, setPriority] = useState(String(doc.priority ?? 0));
  useEffect(() => setPriority(String(doc.priority ?? 0)), [doc.priority]);
  const others = usePolicies().data?.items ?? [];
  return (
    <Sheet title="About">
      <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
        <Field label="Name">
          <input
            className="input input-sm w-full"
            disabled={locked}
            value={doc.title ?? ''}
            onChange={(e) => alter((d) => ({ ...d, title: e.target.value || undefined }))}
          />
        </Field>
        <Field label="Why">
          <input
            className="input input-sm w-full"
            disabled={locked}
            value={doc.why ?? ''}
            onChange={(e) => alter((d) => ({ ...d, why: e.target.value || undefined }))}
          />
        </Field>
        <Field
          label="Priority"
          hint={`Higher wins on the same level; ${count(others.filter((o) => o.priority === (doc.priority ?? 0) && o.id !== doc.id).length, 'other policy has', 'other policies have')} the same`}
        >
          <input
            inputMode="numeric"
            className="input input-sm w-28"
            disabled={locked}
            value={priority}
            onChange={(e) => {
              setPriority(e.target.value);
              if (/^-?\d+$/.test(e.target.value)) alter((d) => ({ ...d, priority: Number(e.target.value) || undefined }));
            }}
          />
        </Field>
        <Field label="State" hint="A draft reaches nobody">
          <select
            className="select select-sm w-40"
            disabled={locked}
            value={doc.state ?? 'active'}
            onChange={(e) => alter((d) => ({ ...d, state: e.target.value === 'active' ? undefined : (e.target.value as PolicyDoc['state']) }))}
          >
            <option value="active">active</option>
            <option value="draft">draft</option>
            <option value="retired">retired</option>
          </select>
        </Field>
        <fieldset className="text-sm">
          <legend className="mb-1 font-medium">Platforms</legend>
          <div className="flex gap-4">
            {['linux', 'windows', 'macos'].map((os) => (
              <label key={os} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  disabled={locked}
                  checked={doc.platforms?.includes(os) ?? false}
                  onChange={(e) =>
                    alter((d) => {
                      const list = (d.platforms ?? []).filter((o) => o !== os);
                      if (e.target.checked) list.push(os);
                      return { ...d, platforms: list.length ? list : undefined };
                    })
                  }
                />
                {os}
              </label>
            ))}
          </div>
          <span className="quiet text-[13px]">None chosen: all of them</span>
        </fieldset>
      </div>
    </Sheet>
  );
}
