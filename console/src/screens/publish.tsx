// Publishing a change: by which plan it goes out, in what waves, and what it does.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, got, type Change, type Impact, type Review } from '../api/client';
import { keys, queries, useMay } from '../api/queries';
import { useRolloutPlans } from '../api/rollouts';
import { useWrite } from '../api/writes';
import { announce } from '../ui/announce';
import { useOpenChange } from '../ui/change';
import { ImpactSummary } from '../ui/impact';
import { Dialog, Failed, Faults, Field } from '../ui/parts';
import { lengthOf } from '../ui/rollout';
import { count, number } from '../ui/words';

const atOnce = 'at once';

export function Publish({ change, impact, review }: { change: Change; impact?: Impact; review?: Review }) {
  const [asking, setAsking] = useState(false);
  const ready = !!impact && !impact.faults?.length && (change.edits?.length ?? 0) > 0;
  const urgent = !!review && !review.approved;
  const mayUrgent = useMay('publish-urgent');
  if (urgent && !mayUrgent) return null;
  return (
    <>
      <button type="button" className={`btn btn-sm ${urgent ? '' : 'btn-primary'}`} disabled={!ready} onClick={() => setAsking(true)}>
        {urgent ? 'Publish urgently …' : 'Publish …'}
      </button>
      <Dialog open={asking} onClose={() => setAsking(false)} title={`Publish ‘${change.title}’?`} wide>
        {impact && <PublishForm change={change} impact={impact} review={review} urgent={urgent} onDone={() => setAsking(false)} />}
      </Dialog>
    </>
  );
}

function PublishForm({ change, impact, review, urgent, onDone }: { change: Change; impact: Impact; review?: Review; urgent: boolean; onDone: () => void }) {
  const { choose, id } = useOpenChange();
  const go = useNavigate();
  const plans = (useRolloutPlans().data ?? []).toSorted((a, b) => Number(!!b.default) - Number(!!a.default)); // the default first
  const [chosen, setChosen] = useState<string>();
  const [why, setWhy] = useState('');
  const [typed, setTyped] = useState('');
  const plan = chosen ?? plans.find((p) => p.default)?.id ?? atOnce;
  const everyone = impact.estate > 0 && impact.devices === impact.estate && plan === atOnce;
  const publish = useWrite(
    () =>
      got(
        api.POST('/api/v1/changes/{id}/publish', {
          params: { path: { id: change.id }, header: { 'If-Match': `"${change.version}"` } },
          body: { ...(plan === atOnce ? { at_once: true } : { plan }), ...(urgent ? { urgent: why } : {}) },
        }),
      ),
    {
      done: async (done) => {
        if (id === change.id) choose(undefined);
        onDone();
        await queries.invalidateQueries();
        if (done.rollout && !done.waits_for?.length) {
          announce(`The rollout of ‘${change.title}’ has started.`);
          go(`/rollouts/${done.rollout}`);
        } else if (done.rollout) {
          announce(`‘${change.title}’ is published, and waits for another rollout.`);
          go(`/rollouts/${done.rollout}`);
        } else announce(`Published ‘${change.title}’. Laptops get it when they check in next.`);
      },
    },
  );
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        publish.mutate();
      }}
    >
      <ImpactSummary of={impact} />
      <fieldset className="flex flex-col gap-1.5 text-sm">
        <legend className="mb-1 font-medium">How it goes to laptops</legend>
        {plans.map((p) => (
          <label key={p.id} className="flex items-start gap-2">
            <input type="radio" name="plan" className="radio mt-0.5" checked={plan === p.id} onChange={() => setChosen(p.id)} />
            <span>
              {p.title || p.id}
              {p.default && <span className="quiet"> · the default</span>}
              <span className="quiet block text-[13px]">{p.waves?.map((w) => w.id).join(', then ') || 'one wave for all'}</span>
            </span>
          </label>
        ))}
        <label className="flex items-start gap-2">
          <input type="radio" name="plan" className="radio mt-0.5" checked={plan === atOnce} onChange={() => setChosen(atOnce)} />
          <span>
            To all laptops at once
            <span className="quiet block text-[13px]">no waves: nothing stops by itself, and going back needs a change of its own</span>
          </span>
        </label>
      </fieldset>
      {plan !== atOnce && <Waves change={change} plan={plan} />}
      {review?.waits_for?.map((w) => (
        <p key={w.rollout} className="text-sm text-warning">
          It starts when{' '}
          <Link className="link" to={`/rollouts/${w.rollout}`}>
            {w.title}
          </Link>{' '}
          is over, {w.objects?.length ? `which edits ${w.objects.join(', ')}, too` : 'which brings what it names'}.
        </p>
      ))}
      {urgent && (
        <div className="rounded border border-warning bg-warning/10 p-3">
          <Field label="Why it cannot wait for its approvals" hint="It is announced on the overview, and the approvals must follow within three days.">
            <input className="input input-sm w-full" required minLength={10} value={why} onChange={(e) => setWhy(e.target.value)} />
          </Field>
        </div>
      )}
      {everyone && (
        <div className="rounded border border-warning bg-warning/10 p-3">
          <Field label={`This reaches every laptop of the company at once. Type the change’s title to go on: ${change.title}`}>
            <input className="input input-sm w-full" value={typed} onChange={(e) => setTyped(e.target.value)} />
          </Field>
        </div>
      )}
      <Failed error={publish.error} />
      <div className="flex justify-end gap-2">
        <button type="button" data-cancel className="btn btn-sm" onClick={onDone}>
          Cancel
        </button>
        <button type="submit" className="btn btn-primary btn-sm" disabled={publish.isPending || (everyone && typed !== change.title)}>
          {plan === atOnce ? `Publish (values change on ${count(impact.devices, 'laptop')})` : 'Publish, and begin with the first wave'}
        </button>
      </div>
    </form>
  );
}

/** The waves that a plan makes of a change's laptops. */
function Waves({ change, plan }: { change: Change; plan: string }) {
  const plans = useRolloutPlans().data ?? [];
  const doc = plans.find((p) => p.id === plan);
  const tried = useQuery({
    queryKey: [...keys.estate, 'plan', change.id, change.version, doc],
    queryFn: () => got(api.POST('/api/v1/rollout-plans/try', { body: { plan: doc!, change: change.id } })),
    enabled: !!doc,
  }).data;
  if (!tried) return <div className="skeleton h-8 rounded" />;
  if (tried.faults?.length)
    return (
      <div role="alert" className="text-sm text-error">
        <p className="font-medium">By this plan it cannot start:</p>
        <Faults list={tried.faults} />
      </div>
    );
  return (
    <ol className="flex flex-wrap gap-x-6 gap-y-1 text-sm">
      {tried.waves.map((w) => (
        <li key={w.id}>
          <span className="font-medium">{w.id}</span> {count(w.laptops, 'laptop')}
          <span className="quiet text-[13px]">
            {' '}
            {w.platforms.map((p) => `${p.id} ${number(p.laptops)}`).join(', ')}
            {w.opened && `, ${w.opened === tried.started ? 'at once' : `after ${lengthOf((Date.parse(w.opened) - Date.parse(tried.started)) / 1000)}`}`}
          </span>
        </li>
      ))}
    </ol>
  );
}
