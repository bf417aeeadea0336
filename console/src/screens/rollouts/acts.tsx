// What a person can do with a rollout: each with its effect in numbers, and a note for the record.
import { useState } from 'react';
import { api, got, type Rollout, type RolloutAct } from '../../api/client';
import { keys, useMay } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { announce } from '../../ui/announce';
import { Dialog, Failed, Field } from '../../ui/parts';
import { progressWord } from '../../ui/rollout';
import { count, number } from '../../ui/words';

export function ExcuseDialog({ r, device, onClose }: { r: Rollout; device: string; onClose: () => void }) {
  const [why, setWhy] = useState('');
  const excuse = useAct(r, onClose);
  return (
    <Dialog open={!!device} onClose={onClose} title={`Excuse ${device}?`}>
      <form
        className="flex flex-col gap-3 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          excuse.mutate({ act: 'excuse', device, note: why });
        }}
      >
        <p>
          It no longer counts: not for the gate of its wave, and not as failed or lost. It gets the change with the others, at the latest when the rollout
          finishes.
        </p>
        <label className="flex flex-col gap-1">
          <span className="font-medium">Why</span>
          <input className="input input-sm w-full" required value={why} onChange={(e) => setWhy(e.target.value)} />
        </label>
        <Failed error={excuse.error} />
        <button type="submit" className="btn btn-primary btn-sm self-end" disabled={excuse.isPending}>
          Excuse it
        </button>
      </form>
    </Dialog>
  );
}

function useAct(r: Rollout, done: () => void) {
  return useWrite((act: RolloutAct) => got(api.POST('/api/v1/rollouts/{id}/acts', { params: { path: { id: r.id } }, body: act })), {
    alters: [keys.rollouts, keys.changes],
    done: (is) => {
      announce(`${is.title}: ${progressWord(is).word}.`);
      done();
    },
  });
}

type Doing = { act: RolloutAct['act']; word: string; what: string; strong?: boolean };

/** What can be done with a rollout now, each with its effect in numbers. */
function doings(r: Rollout): Doing[] {
  const n = (...states: string[]) => states.reduce((sum, s) => sum + (r.counts[s] ?? 0), 0);
  const next = r.waves.find((w) => !w.opened_at);
  const out: Doing[] = [];
  if (r.progress === 'waiting') return [{ act: 'take-back', word: 'Withdraw', what: 'The change is open again, and nothing starts. No laptop has any of it.' }];
  if (r.progress === 'running' && next)
    out.push({
      act: 'go',
      word: `Open ‘${next.id}’`,
      what: `${count(next.laptops, 'laptop')} of the wave ‘${next.id}’ get the change at their next check-in, whatever the gate and the hours of the plan say.`,
      strong: r.ready,
    });
  if (r.progress === 'running')
    out.push({
      act: 'pause',
      word: 'Pause',
      what: `${count(n('due', 'silent'), 'laptop')} that have not taken the change get what they had before; ${number(n('taken', 'failed', 'lost'))} keep it. No wave opens.`,
    });
  if (r.progress === 'paused' || r.progress === 'stopped')
    out.push({
      act: 'resume',
      word: 'Go on',
      what: `${count(n('due', 'silent'), 'laptop')} get the change at their next check-in. The ${number(n('failed'))} that failed and the ${number(n('lost'))} that are lost do not stop it again.`,
    });
  if (['running', 'paused', 'stopped'].includes(r.progress)) {
    out.push({
      act: 'finish',
      word: 'Finish now',
      what: `${count(n('waiting', 'due', 'silent', 'excused'), 'laptop')} that have not taken the change get it at their next check-in. It becomes part of the live estate.`,
    });
    out.push({
      act: 'take-back',
      word: 'Take back',
      what: `${count(n('taken', 'failed', 'lost'), 'laptop')} that have the change get what they had before at their next check-in. No laptop gets the change any more.`,
    });
  }
  return out;
}

export function Acts({ r }: { r: Rollout }) {
  const may = useMay('operate-rollouts');
  const [asking, setAsking] = useState<Doing>();
  const [why, setWhy] = useState('');
  const act = useAct(r, () => setAsking(undefined));
  const list = doings(r);
  if (!may || list.length === 0) return null;
  return (
    <>
      {list.map((d) => (
        <button
          key={d.act}
          type="button"
          className={`btn btn-sm ${d.strong ? 'btn-primary' : ''}`}
          onClick={() => {
            act.reset();
            setWhy('');
            setAsking(d);
          }}
        >
          {d.word} …
        </button>
      ))}
      <Dialog open={!!asking} onClose={() => setAsking(undefined)} title={`${asking?.word}?`}>
        <form
          className="flex flex-col gap-3 text-sm"
          onSubmit={(e) => {
            e.preventDefault();
            if (asking) act.mutate({ act: asking.act, note: why });
          }}
        >
          <p>{asking?.what}</p>
          <Field label="Why, for the record">
            <input className="input input-sm w-full" maxLength={10_000} value={why} onChange={(e) => setWhy(e.target.value)} />
          </Field>
          <Failed error={act.error} />
          <div className="flex justify-end gap-2">
            <button type="button" data-cancel className="btn btn-sm" onClick={() => setAsking(undefined)}>
              Cancel
            </button>
            <button
              type="submit"
              className={`btn btn-sm ${asking?.act === 'take-back' || asking?.act === 'finish' ? 'btn-warning' : 'btn-primary'}`}
              disabled={act.isPending}
            >
              {asking?.word}
            </button>
          </div>
        </form>
      </Dialog>
    </>
  );
}
