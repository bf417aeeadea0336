// Lets a unit or group stop inheriting kinds of policy or areas of the dictionary: first what it would lose, in numbers, then the choice
// to start from today's values.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Unlink } from 'lucide-react';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got, type Detachment } from '../../api/client';
import { keys, useAreas } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { useOpenChange, type Subject } from '../../ui/change';
import { Dialog, Failed, Field, Loading } from '../../ui/parts';
import { count, number, ValueText } from '../../ui/words';

const kinds = ['configuration', 'security', 'encryption'];
const noAreas: string[] = [];

/** What a place does not inherit, in words. */
export const detachText = (list: Detachment[]) => list.map((d) => d.what.replace(/^area:/, 'area ')).join(', ');

export function DetachButton({ place, title, detach, small = false }: { place: string; title: string; detach: Detachment[]; small?: boolean }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button
        type="button"
        className={small ? 'btn btn-ghost btn-xs' : 'btn btn-sm'}
        aria-label={small ? `Detach: ${title}` : undefined}
        onClick={() => setOpen(true)}
      >
        <Unlink size={small ? 13 : 14} aria-hidden /> Detach
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title={`${title}: stop inheriting`} wide>
        <DetachForm place={place} title={title} detach={detach} />
      </Dialog>
    </>
  );
}

function DetachForm({ place, title, detach }: { place: string; title: string; detach: Detachment[] }) {
  const { id: change, change: open, need } = useOpenChange();
  const [chosen, setChosen] = useState<string[]>(detach.map((d) => d.what));
  const [reason, setReason] = useState('');
  const [reviewOn, setReviewOn] = useState('');
  const [keep, setKeep] = useState(true);
  const areas = useAreas().data ?? noAreas;
  const go = useNavigate();
  const before = detach.map((d) => d.what);
  const more = chosen.filter((what) => !before.includes(what));
  const altered = more.length > 0 || chosen.length !== before.length;
  const wanted = chosen.map(
    (what) =>
      detach.find((d) => d.what === what) ?? { what, ...(reason.trim() ? { reason: reason.trim() } : {}), ...(reviewOn ? { review_on: reviewOn } : {}) },
  );
  const look = useQuery({
    queryKey: [...keys.estate, 'detach', place, chosen, change ?? '', open?.version ?? 0],
    queryFn: () =>
      got(
        api.POST('/api/v1/changes/{id}/detached', {
          params: { path: { id: change ?? 'live' } },
          body: { place, detach: chosen.map((what) => ({ what })), keep: true, look: true },
        }),
      ),
    enabled: more.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const d = more.length > 0 ? look.data : undefined;
  const save = useWrite(
    async () => {
      const into = await need(`${title} stops inheriting ${detachText(wanted) || 'nothing'}`, [place.replace(/^(unit|group):/, '$1s/') as Subject]);
      await got(api.POST('/api/v1/changes/{id}/detached', { params: { path: { id: into } }, body: { place, detach: wanted, keep: keep && more.length > 0 } }));
      return into;
    },
    { alters: [keys.changes, keys.estate], done: (into) => go(`/changes/${into}`) },
  );
  const box = (what: string, word: string) => (
    <label key={what} className="flex items-center gap-1.5">
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={chosen.includes(what)}
        onChange={(e) => setChosen(e.target.checked ? [...chosen, what] : chosen.filter((o) => o !== what))}
      />
      {word}
    </label>
  );
  return (
    <div className="flex flex-col gap-3 text-sm">
      <fieldset>
        <legend className="font-medium">Stop inheriting these kinds of policy</legend>
        <div className="mt-1 flex gap-4">{kinds.map((k) => box(k, k))}</div>
      </fieldset>
      <fieldset>
        <legend className="font-medium">Stop inheriting settings of these areas</legend>
        <div className="mt-1 grid grid-cols-2 gap-x-4 gap-y-1 sm:grid-cols-4">{areas.map((a) => box(`area:${a}`, a))}</div>
      </fieldset>
      {detach.length > 0 && (
        <ul className="quiet text-[13px]">
          {detach.map((one) => (
            <li key={one.what}>
              {detachText([one])}: {one.reason || 'no reason was given'}
              {one.review_on && <>, to be reviewed on {one.review_on}</>}
            </li>
          ))}
        </ul>
      )}
      {more.length > 0 && (
        <div className="grid gap-3 sm:grid-cols-[1fr_12rem]">
          <Field label="Reason" hint="Kept with it: the next person asks why">
            <input className="input input-sm w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
          </Field>
          <Field label="Review on" hint="The overview shows it then">
            <input type="date" className="input input-sm w-full" value={reviewOn} onChange={(e) => setReviewOn(e.target.value)} />
          </Field>
        </div>
      )}
      {more.length === 0 && (
        <p className="quiet">
          {altered
            ? 'It inherits again: what is set above arrives there from then on.'
            : 'Choose a kind or an area to see what would no longer arrive. Locked entries and lists that add up arrive all the same.'}
        </p>
      )}
      <Failed error={look.error} />
      {more.length > 0 && look.isPending && <Loading rows={4} />}
      {d && (
        <>
          <p role="alert" className="rounded border border-warning/50 bg-warning/8 px-3 py-2">
            <strong className="text-lg tabular-nums">{number(d.touched)}</strong> of its {count(d.devices, 'laptop')} would lose{' '}
            {count(new Set(d.entries.map((e) => e.setting)).size, 'setting')} from {count(d.policies, 'policy', 'policies')}, and{' '}
            <strong>later changes from above won’t arrive</strong>. The page of units lists what was missed since.
          </p>
          <div className="max-h-56 overflow-auto rounded border border-base-300">
            <table className="table table-sm">
              <caption className="sr-only">What would no longer arrive</caption>
              <thead>
                <tr>
                  <th scope="col">Would no longer arrive</th>
                  <th scope="col">From the policy</th>
                  <th scope="col">Value</th>
                  <th scope="col" className="text-right">
                    Laptops
                  </th>
                </tr>
              </thead>
              <tbody>
                {d.entries.map((e) => (
                  <tr key={e.policy + e.setting}>
                    <th scope="row">{e.title || e.setting}</th>
                    <td>{e.policy_title || e.policy}</td>
                    <td>
                      <ValueText of={e.value} />
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
                Start from today’s values: {count(d.today.length, 'setting')} become a policy of its own, <span className="id">{d.policy}</span>, in the same
                change.
                {d.today.some((t) => t.others > 0) && (
                  <span className="block text-warning">
                    {count(d.today.filter((t) => t.others > 0).length, 'setting has', 'settings have')} different values there today; the most frequent is
                    taken.
                  </span>
                )}
              </span>
            </label>
          )}
        </>
      )}
      <Failed error={save.error} />
      <button
        type="button"
        className="btn btn-primary btn-sm self-end"
        disabled={!altered || (more.length > 0 && (!d || !reason.trim())) || save.isPending}
        onClick={() => save.mutate()}
      >
        Put into {change ? 'the change' : 'a change'}
      </button>
    </div>
  );
}
