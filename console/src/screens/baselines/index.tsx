// Baselines: named sets of values by which laptops are measured.
import { useQuery } from '@tanstack/react-query';
import { Plus } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type BaselineDoc } from '../../api/client';
import { keys, useMay } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Dialog, Empty, Failed, Heads, Id, Loading, Page } from '../../ui/parts';
import { count, number } from '../../ui/words';
import { ShareBar } from './share';
import { BaselineForm, emptyBaseline } from './form';

export const baselinesKey = [...keys.devices, 'baselines'];

export function BaselinesScreen() {
  const { data, error, isPending } = useQuery({ queryKey: baselinesKey, queryFn: () => got(api.GET('/api/v1/baselines')) });
  const { change } = useOpenChange();
  const may = useMay('write');
  const [making, setMaking] = useState<BaselineDoc>();
  const drafts = (change?.edits ?? []).filter((e) => e.kind === 'baselines');
  const begin = (word: string) => (
    <button type="button" className="btn btn-primary btn-sm" onClick={() => setMaking(emptyBaseline)}>
      <Plus size={15} aria-hidden /> {word}
    </button>
  );
  return (
    <Page
      title="Baselines"
      lead="Values that laptops are to have, whatever sets them. A baseline measures; it never overrides a policy."
      actions={may && begin('New baseline')}
    >
      <Failed error={error} />
      {isPending && <Loading />}
      {data?.length === 0 && (
        <div className="sheet">
          <Empty action={may && begin('Make the first baseline')}>
            There is no baseline yet. Take one from a policy or from a laptop that is as it should be, and see which laptops differ.
          </Empty>
        </div>
      )}
      {!!data?.length && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Baselines</caption>
            <Heads of={['Baseline', 'Comply', 'Laptops', 'Differ', 'Not known', 'Settings']} />
            <tbody>
              {data.map((b) => (
                <tr key={b.id}>
                  <th scope="row">
                    <Link className="font-medium hover:underline" to={`/baselines/${b.id}`}>
                      {b.title || b.id}
                    </Link>
                    <div className="quiet">
                      <Id>{b.id}</Id>
                    </div>
                  </th>
                  <td className="min-w-56">
                    <ShareBar of={b.count} line={b.alert_below} below={b.below} />
                  </td>
                  <td className="tabular-nums">{number(b.count.laptops)}</td>
                  <td className="tabular-nums">{number(b.count.differs)}</td>
                  <td className="tabular-nums">{number(b.count.unknown)}</td>
                  <td className="tabular-nums">{number(b.settings)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {drafts.length > 0 && <p className="quiet text-sm">The open change has {count(drafts.length, 'edit')} of baselines. They count once it is published.</p>}
      <Dialog open={!!making} onClose={() => setMaking(undefined)} title="New baseline" wide>
        {making && <BaselineForm start={making} onDone={() => setMaking(undefined)} />}
      </Dialog>
    </Page>
  );
}
