// One setting: what it does, who has it, and where it is set.
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import type { SettingUse } from '../../api/client';
import { useSettingUse, useMay } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Whereabouts } from '../units/whereabouts';
import { Empty, Fact, Failed, Heads, Id, Loading, Page, Sheet } from '../../ui/parts';
import { count, number, valueText, ValueText } from '../../ui/words';

export function SettingScreen() {
  const { id = '' } = useParams();
  const open = useOpenChange();
  const use = useSettingUse(id, undefined, open.change, !open.id || !!open.change);
  const d = use.data;
  if (!d)
    return (
      <Page title={<Id>{id}</Id>}>
        <Failed error={use.error} />
        {use.isPending && <Loading />}
      </Page>
    );
  const lacking = Object.values(d.lacking).reduce((a, b) => a + b, 0);
  return (
    <Page
      title={d.title || d.id}
      lead={
        <>
          <Id copy>{d.id}</Id> · {d.area} · {d.kind}
          {d.own ? ' · defined here' : ''}
        </>
      }
      actions={<Actions d={d} />}
    >
      <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="What it does">
            <p className="max-w-prose px-4 py-3">{d.help || 'Nobody has written what it does.'}</p>
          </Sheet>
          <Sheet title="Where it is set" aside={count(d.elsewhere.length, 'active policy', 'active policies')}>
            {d.elsewhere.length === 0 ? (
              <Empty
                action={
                  <Link className="btn btn-sm" to="/policies/new">
                    Write a policy
                  </Link>
                }
              >
                No active policy sets it: laptops do what an unmanaged one does.
              </Empty>
            ) : (
              <div className="overflow-x-auto">
                <table className="table table-sm">
                  <caption className="sr-only">Policies that set it</caption>
                  <thead>
                    <tr>
                      <th scope="col">Policy</th>
                      <th scope="col">Value</th>
                      <th scope="col" className="text-right">
                        Laptops
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {d.elsewhere.map((a) => (
                      <tr key={a.policy}>
                        <th scope="row">
                          <Link className="link" to={`/policies/${a.policy}`}>
                            {a.title || a.policy}
                          </Link>
                        </th>
                        <td>
                          <ValueText of={a.value} />
                          {a.locked && <span className="quiet"> locked</span>}
                        </td>
                        <td className="text-right tabular-nums">{number(a.devices)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            )}
          </Sheet>
          <Whereabouts id={d.id} change={open.change} />
        </div>
        <Sheet title="Facts">
          <dl className="grid grid-cols-[8rem_1fr] gap-x-3 gap-y-2 px-4 py-3 text-sm">
            <Fact name="Values">{valuesOf(d)}</Fact>
            <Fact name="Unmanaged">{d.default === undefined ? 'not known' : valueText(d.default)}</Fact>
            <Fact name="Several policies">{d.combines}</Fact>
            <Fact name="Supported by">{d.support}</Fact>
            <Fact name="Not supported">
              {lacking ? `${number(lacking)} of ${count(d.devices, 'laptop')}` : `by none of ${count(d.devices, 'laptop')}: all have it`}
            </Fact>
            <Fact name="A person notices">{d.effects?.length ? d.effects.join(', ') : 'nothing beyond what it does'}</Fact>
            {d.exceptions > 0 && <Fact name="Exceptions">{count(d.exceptions, 'exception')} today</Fact>}
            <Fact name="Also found by">{d.keywords?.join(', ') || '–'}</Fact>
          </dl>
          {d.columns && (
            <div className="overflow-x-auto border-t border-base-300">
              <table className="table table-sm">
                <caption className="sr-only">Columns</caption>
                <Heads of={['Column', 'Holds']} />
                <tbody>
                  {d.columns.map((c) => (
                    <tr key={c.name}>
                      <th scope="row">
                        {c.title || c.name}
                        {c.required ? ' *' : ''}
                      </th>
                      <td className="quiet">{c.options?.join(', ') ?? (c.reads ? `${c.type}, read from a file` : c.type)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </Sheet>
      </div>
    </Page>
  );
}

function valuesOf(d: SettingUse): string {
  switch (d.type) {
    case 'bool':
      return 'on or off';
    case 'choice':
      return (d.options ?? []).join(d.stricter === 'later' ? ' → ' : ', ') + (d.stricter === 'later' ? ' (the strictest last)' : '');
    case 'integer':
      return `a whole number${d.min !== undefined && d.max !== undefined ? ` from ${d.min} to ${d.max}` : ''} ${d.measure ?? ''}`;
    case 'list':
      return 'a list of texts';
    case 'table':
      return `a table of ${count(d.columns?.length ?? 0, 'column')}`;
    case 'file':
      return `a file (${d.content ?? 'any'})`;
  }
  return 'text';
}

/** Own definitions can be altered and retired; a used one is refused with who uses it. */
function Actions({ d }: { d: SettingUse }) {
  const open = useOpenChange();
  const go = useNavigate();
  const [error, setError] = useState<unknown>();
  if (!useMay('write')) return null;
  return (
    <div className="flex flex-col items-end gap-2">
      <span className="flex gap-2">
        <Link className="btn btn-sm" to={`/dictionary/define?from=${d.id}`}>
          {d.own ? 'Alter' : 'Define one like it'}
        </Link>
        {d.own && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() =>
              void open
                .retire('settings', d.id, `Retire the setting ${d.title || d.id}`)
                .then(() => go('/dictionary'))
                .catch(setError)
            }
          >
            Retire
          </button>
        )}
      </span>
      <Failed error={error} />
    </div>
  );
}
