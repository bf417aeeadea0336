// Lets a unit or group go its own way for kinds of policy: first what that costs in numbers, and the choice to start from today's values.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { GitBranch } from 'lucide-react';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got, type Value } from '../../api/client';
import { keys, queries } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Dialog, Failed, Loading } from '../../ui/parts';
import { count, number, ValueText } from '../../ui/words';

const allKinds = ['configuration', 'security', 'encryption'] as const;
type Kind = (typeof allKinds)[number];

export function DetachButton({ place, title, kinds, small = false }: { place: string; title: string; kinds: string[]; small?: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className={small ? 'btn btn-ghost btn-xs' : 'btn btn-sm'} onClick={() => setOpen(true)}>
        <GitBranch size={small ? 13 : 14} aria-hidden /> Own way
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title={`${title}: going its own way`} wide>
        <Detaching place={place} title={title} kinds={kinds as Kind[]} />
      </Dialog>
    </>
  );
}

function Detaching({ place, title, kinds }: { place: string; title: string; kinds: Kind[] }) {
  const { id: change, change: open, need } = useOpenChange();
  const [chosen, setChosen] = useState<Kind[]>(kinds);
  const [keep, setKeep] = useState(true);
  const [error, setError] = useState<unknown>();
  const go = useNavigate();
  const altered = allKinds.some((k) => chosen.includes(k) !== kinds.includes(k));
  const more = chosen.filter((k) => !kinds.includes(k));
  const look = useQuery({
    queryKey: [...keys.estate, 'detach', place, chosen, change ?? '', open?.version ?? 0],
    queryFn: () => got(api.POST('/api/v1/changes/{id}/detached', { params: { path: { id: change ?? 'live' } }, body: { place, kinds: chosen, keep: true, look: true } })),
    enabled: more.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const d = more.length > 0 ? look.data : undefined;
  const keepIt = async () => {
    const into = await need(`${title} goes its own way`);
    await got(api.POST('/api/v1/changes/{id}/detached', { params: { path: { id: into } }, body: { place, kinds: chosen, keep: keep && more.length > 0 } }));
    await queries.invalidateQueries({ queryKey: keys.changes });
    await queries.invalidateQueries({ queryKey: keys.estate });
    go(`/changes/${into}`);
  };
  return (
    <div className="flex flex-col gap-3 text-sm">
      <fieldset>
        <legend className="font-medium">Stop taking these kinds of policy from above</legend>
        <div className="mt-1 flex gap-4">
          {allKinds.map((k) => (
            <label key={k} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                className="checkbox checkbox-sm"
                checked={chosen.includes(k)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, k] : chosen.filter((o) => o !== k))}
              />
              {k}
            </label>
          ))}
        </div>
      </fieldset>
      {more.length === 0 && <p className="quiet">{altered ? 'It takes part again: what is set above arrives there from then on.' : 'Choose a kind to see what would no longer arrive. Locked entries and lists that add up arrive all the same.'}</p>}
      <Failed error={look.error} />
      {more.length > 0 && look.isPending && <Loading rows={4} />}
      {d && (
        <>
          <p role="alert" className="rounded border border-warning/50 bg-warning/8 px-3 py-2">
            <strong className="text-lg tabular-nums">{number(d.touched)}</strong> of its {count(d.devices, 'laptop')} would lose{' '}
            {count(new Set(d.entries.map((e) => e.setting)).size, 'setting')} from {count(d.policies, 'policy', 'policies')}, and <strong>later changes from above won’t arrive</strong>. What was missed stands on the page of units from then on.
          </p>
          <div className="max-h-56 overflow-auto rounded border border-base-300">
            <table className="table table-sm">
              <thead>
                <tr>
                  <th>Would no longer arrive</th>
                  <th>From the policy</th>
                  <th>Value</th>
                  <th className="text-right">Laptops</th>
                </tr>
              </thead>
              <tbody>
                {d.entries.map((e) => (
                  <tr key={e.policy + e.setting}>
                    <td>{e.title || e.setting}</td>
                    <td>{e.policy_title || e.policy}</td>
                    <td>
                      <ValueText of={e.value as Value} />
                    </td>
                    <td className="text-right tabular-nums">{number(e.devices)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {d.today.length > 0 && (
            <label className="flex items-start gap-2">
              <input type="checkbox" className="checkbox checkbox-sm mt-0.5" checked={keep} onChange={(e) => setKeep(e.target.checked)} />
              <span>
                Start from today’s values: {count(d.today.length, 'setting')} become a policy of its own, <span className="id">{d.policy}</span>, in the same change.
                {d.today.some((t) => t.others > 0) && (
                  <span className="block text-warning">
                    {count(d.today.filter((t) => t.others > 0).length, 'setting has', 'settings have')} different values there today; the most frequent is taken.
                  </span>
                )}
              </span>
            </label>
          )}
        </>
      )}
      <Failed error={error} />
      <button type="button" className="btn btn-primary btn-sm self-end" disabled={!altered || (more.length > 0 && !d)} onClick={() => void keepIt().catch(setError)}>
        Put into {change ? 'the change' : 'a change'}
      </button>
    </div>
  );
}
