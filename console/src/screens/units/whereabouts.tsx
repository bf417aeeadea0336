// A setting everywhere: the tree of units with what most laptops of each have, how many differ, and where it is given by name.
import { Fragment } from 'react';
import { Link } from 'react-router';
import { useWhereabouts } from '../../api/queries';
import { Failed, Loading, Sheet } from '../../ui/parts';
import { StateWord } from '../../ui/prevailing';
import { count, number, ValueText } from '../../ui/words';

type Everywhere = NonNullable<ReturnType<typeof useWhereabouts>['data']>;
type Given = Everywhere['units'][number]['given'][number];
type Decider = Everywhere['units'][number]['deciders'][number];

export function Whereabouts({ id, change }: { id: string; change?: { id: string; version: number } }) {
  const query = useWhereabouts(id, change);
  const w = query.data;
  return (
    <Sheet title="What it is where" aside={w ? `${count(w.states.filter((s) => s.state.status).length, 'different outcome')} in the company` : undefined}>
      <Failed error={query.error} />
      {query.isPending && <Loading rows={4} />}
      {w && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">The setting in each unit</caption>
            <thead>
              <tr>
                <th scope="col">Unit or group</th>
                <th scope="col">On most laptops</th>
                <th scope="col" className="text-right">
                  Have it so
                </th>
                <th scope="col" className="text-right">
                  Otherwise
                </th>
                <th scope="col">From</th>
                <th scope="col">Also assigned here</th>
              </tr>
            </thead>
            <tbody>
              {w.units.map((u) => (
                <tr key={u.place.unit}>
                  <th scope="row">
                    <div className="whitespace-nowrap" style={{ paddingLeft: `${u.place.depth * 1.25}rem` }}>
                      <Link className="link-hover link" to={`/units/${u.place.unit}`}>
                        {u.place.title || u.place.unit}
                      </Link>
                    </div>
                  </th>
                  <td>
                    <StateWord of={u.prevailing} strong={u.prevailing.apart} />
                    {u.prevailing.apart && <span className="text-info text-[13px]"> not as above</span>}
                  </td>
                  <td className="text-right tabular-nums">{number(u.prevailing.devices)}</td>
                  <td className={`text-right tabular-nums ${u.prevailing.others ? 'font-semibold' : 'quiet'}`}>
                    {u.prevailing.others ? number(u.prevailing.others) : '–'}
                  </td>
                  <td>
                    <Deciders list={u.deciders} />
                  </td>
                  <td>
                    <GivenBy list={u.given} />
                  </td>
                </tr>
              ))}
              {w.groups.map((g) => (
                <tr key={g.group}>
                  <th scope="row" className="whitespace-nowrap">
                    <Link className="link-hover link" to={`/groups/${g.group}`}>
                      {g.title}
                    </Link>{' '}
                    <span className="quiet text-[13px]">group</span>
                  </th>
                  <td>
                    <StateWord of={g.prevailing} />
                  </td>
                  <td className="text-right tabular-nums">{number(g.prevailing.devices)}</td>
                  <td className={`text-right tabular-nums ${g.prevailing.others ? 'font-semibold' : 'quiet'}`}>
                    {g.prevailing.others ? number(g.prevailing.others) : '–'}
                  </td>
                  <td>
                    <Deciders list={g.deciders} />
                  </td>
                  <td>
                    <GivenBy list={g.given} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Sheet>
  );
}

/** The policies that decide in a place, with the laptops of each where there are several. */
function Deciders({ list }: { list: Decider[] }) {
  return (
    <>
      {list.slice(0, 3).map((d, i) => (
        <Fragment key={d.policy}>
          {i > 0 && <br />}
          <Link className="link-hover link" to={`/policies/${d.policy}`}>
            {d.policy_title || d.policy}
          </Link>
          {list.length > 1 && <span className="quiet tabular-nums"> on {number(d.devices)}</span>}
        </Fragment>
      ))}
      {list.length > 3 && <span className="quiet block">and {count(list.length - 3, 'other')}</span>}
    </>
  );
}

/** Values that are assigned to a place by name and not in effect on all laptops there that they reach. */
function GivenBy({ list }: { list: Given[] }) {
  return (
    <>
      {list
        .filter((g) => g.devices === 0 || g.decides < g.devices)
        .map((g, i) => (
          <Fragment key={g.policy}>
            {i > 0 && <br />}
            <Link className="link-hover link" to={`/policies/${g.policy}`}>
              {g.policy_title || g.policy}
            </Link>{' '}
            <ValueText of={g.value} className="quiet" />
            <span className="quiet">
              {g.locked && ' locked'}
              {g.devices === 0
                ? ', reaches no laptop'
                : g.decides === 0
                  ? `, overridden on all ${number(g.devices)}`
                  : `, in effect on ${number(g.decides)} of ${number(g.devices)}`}
            </span>
          </Fragment>
        ))}
    </>
  );
}
