// All rollouts: those under way with their waves, then those that are over.
import { Link } from 'react-router';
import type { Rollout } from '../../api/client';
import { useRollouts } from '../../api/rollouts';
import { Empty, Failed, Id, Loading, Page, Sheet } from '../../ui/parts';
import { laptopStates, Progress, StateBar, StateCounts } from '../../ui/rollout';
import { count, Time } from '../../ui/words';

export function RolloutsScreen() {
  const list = useRollouts();
  const under = (list.data ?? []).filter((r) => !r.ended_at);
  const over = (list.data ?? []).filter((r) => r.ended_at);
  return (
    <Page
      title="Rollouts"
      lead="Changes on their way to laptops, wave by wave."
      actions={
        <Link className="btn btn-sm" to="/rollouts/plans">
          Rollout plans
        </Link>
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <>
          <section aria-label="Under way" className="flex flex-col gap-4">
            {under.length === 0 && (
              <div className="sheet">
                <Empty
                  action={
                    <Link className="btn btn-sm" to="/changes?state=open">
                      To the open changes
                    </Link>
                  }
                >
                  Nothing is on its way. Publishing a change with a rollout plan begins a rollout.
                </Empty>
              </div>
            )}
            {under.map((r) => (
              <UnderWay key={r.id} r={r} />
            ))}
          </section>
          {over.length > 0 && <Over list={over} />}
        </>
      )}
    </Page>
  );
}

function UnderWay({ r }: { r: Rollout }) {
  return (
    <Sheet
      title={
        <Link to={`/rollouts/${r.id}`} className="hover:underline">
          {r.title}
        </Link>
      }
      aside={<Progress of={r} />}
    >
      <div className="flex flex-col gap-2 px-4 py-3 text-sm">
        {r.progress === 'waiting' ? (
          <p>
            It starts when {r.waits_for?.length === 1 ? 'this rollout is' : 'these rollouts are'} over:{' '}
            {r.waits_for?.map((id) => (
              <Link key={id} className="id link mr-2" to={`/rollouts/${id}`}>
                {id}
              </Link>
            ))}
          </p>
        ) : (
          <div className="grid gap-1.5">
            {r.waves.map((w) => (
              <div key={w.id} className="grid grid-cols-[8rem_minmax(0,1fr)_minmax(0,1.3fr)] items-center gap-3">
                <span className={`truncate ${w.opened_at ? 'font-medium' : 'quiet'}`} title={w.id}>
                  {w.id}
                </span>
                <StateBar counts={w.counts} laptops={w.laptops} height="h-3" />
                <StateCounts counts={w.counts} />
              </div>
            ))}
          </div>
        )}
        <p className="quiet text-[13px]">
          {count(r.laptops, 'laptop')} · plan {r.plan.title || r.plan.id} · published by {r.by} <Time at={r.published_at} />
        </p>
      </div>
    </Sheet>
  );
}

function Over({ list }: { list: Rollout[] }) {
  return (
    <div className="sheet overflow-x-auto">
      <table className="table table-sm">
        <caption className="border-b border-base-300 px-4 py-2.5 text-left text-sm font-semibold">Over</caption>
        <thead>
          <tr>
            <th scope="col">Rollout</th>
            <th scope="col">State</th>
            <th scope="col" className="text-right">
              Laptops
            </th>
            {laptopStates.slice(0, 3).map((s) => (
              <th key={s.state} scope="col" className="text-right first-letter:uppercase" title={s.means}>
                {s.word}
              </th>
            ))}
            <th scope="col">Ended</th>
            <th scope="col">Revision</th>
          </tr>
        </thead>
        <tbody>
          {list.map((r) => (
            <tr key={r.id}>
              <th scope="row">
                <Link to={`/rollouts/${r.id}`} className="font-medium hover:underline">
                  {r.title}
                </Link>
                <div className="quiet">
                  <Id>{r.id}</Id>
                </div>
              </th>
              <td>
                <Progress of={r} />
              </td>
              <td className="text-right tabular-nums">{r.laptops}</td>
              {laptopStates.slice(0, 3).map((s) => (
                <td key={s.state} className="text-right tabular-nums">
                  {r.counts[s.state] ?? 0}
                </td>
              ))}
              <td>
                <Time at={r.ended_at} />
              </td>
              <td className="tabular-nums">{r.revision || ''}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
