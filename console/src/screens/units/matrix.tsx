// Settings beside units: what most laptops of each unit have; what differs from the unit above is marked.
import { Fragment } from 'react';
import { Link, useSearchParams } from 'react-router';
import type { Prevailing } from '../../api/client';
import { useAreas, useUnitMatrix } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Empty, Failed, Loading, Page } from '../../ui/parts';
import { Prevails } from '../../ui/prevailing';
import { count, number } from '../../ui/words';

type Shown = 'units' | 'laptops' | 'all';

export function MatrixScreen() {
  const { change } = useOpenChange();
  const [params, setParams] = useSearchParams();
  const unit = params.get('unit') ?? '';
  const area = params.get('area') ?? '';
  const shown = (params.get('show') ?? 'units') as Shown;
  const query = useUnitMatrix({ ...(unit ? { unit } : {}), ...(area ? { area } : {}), ...(shown === 'all' ? { all: true } : {}) }, change);
  const areas = useAreas().data ?? [];
  const put = (name: string, value: string) =>
    setParams(
      (was) => {
        const next = new URLSearchParams(was);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: name !== 'unit' },
    );
  const m = query.data;
  const rows = (m?.rows ?? []).filter((r) => shown !== 'units' || r.cells.some((c) => c.apart));
  const grouped = [...new Set(rows.map((r) => r.area || 'Other'))].sort();
  return (
    <Page
      title="Settings by unit"
      lead={
        <>
          {m?.above.map((u) => (
            <Fragment key={u.unit}>
              <button type="button" className="link-hover link" onClick={() => put('unit', u.depth === 0 ? '' : u.unit)}>
                {u.title || u.unit}
              </button>
              {' › '}
            </Fragment>
          ))}
          {m?.units[0] && (m.units[0].title || m.units[0].unit)}
          {change && `, as it would be with ‘${change.title}’`}
        </>
      }
      actions={
        <Link className="btn btn-ghost btn-sm" to="/units">
          The tree of units
        </Link>
      }
    >
      <div className="flex flex-wrap items-center gap-3">
        <label className="flex flex-wrap items-center gap-2 text-sm">
          Show
          <select className="select select-sm w-64" value={shown} onChange={(e) => put('show', e.target.value === 'units' ? '' : e.target.value)}>
            <option value="units">what differs between units</option>
            <option value="laptops">what differs between laptops</option>
            <option value="all">every setting</option>
          </select>
        </label>
        <label className="flex items-center gap-2 text-sm">
          Area
          <select className="select select-sm w-56" value={area} onChange={(e) => put('area', e.target.value)}>
            <option value="">all areas</option>
            {areas.map((a) => (
              <option key={a} value={a}>
                {a}
              </option>
            ))}
          </select>
        </label>
        {m && (
          <span className="quiet text-sm" role="status">
            {count(rows.length, 'setting')}
            {m.even > 0 && shown !== 'all' && `; ${number(m.even)} more are alike on every laptop`}. A cell has what most laptops of the unit have; +3: three
            have it otherwise.
          </span>
        )}
      </div>
      <Failed error={query.error} />
      {query.isPending && <Loading />}
      {m && (
        <div className="sheet max-h-[calc(100vh-13rem)] overflow-auto">
          <table className="table table-sm table-pin-rows table-pin-cols">
            <caption className="sr-only">Settings by unit</caption>
            <thead>
              <tr>
                <th scope="col" className="bg-base-100">
                  Setting
                </th>
                {m.units.map((u, i) => (
                  <td key={u.unit} role="columnheader" className={`min-w-28 align-top ${i === 0 ? 'bg-base-200/60' : ''}`}>
                    {i === 0 ? (
                      <Link className="link-hover link block font-semibold" to={`/units/${u.unit}`}>
                        {u.title || u.unit}
                      </Link>
                    ) : (
                      <button
                        type="button"
                        className="link-hover link block text-left font-semibold"
                        title={`${u.title || u.unit} and the units below it`}
                        onClick={() => put('unit', u.unit)}
                      >
                        {u.title || u.unit}
                      </button>
                    )}
                    <span className="quiet text-[13px] font-normal">{count(u.devices, 'laptop')}</span>
                  </td>
                ))}
              </tr>
            </thead>
            {grouped.map((name) => (
              <tbody key={name}>
                <tr>
                  <th scope="rowgroup" className="quiet bg-base-200 py-1 text-[13px] font-medium">
                    <span className="inline-block first-letter:uppercase">{name}</span>
                  </th>
                  <td colSpan={m.units.length} className="bg-base-200 py-1" />
                </tr>
                {rows
                  .filter((r) => (r.area || 'Other') === name)
                  .map((r) => (
                    <tr key={r.setting}>
                      <th scope="row" className="min-w-52 max-w-60 bg-base-100 align-top font-normal">
                        <Link className="link-hover link" to={`/dictionary/${r.setting}`}>
                          {r.title || r.setting}
                        </Link>
                      </th>
                      {r.cells.map((c, i) => (
                        <Cell key={m.units[i]!.unit} of={c} first={i === 0} />
                      ))}
                    </tr>
                  ))}
              </tbody>
            ))}
          </table>
          {rows.length === 0 && (
            <Empty
              action={
                shown === 'units' && m.rows.length > 0 ? (
                  <button type="button" className="btn btn-sm" onClick={() => put('show', 'laptops')}>
                    What differs between laptops
                  </button>
                ) : undefined
              }
            >
              {m.units.length === 1 && shown === 'units'
                ? 'No unit lies below this one, so there is nothing to compare.'
                : shown === 'units' && m.rows.length > 0
                  ? `Most laptops of these units have the same everywhere; ${count(m.rows.length, 'setting differs', 'settings differ')} between single laptops.`
                  : 'Nothing differs here.'}
            </Empty>
          )}
        </div>
      )}
    </Page>
  );
}

/** What is not as in the unit above is marked by weight, an edge and a word. */
function Cell({ of, first }: { of: Prevailing; first: boolean }) {
  return (
    <td className={`max-w-44 align-top ${of.apart ? 'border-l-3 border-l-info bg-info/8' : first ? 'bg-base-200/60' : ''}`}>
      {of.apart && <span className="sr-only">not as above: </span>}
      <span className="line-clamp-3">
        <Prevails of={of} strong={of.apart} short />
      </span>
    </td>
  );
}
