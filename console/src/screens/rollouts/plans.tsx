// All rollout plans.
import { Plus } from 'lucide-react';
import { Link } from 'react-router';
import { useRolloutPlans } from '../../api/rollouts';
import { Empty, Failed, Heads, Id, Loading, Page } from '../../ui/parts';
import { waveWord } from '../../ui/rollout';

export function PlansScreen() {
  const list = useRolloutPlans();
  return (
    <Page
      title="Rollout plans"
      lead={
        <>
          In what waves a change goes to laptops, and when it stops by itself.{' '}
          <Link className="link" to="/rollouts">
            Rollouts
          </Link>
        </>
      }
      actions={
        <Link className="btn btn-primary btn-sm" to="/rollouts/plans/new">
          <Plus size={15} aria-hidden /> New plan
        </Link>
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data?.length === 0 && (
        <div className="sheet">
          <Empty
            action={
              <Link className="btn btn-sm" to="/rollouts/plans/new">
                Write the first plan
              </Link>
            }
          >
            There is no plan yet: a published change goes to all laptops at once. With a plan it begins with a few.
          </Empty>
        </div>
      )}
      {!!list.data?.length && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Rollout plans</caption>
            <Heads of={['Plan', 'Waves', 'Stops when more than', 'Hours']} />
            <tbody>
              {list.data.map((p) => (
                <tr key={p.id}>
                  <th scope="row" className="align-top">
                    <Link to={`/rollouts/plans/${p.id}`} className="font-medium hover:underline">
                      {p.title || p.id}
                    </Link>
                    <div className="quiet">
                      <Id>{p.id}</Id>
                      {p.default && ' · the default'}
                    </div>
                  </th>
                  <td className="align-top">
                    <ol>
                      {(p.waves ?? []).map((w) => (
                        <li key={w.id}>
                          <span className="font-medium">{w.id}</span> <span className="quiet">{waveWord(w, (t) => t.replace(/^\w+:/, ''))}</span>
                          {w.least && `, for ${w.least} at least`}
                          {w.go === 'by-hand' && ', opened by a person'}
                        </li>
                      ))}
                      {!p.waves?.length && <li className="quiet">one wave for all</li>}
                    </ol>
                  </td>
                  <td className="align-top whitespace-nowrap">
                    {p.stop?.failed ?? 5} % fail
                    <br />
                    {p.stop?.lost ?? 2} % are lost
                  </td>
                  <td className="align-top">
                    {p.hours?.length ? p.hours.map((h) => `${h.days?.join(', ')} ${h.from}–${h.to}`).join('; ') : 'always'}{' '}
                    {p.hours?.length ? (p.zone ?? 'UTC') : ''}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Page>
  );
}
