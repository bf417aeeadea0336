// Clashes: settings that policies disagree about, values side by side; settled by a ruling in the open change, whose
// effect is shown before it is kept. Below, problems: settings that are right alone and wrong together.
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { type Conflict, type Trial, type TrialEdit } from '../api/client';
import { tryEdits, useConflicts, useProblems, useWho } from '../api/queries';
import { Ways } from './ways';
import { useOpenChange } from '../ui/change';
import { ImpactView } from '../ui/impact';
import { Dialog, Empty, Failed, Field, Loading, Page, Sheet } from '../ui/parts';
import { DeviceLinks } from '../ui/reach';
import { count, Time, ValueText, valueText } from '../ui/words';

export function ClashesScreen() {
  const open = useOpenChange();
  const [params, setParams] = useSearchParams();
  const only = params.get('setting');
  const list = useConflicts(open.id);
  const problems = useProblems(open.id).data ?? [];
  const check = params.get('check');
  const shown = (list.data ?? []).filter((c) => !only || c.setting === only);
  return (
    <Page
      title="Clashes"
      lead={
        open.change
          ? `As they would be with ‘${open.change.title}’`
          : 'What policies disagree about. A clash has no value: laptops keep what they have until somebody decides.'
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {only && (
        <p className="text-sm">
          Only <span className="id">{only}</span>.{' '}
          <button type="button" className="link" onClick={() => setParams({})}>
            Show all
          </button>
        </p>
      )}
      {list.data && shown.length === 0 && (
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
            {only ? 'No clash about this setting.' : 'No two policies disagree about anything.'}
          </Empty>
        </div>
      )}
      {shown.map((c) => (
        <Clash key={c.setting + c.policies.join()} c={c} />
      ))}
      <h2 id="problems" className="mt-3 text-lg font-semibold tracking-tight">
        Problems
      </h2>
      {problems.length === 0 && (
        <div className="sheet">
          <Empty>No check finds anything wrong on any laptop.</Empty>
        </div>
      )}
      {problems
        .filter((p) => !check || p.check === check)
        .map((p) => (
          <Sheet key={p.check + p.from.join()} title={p.message} aside={count(p.device_count, 'laptop')}>
            <div className="flex flex-col gap-2 px-4 py-3 text-sm">
              <p>
                <span className="quiet">Settings</span> <span className="id">{p.settings.join(', ')}</span>
              </p>
              <p>
                <span className="quiet">From</span>{' '}
                {p.from.length
                  ? p.from.map((id, i) => (
                      <span key={id}>
                        {i > 0 && ', '}
                        <Link className="id link" to={`/policies/${id}`}>
                          {id}
                        </Link>
                      </span>
                    ))
                  : 'no policy'}
              </p>
              <details>
                <summary className="quiet cursor-pointer">Which laptops</summary>
                <DeviceLinks ids={p.devices.slice(0, 60)} more={p.device_count - Math.min(60, p.devices.length)} />
              </details>
            </div>
          </Sheet>
        ))}
    </Page>
  );
}

function Clash({ c }: { c: Conflict }) {
  const [settling, setSettling] = useState<string>();
  const admin = useWho().data?.role === 'administrator';
  return (
    <Sheet title={c.title || c.setting} aside={<span className="id">{c.setting}</span>}>
      <div className="flex flex-col gap-3 px-4 py-3">
        <div className="grid gap-3 md:grid-cols-2 xl:grid-cols-3">
          {c.values.map((v) => (
            <div key={v.policy} className="flex flex-col gap-2 rounded border border-base-300 p-3 text-sm">
              <Link to={`/policies/${v.policy}`} className="id link link-hover">
                {v.policy}
              </Link>
              <ValueText of={v.value} className="text-[15px] font-semibold" />
              <span className="quiet text-[13px]">
                level {v.level}, priority {v.priority}
                {v.locked ? ', locked' : ''}
              </span>
              {admin && c.settleable && (
                <button type="button" className="btn btn-sm self-start" onClick={() => setSettling(v.policy)}>
                  Prefer this
                </button>
              )}
            </div>
          ))}
        </div>
        {c.since && (
          <p className="quiet text-[13px]">
            Since <Time at={c.since.at} />, by {c.since.change ? <Link className="link" to={`/changes/${c.since.change}`}>{c.since.title}</Link> : c.since.title} ({c.since.by})
          </p>
        )}
        {!c.settleable && (
          <p className="text-sm text-warning">The lists have nothing in common, so nothing would be allowed. No ruling settles that: alter one of the lists.</p>
        )}
        {admin && <Ways c={c} />}
        <details>
          <summary className="cursor-pointer text-sm">Touches {count(c.device_count, 'laptop')}</summary>
          <DeviceLinks ids={c.devices.slice(0, 60)} more={c.device_count - Math.min(60, c.devices.length)} />
        </details>
      </div>
      {settling && <Settle c={c} prefer={settling} onClose={() => setSettling(undefined)} />}
    </Sheet>
  );
}

/** The rulings that let one policy's value stand against every other value. */
function rulingsFor(c: Conflict, prefer: string, reason: string): TrialEdit[] {
  const mine = c.values.find((v) => v.policy === prefer)!;
  return c.values
    .filter((v) => v.policy !== prefer && valueText(v.value) !== valueText(mine.value))
    .map((v) => {
      const id = `${c.setting}.${prefer}-over-${v.policy}`.slice(0, 128);
      return { kind: 'rulings', id, body: { id, setting: c.setting, prefer, over: v.policy, ...(reason ? { reason } : {}) } as never };
    });
}

function Settle({ c, prefer, onClose }: { c: Conflict; prefer: string; onClose: () => void }) {
  const open = useOpenChange();
  const [reason, setReason] = useState('');
  const [trial, setTrial] = useState<Trial>();
  const [error, setError] = useState<unknown>();
  const [asked, setAsked] = useState(false);
  const value = c.values.find((v) => v.policy === prefer)!.value;
  if (!asked) {
    setAsked(true);
    tryEdits(open.id, rulingsFor(c, prefer, ''))
      .then(setTrial)
      .catch(setError);
  }
  const keep = async () => {
    try {
      for (const r of rulingsFor(c, prefer, reason)) {
        const there = open.change?.edits?.find((e) => e.kind === 'rulings' && e.id === r.id);
        await open.put('rulings', r.body as unknown as { id: string }, there?.version, `Settle ${c.title || c.setting}`);
      }
      onClose();
    } catch (refused) {
      setError(refused);
    }
  };
  return (
    <Dialog open onClose={onClose} title={`Prefer ‘${prefer}’ for ${c.title || c.setting}`} wide>
      <div className="flex flex-col gap-4">
        <p className="text-sm">
          <ValueText of={value} className="font-semibold" /> will stand wherever these policies meet and disagree.
          {open.change ? ` What is shown is the whole of ‘${open.change.title}’ with this ruling.` : ''}
        </p>
        <div className="rounded border border-base-300 p-3">
          {trial?.impact ? (
            <ImpactView of={trial.impact} most={10} asked={{ change: open.id, version: open.change?.version, edits: rulingsFor(c, prefer, '') }} />
          ) : trial?.faults ? (
            <Failed error={new Error(trial.faults.map((f) => f.expected).join('; '))} />
          ) : (
            <Loading rows={3} />
          )}
        </div>
        <Field label="Reason" hint="Kept with the ruling: the next person asks why">
          <input className="input w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
        </Field>
        <Failed error={error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={onClose}>
            Not this
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={!trial?.impact || !reason.trim()} onClick={() => void keep()}>
            Keep the ruling in the change
          </button>
        </div>
      </div>
    </Dialog>
  );
}
