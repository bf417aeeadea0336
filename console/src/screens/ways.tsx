// Ways to settle conflicts and problems, each with what it would do before anybody chooses.
import { useState } from 'react';
import type { ConflictWay } from '../api/client';
import { useWays, type Disagreement } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { ImpactPanel } from '../ui/impact';
import { Dialog, Failed, Field, Loading } from '../ui/parts';
import { count, number } from '../ui/words';

/** What ways are about. */
export interface About {
  of: Disagreement;
  title: string;
  names: Record<string, string>; // of the policies, by id
}

/** A way that is chosen to be looked at. */
export type Choice = Pick<ConflictWay, 'kind' | 'policy'>;

function wayText(w: ConflictWay, { of, names }: About): string {
  const p = `‘${w.title || w.policy}’`;
  const others = of.policies.filter((o) => o !== w.policy).map((o) => `‘${names[o] ?? o}’`);
  const several = (of.setting?.length ?? 1) > 1;
  switch (w.kind) {
    case 'prefer':
      return `${several ? 'Rulings prefer' : 'A ruling prefers'} ${p}`;
    case 'raise':
      return `${p} gets a higher priority`;
    case 'lock':
      return `${p} locks its ${several ? 'values' : 'value'}`;
    case 'lock-above':
      return `${p} above locks its ${several ? 'values' : 'value'}`;
    case 'leave-out':
      return `${others.join(' and ')} ${others.length > 1 ? 'leave' : 'leaves'} out whom ${p} is for`;
    case 'narrow':
      return `${p} leaves out ${(w.targets ?? []).slice(0, 3).join(', ')}${(w.targets?.length ?? 0) > 3 ? ` and ${w.targets!.length - 3} more` : ''}`;
    case 'drop':
      return `${p} no longer sets ${of.check ? 'what the check looks at' : several ? 'them' : 'it'}`;
  }
}

/** What a way does, in the fewest words. */
function effect(w: ConflictWay): string {
  const left = w.left === 0 ? 'settles it' : w.left === w.touched ? 'settles it nowhere' : `leaves it on ${count(w.left, 'laptop')}`;
  return [
    left,
    `${count(w.devices, 'laptop')} differ`,
    w.weaker > 0 ? `${number(w.weaker)} get weaker` : '',
    w.gained > 0 ? `brings ${count(w.gained, 'other conflict', 'other conflicts')}` : '',
  ]
    .filter(Boolean)
    .join(' · ');
}

export function Ways({ about, onChoose }: { about: About; onChoose: (way: Choice) => void }) {
  const [open, setOpen] = useState(false);
  const { change } = useOpenChange();
  const ways = useWays(about.of, change, open);
  return (
    <details onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className="cursor-pointer text-sm">
        {about.of.check
          ? 'Ways to make it right, and what each does'
          : (about.of.setting?.length ?? 1) > 1
            ? 'Ways to settle all of these at once, and what each does'
            : 'Other ways to settle it, and what each does'}
      </summary>
      <div className="mt-2 flex flex-col gap-2">
        <Failed error={ways.error} />
        {open && ways.isPending && <Loading rows={3} />}
        {ways.data?.length === 0 && <p className="quiet text-sm">No policy is part of it, so no edit of one settles it.</p>}
        {ways.data && ways.data.length > 0 && (
          <table className="table table-sm">
            <caption className="sr-only">Ways to settle it</caption>
            <thead>
              <tr>
                <th scope="col">Way</th>
                <th scope="col">What it does</th>
                <th scope="col">
                  <span className="sr-only">Look closer</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {ways.data.map((w) => (
                <tr key={w.kind + w.policy}>
                  <th scope="row">{wayText(w, about)}</th>
                  <td className={w.left > 0 || w.gained > 0 || w.weaker > 0 ? 'text-warning' : 'quiet'}>{effect(w)}</td>
                  <td className="text-right">
                    <button type="button" className="btn btn-ghost btn-sm whitespace-nowrap" onClick={() => onChoose(w)}>
                      Look closer
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
    </details>
  );
}

/** One way with the whole of what it does, and the choice to take it. */
export function Closer({ about, choice, onClose }: { about: About; choice: Choice; onClose: () => void }) {
  const open = useOpenChange();
  const ways = useWays(about.of, open.change, true);
  const way = ways.data?.find((w) => w.kind === choice.kind && w.policy === choice.policy);
  const [reason, setReason] = useState('');
  const [error, setError] = useState<unknown>();
  const rules = choice.kind === 'prefer';
  const keep = async () => {
    try {
      for (const e of way!.edits) {
        const body = rules && reason ? { ...e.body, reason } : e.body;
        const there = open.change?.edits?.find((x) => x.kind === e.kind && x.id === e.id);
        await open.put(e.kind, body, there?.version, `Settle ${about.title}`);
      }
      onClose();
    } catch (refused) {
      setError(refused);
    }
  };
  return (
    <Dialog open onClose={onClose} title={way ? wayText(way, about) : about.title} wide>
      <div className="flex flex-col gap-4">
        <Failed error={ways.error} />
        {ways.isPending && <Loading rows={3} />}
        {ways.data && !way && <p className="text-sm">This way is not open any more: what it was to settle has altered.</p>}
        {way && (
          <div className="max-h-[55vh] overflow-auto">
            <ImpactPanel
              title={open.change ? `What ‘${open.change.title}’ does with it` : 'What it does'}
              asked={{ change: open.id, version: open.change?.version, edits: way.edits }}
            />
          </div>
        )}
        {rules && (
          <Field label="Reason" hint="Kept with the ruling: the next person asks why">
            <input className="input w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
          </Field>
        )}
        <Failed error={error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={onClose}>
            Cancel
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={!way || (rules && !reason.trim())} onClick={() => void keep()}>
            Put it into the change
          </button>
        </div>
      </div>
    </Dialog>
  );
}
