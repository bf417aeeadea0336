// One source: what it has, what a reading found and would do, its set-up, its tokens, and what has left.
import { useQuery } from '@tanstack/react-query';
import { Pause, Play, RefreshCw, Upload } from 'lucide-react';
import { useRef, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, got, Refusal, type Source, type SourceRun, type SourceSetUp } from '../../api/client';
import { keys, queries, useSource } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { Dialog, Empty, Failed, Id, Loading, Page, Sheet } from '../../ui/parts';
import { count, number, Time } from '../../ui/words';
import { kindWord, stateWord, thingWord } from './index';
import { Left } from './left';
import { ReportView } from './report';
import { SetUpForm } from './setup';

export function SourceScreen() {
  const { id = '' } = useParams();
  const { data: s, error } = useSource(id);
  return (
    <Page
      title={s?.title ?? id}
      lead={s && `${kindWord[s.kind]} · ${stateWord[s.state]} · ${s.counts.map((c) => count(c.here, ...thingWord[c.kind]!)).join(', ') || 'nothing taken yet'}`}
      actions={s && <Actions s={s} />}
    >
      <Failed error={error} />
      {!s && !error && <Loading />}
      {s && (
        <>
          {s.running && <Running s={s} run={s.running} />}
          {!s.running && s.state === 'new' && <FirstStep s={s} />}
          <Left s={s} />
          {s.kind === 'scim' && <Tokens s={s} />}
          <SetUp s={s} />
          <Runs list={s.runs} />
        </>
      )}
    </Page>
  );
}

const refresh = () => queries.invalidateQueries({ queryKey: keys.sources });

function Actions({ s }: { s: Source }) {
  const [sent, setSent] = useState<unknown>(); // what went wrong with a table
  const [dropping, setDropping] = useState(false);
  const go = useNavigate();
  const path = { id: s.id };
  const alters = [keys.sources];
  const read = useWrite(() => got(api.POST('/api/v1/sources/{id}/runs', { params: { path }, body: { way: 'full', look: s.state === 'new' } })), { alters });
  const pause = useWrite(() => got(api.POST('/api/v1/sources/{id}/pause', { params: { path }, body: { paused: s.state === 'on' } })), { alters });
  const drop = useWrite(() => got(api.DELETE('/api/v1/sources/{id}', { params: { path } })), { alters, done: () => go('/sources') });
  return (
    <>
      {s.kind === 'csv' ? (
        <Send s={s} onError={setSent} />
      ) : (
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={s.running?.state === 'reading' || s.state === 'paused' || read.isPending}
          onClick={() => read.mutate()}
        >
          <RefreshCw size={14} aria-hidden /> {s.state === 'new' || s.proposed ? 'Dry run' : 'Compare everything now'}
        </button>
      )}
      {s.state !== 'new' && (
        <button type="button" className="btn btn-sm" disabled={pause.isPending} onClick={() => pause.mutate()}>
          {s.state === 'on' ? <Pause size={14} aria-hidden /> : <Play size={14} aria-hidden />} {s.state === 'on' ? 'Pause' : 'Go on'}
        </button>
      )}
      <button type="button" className="btn btn-ghost btn-sm" onClick={() => setDropping(true)}>
        Take away
      </button>
      <Dialog open={dropping} onClose={() => setDropping(false)} title={`Take ${s.title} away`}>
        <div className="flex flex-col gap-3 text-sm">
          <p>
            What it brought stays in the estate: {s.counts.map((c) => count(c.here + c.left, ...thingWord[c.kind]!)).join(', ') || 'nothing'}. From then on it
            is edited here, and no longer follows the source. No laptop gets anything else.
          </p>
          <button type="button" className="btn btn-primary btn-sm self-end" disabled={drop.isPending} onClick={() => drop.mutate()}>
            Take away
          </button>
        </div>
      </Dialog>
      <Failed error={sent ?? read.error ?? pause.error ?? drop.error} />
    </>
  );
}

/** Sends a table; how far it is comes over the live stream. */
function Send({ s, onError }: { s: Source; onError: (e: unknown) => void }) {
  const input = useRef<HTMLInputElement>(null);
  const send = async (file: File) => {
    onError(undefined);
    const r = await fetch(`/api/v1/sources/${encodeURIComponent(s.id)}/tables?name=${encodeURIComponent(file.name)}`, {
      method: 'POST',
      body: file,
      headers: { 'Content-Type': 'text/csv' },
    });
    if (!r.ok) throw new Refusal(await r.json());
    await refresh();
  };
  return (
    <>
      <button
        type="button"
        className="btn btn-primary btn-sm"
        disabled={s.running?.state === 'reading' || s.state === 'paused'}
        onClick={() => input.current?.click()}
      >
        <Upload size={14} aria-hidden /> Send a table
      </button>
      <input
        ref={input}
        type="file"
        accept=".csv,text/csv,.txt,.tsv"
        className="sr-only"
        tabIndex={-1}
        aria-label="Table to send"
        onChange={(e) => {
          const f = e.target.files?.[0];
          e.target.value = '';
          if (f) void send(f).catch(onError);
        }}
      />
    </>
  );
}

function FirstStep({ s }: { s: Source }) {
  const words: Record<string, string> = {
    csv: 'Send a table. It is compared with what is here, and waits for you to look.',
    ldap: 'Start the dry run. The directory is read, and what that would bring waits for you to look.',
    scim: 'Make a token, give it to the client, and let it write. What it wrote is kept, and nothing is taken before you look at a dry run.',
  };
  return (
    <div className="sheet">
      <Empty>{words[s.kind]}</Empty>
    </div>
  );
}

const steps: Record<string, string> = {
  reading: 'Reading',
  comparing: 'Comparing with what is here',
  foreseeing: 'Working out what that does to laptops',
  writing: 'Taking it',
};

function Running({ s, run }: { s: Source; run: SourceRun }) {
  const path = { id: s.id };
  const taking = useWrite(() => got(api.POST('/api/v1/sources/{id}/take', { params: { path } })), { alters: [keys.sources] });
  const stopping = useWrite(() => got(api.DELETE('/api/v1/sources/{id}/runs', { params: { path } })), { alters: [keys.sources] });
  const busy = taking.isPending || stopping.isPending;
  const error = taking.error ?? stopping.error;
  const take = () => taking.mutate();
  const stop = () => stopping.mutate();
  if (run.state === 'reading')
    return (
      <Sheet title="A reading is under way" aside={<Time at={run.started_at} />}>
        <div className="flex flex-col gap-2 px-4 py-3 text-sm" role="status">
          <p>
            {steps[run.step ?? 'reading']}
            {run.done
              ? `, ${s.kind === 'csv' ? `${number(Math.round(run.done / 1024))} KiB` : count(run.done, 'entry', 'entries')}${run.of ? ` of ${number(Math.round(run.of / 1024))}` : ''}`
              : ''}{' '}
            …
          </p>
          {run.of && run.done && run.step === 'reading' ? (
            <progress className="progress progress-primary w-full" value={run.done} max={run.of} />
          ) : (
            <progress className="progress progress-primary w-full" />
          )}
          <button type="button" className="btn btn-sm self-end" onClick={stop}>
            Stop
          </button>
        </div>
      </Sheet>
    );
  const reasons: Record<string, string> = {
    first: 'Nothing was taken from this source yet. This is what it would bring.',
    'set-up': 'The set-up was altered. This is what reading by the new one would do.',
    'many-left': `${count(run.report?.left ?? 0, 'object')} would leave, more than the allowed ${run.report?.most_left ?? 0} %.`,
    shrunk:
      run.report?.shrunk?.length === 1
        ? 'A policy or an exclusion would lose its laptops.'
        : `${number(run.report?.shrunk?.length ?? 0)} policies and exclusions would lose all of their laptops, or more than ${run.report?.most_lost ?? 0} %.`,
    faults: 'Some things can’t be taken as they are. They would stay as they were.',
    asked: 'This is what it would do.',
  };
  return (
    <Sheet title="A reading waits for you" aside={<Time at={run.started_at} />} className="border-primary/50">
      <div className="flex flex-col gap-3 px-4 py-3">
        <p className="text-sm font-medium">{reasons[run.report?.reason ?? 'asked']}</p>
        {run.report && <ReportView of={run.report} />}
        <Failed error={error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" disabled={busy} onClick={stop}>
            Discard this reading
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={busy} onClick={take}>
            {run.report?.faulty ? 'Take it without what is faulty' : 'Take it'}
          </button>
        </div>
      </div>
    </Sheet>
  );
}

function Tokens({ s }: { s: Source }) {
  const tokens = useQuery({
    queryKey: [...keys.sources, s.id, 'tokens'],
    queryFn: () => got(api.GET('/api/v1/sources/{id}/tokens', { params: { path: { id: s.id } } })),
    retry: false,
  });
  const [name, setName] = useState('');
  const alters = [keys.sources];
  const revoke = useWrite((token: string) => got(api.DELETE('/api/v1/sources/{id}/tokens/{token}', { params: { path: { id: s.id, token } } })), { alters });
  const make = useWrite(() => got(api.POST('/api/v1/sources/{id}/tokens', { params: { path: { id: s.id } }, body: { name } })), {
    alters,
    done: () => setName(''),
  });
  const secret = make.data?.secret;
  return (
    <Sheet title="Tokens" aside={<span className="id">{location.origin}/scim/v2</span>}>
      <div className="flex flex-col gap-3 px-4 py-3 text-sm">
        {tokens.data?.length === 0 && <p className="quiet">No token yet. The client signs in with one, sent as a bearer token.</p>}
        <ul>
          {tokens.data?.map((t) => (
            <li key={t.id} className="flex items-center gap-3 py-0.5">
              <span className={t.revoked_at ? 'quiet line-through' : 'font-medium'}>{t.name}</span>
              <span className="quiet">
                made by {t.created_by} <Time at={t.created_at} />, last used <Time at={t.used_at} />
              </span>
              {t.revoked_at ? (
                <span className="quiet">
                  revoked <Time at={t.revoked_at} />
                </span>
              ) : (
                <button
                  type="button"
                  aria-label={`Revoke ${t.name}`}
                  className="btn btn-ghost btn-xs"
                  disabled={revoke.isPending}
                  onClick={() => revoke.mutate(t.id)}
                >
                  Revoke
                </button>
              )}
            </li>
          ))}
        </ul>
        {secret && (
          <p role="alert" className="rounded border border-primary/50 bg-primary/6 px-3 py-2">
            Shown once, now: <Id copy>{secret}</Id>
          </p>
        )}
        <form
          className="flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <input
            aria-label="Which client the token is for"
            placeholder="Which client it is for"
            className="input input-sm w-64"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <button type="submit" className="btn btn-sm" disabled={!name.trim() || make.isPending}>
            Make a token
          </button>
        </form>
        <Failed error={revoke.error ?? make.error} />
      </div>
    </Sheet>
  );
}

function SetUp({ s }: { s: Source }) {
  const [open, setOpen] = useState(false);
  const [draft, setDraft] = useState<SourceSetUp>(s.proposed ?? s.set_up ?? {});
  const propose = useWrite(
    () => got(api.PUT('/api/v1/sources/{id}', { params: { path: { id: s.id }, header: { 'If-Match': `"${s.version}"` } }, body: { set_up: draft } })),
    { alters: [keys.sources], done: () => setOpen(false) },
  );
  return (
    <>
      <div className="flex items-center gap-3 text-sm">
        <button type="button" className="btn btn-sm" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? 'Close the set-up' : 'Look at the set-up'}
        </button>
        {s.proposed && s.set_up && (
          <span className="text-warning">Another set-up is proposed. The old one stays in force until a dry run with the new one is taken.</span>
        )}
      </div>
      {open && (
        <>
          <SetUpForm kind={s.kind} value={draft} onChange={setDraft} />
          <Failed error={propose.error} />
          <button type="button" className="btn btn-primary btn-sm self-end" disabled={propose.isPending} onClick={() => propose.mutate()}>
            Propose this set-up
          </button>
        </>
      )}
    </>
  );
}

const ways: Record<string, string> = {
  full: 'everything compared',
  recent: 'what altered',
  upload: 'a table',
  stored: 'what the client had written',
  provisioning: 'the client wrote',
};

function Runs({ list }: { list: SourceRun[] }) {
  return (
    <Sheet title="Readings" aside="the newest first">
      {list.length === 0 && <Empty>None yet.</Empty>}
      <ul className="divide-y divide-base-300/60 text-sm">
        {list.map((r) => (
          <li key={r.seq} className="px-4 py-1.5">
            <details>
              <summary className="flex cursor-pointer flex-wrap gap-x-3">
                <Time at={r.started_at} />
                <span>{ways[r.way]}</span>
                <span className={r.state === 'failed' ? 'text-error' : r.state === 'dropped' ? 'quiet' : ''}>{r.state === 'dropped' ? 'let go' : r.state}</span>
                {r.report && (
                  <span className="quiet">
                    {[
                      r.report.new && `${number(r.report.new)} new`,
                      r.report.altered && `${number(r.report.altered)} altered`,
                      r.report.left && `${number(r.report.left)} left`,
                      r.report.back && `${number(r.report.back)} back`,
                    ]
                      .filter(Boolean)
                      .join(', ') || (r.state === 'failed' ? r.report.message : 'nothing altered')}
                  </span>
                )}
                <span className="quiet">by {r.by}</span>
              </summary>
              {r.report && (
                <div className="py-2">
                  <ReportView of={r.report} />
                </div>
              )}
            </details>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
