// Ways to settle a clash, each with what it would do before anybody chooses.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, type ClashWay, type Conflict, type TrialEdit } from '../api/client';
import { keys } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { ImpactPanel } from '../ui/impact';
import { Dialog, Failed, Field, Loading } from '../ui/parts';
import { count, number } from '../ui/words';

const words: Record<ClashWay['kind'], (policy: string, c: Conflict) => string> = {
  prefer: (p) => `A ruling prefers ${p}`,
  raise: (p) => `${p} gets a higher priority`,
  lock: (p) => `${p} locks its value`,
  'leave-out': (p, c) => {
    const others = c.policies.filter((o) => o !== p);
    return `${others.join(' and ')} ${others.length > 1 ? 'leave' : 'leaves'} out whom ${p} is for`;
  },
  drop: (p) => `${p} no longer sets it`,
};

/** What a way does, in the fewest words. */
function effect(w: ClashWay): string {
  const left = w.left === 0 ? 'settles it' : w.left === w.touched ? 'settles it nowhere' : `leaves it on ${count(w.left, 'laptop')}`;
  return [left, `${count(w.devices, 'laptop')} differ`, w.weaker > 0 ? `${number(w.weaker)} get weaker` : '', w.gained > 0 ? `brings ${count(w.gained, 'other clash', 'other clashes')}` : ''].filter(Boolean).join(' · ');
}

export function Ways({ c }: { c: Conflict }) {
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState<ClashWay>();
  const { change } = useOpenChange();
  const ways = useQuery({
    queryKey: [...keys.estate, 'ways', c.setting, c.policies, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/clashes/ways', { params: { query: { setting: c.setting, policies: c.policies, ...(change ? { change: change.id } : {}) } } })),
    enabled: open,
    retry: false,
  });
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer text-sm">Other ways to settle it, and what each does</summary>
      <div className="mt-2 flex flex-col gap-2">
        <Failed error={ways.error} />
        {open && ways.isPending && <Loading rows={3} />}
        {ways.data && (
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Way</th>
                <th>What it does</th>
                <th />
              </tr>
            </thead>
            <tbody>
              {ways.data.map((w) => (
                <tr key={w.kind + w.policy}>
                  <td>{words[w.kind](w.policy, c)}</td>
                  <td className={w.left > 0 || w.gained > 0 || w.weaker > 0 ? 'text-warning' : 'quiet'}>{effect(w)}</td>
                  <td className="text-right">
                    <button type="button" className="btn btn-ghost btn-sm" onClick={() => setChosen(w)}>
                      Look closer
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {chosen && <Closer c={c} way={chosen} onClose={() => setChosen(undefined)} />}
    </details>
  );
}

function Closer({ c, way, onClose }: { c: Conflict; way: ClashWay; onClose: () => void }) {
  const open = useOpenChange();
  const [reason, setReason] = useState('');
  const [error, setError] = useState<unknown>();
  const rules = way.kind === 'prefer';
  const edits = way.edits.map((e) => ({ kind: e.kind, id: e.id, body: { ...(e.body as object), ...(rules && reason ? { reason } : {}) } })) as unknown as TrialEdit[];
  const keep = async () => {
    try {
      for (const e of edits) {
        const there = open.change?.edits?.find((x) => x.kind === e.kind && x.id === e.id);
        await open.put(e.kind as 'policies', e.body as unknown as { id: string }, there?.version, `Settle ${c.title || c.setting}`);
      }
      onClose();
    } catch (refused) {
      setError(refused);
    }
  };
  return (
    <Dialog open onClose={onClose} title={words[way.kind](way.policy, c)} wide>
      <div className="flex flex-col gap-4">
        <ImpactPanel title={open.change ? `What ‘${open.change.title}’ does with it` : 'What it does'} asked={{ change: open.id, version: open.change?.version, edits: way.edits as unknown as TrialEdit[] }} />
        {rules && (
          <Field label="Reason" hint="Kept with the ruling: the next person asks why">
            <input className="input w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
          </Field>
        )}
        <Failed error={error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={onClose}>
            Not this
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={rules && !reason.trim()} onClick={() => void keep()}>
            Put it into the change
          </button>
        </div>
      </div>
    </Dialog>
  );
}
