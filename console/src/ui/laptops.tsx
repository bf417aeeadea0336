// The laptops behind one number of an impact: a list that can be taken away as a table.
import { useQuery } from '@tanstack/react-query';
import { Download } from 'lucide-react';
import { useState, type ReactNode } from 'react';
import { Link } from 'react-router';
import { api, got, type ImpactDevice, type TrialEdit } from '../api/client';
import { keys } from '../api/queries';
import { Dialog, Failed, Heads, Loading } from './parts';
import { count, number } from './words';

/** What an impact was asked of: a change, edits on top of it, or both. */
export interface Asked {
  change?: string;
  version?: number;
  edits: TrialEdit[];
}

const shown = 200;

const laptops = (asked: Asked, part: string, limit: number) =>
  got(
    api.POST('/api/v1/impact/devices', { params: { query: { part, limit, ...(asked.change ? { change: asked.change } : {}) } }, body: { edits: asked.edits } }),
  );

const cell = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

function table(list: ImpactDevice[]): string {
  const rows = list.map((d) => [d.id, d.serial ?? '', d.owner ?? '', d.owner_name ?? '', d.unit, d.os, d.os_version, d.model ?? '']);
  return [['id', 'serial', 'owner', 'owner_name', 'unit', 'os', 'os_version', 'model'], ...rows].map((r) => r.map(cell).join(',')).join('\n') + '\n';
}

/** A number of laptops; where it is known what was asked, it opens the list of them. */
export function Laptops({ n, part, asked, of, children }: { n: number; part: string; asked?: Asked; of: string; children?: ReactNode }) {
  const [open, setOpen] = useState(false);
  const words = children ?? number(n);
  if (!asked || n === 0) return <span className="tabular-nums">{words}</span>;
  return (
    <>
      <button
        type="button"
        className="cursor-pointer rounded tabular-nums underline decoration-dotted underline-offset-4 hover:text-primary"
        aria-label={`${count(n, 'laptop')}: ${of}`}
        onClick={() => setOpen(true)}
      >
        {words}
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title={`${count(n, 'laptop')}: ${of}`} wide>
        <List asked={asked} part={part} of={of} />
      </Dialog>
    </>
  );
}

function List({ asked, part, of }: { asked: Asked; part: string; of: string }) {
  const [error, setError] = useState<unknown>();
  const list = useQuery({ queryKey: [...keys.estate, 'impact', 'laptops', asked, part], queryFn: () => laptops(asked, part, shown), retry: false });
  const take = async () => {
    try {
      const all = await laptops(asked, part, 100_000);
      const link = document.createElement('a');
      link.href = URL.createObjectURL(new Blob([table(all.items)], { type: 'text/csv' }));
      link.download = `${of.replace(/[^\w]+/g, '-').toLowerCase()}.csv`;
      link.click();
      URL.revokeObjectURL(link.href);
    } catch (refused) {
      setError(refused);
    }
  };
  if (list.isPending) return <Loading rows={4} />;
  const items = list.data?.items ?? [];
  return (
    <div className="flex flex-col gap-3 text-sm">
      <Failed error={error ?? list.error} />
      <div className="max-h-[55vh] overflow-auto">
        <table className="table table-sm">
          <caption className="sr-only">Laptops</caption>
          <Heads of={['Laptop', 'Owner', 'Unit', 'System']} />
          <tbody>
            {items.map((d) => (
              <tr key={d.id}>
                <th scope="row">
                  <Link to={`/devices/${d.id}`} className="id link link-hover">
                    {d.id}
                  </Link>
                </th>
                <td>{d.owner_name || d.owner || <span className="quiet">nobody</span>}</td>
                <td className="id">{d.unit}</td>
                <td>
                  {d.os} {d.os_version}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="flex items-center justify-between gap-3">
        <span className="quiet">{list.data?.next ? `The first ${number(items.length)} by id; the table has all` : 'All of them, by id'}</span>
        <button type="button" className="btn btn-sm" onClick={() => void take()}>
          <Download size={14} aria-hidden /> Take as a table
        </button>
      </div>
    </div>
  );
}
