// All people, and one of them: groups, laptops, and where it is known from.
import { Link, useParams } from 'react-router';
import type { Person } from '../api/client';
import { usePeople, usePerson } from '../api/queries';
import { ListScreen, useListQuery, type ListColumn } from '../ui/listing';
import { History, Memberships, OriginNote } from '../ui/membership';
import { Empty, Fact, Failed, Id, Loading, Page, Sheet } from '../ui/parts';
import { count, number, Status, ValueText } from '../ui/words';

const columns: ListColumn<Person>[] = [
  {
    key: 'name',
    word: 'Name',
    width: 'minmax(10rem,1.4fr)',
    cell: (p) => (
      <span className="font-medium">
        {p.name || p.id}
        {p.origin?.left && <span className="ml-1.5 text-[12px] font-normal text-warning">left</span>}
      </span>
    ),
  },
  { key: 'id', word: 'Id', width: 'minmax(9rem,1.2fr)', cell: (p) => <span className="id">{p.id}</span> },
  { key: 'mail', word: 'Mail', width: 'minmax(12rem,1.6fr)', cell: (p) => p.mail },
  { key: 'unit', word: 'Unit', width: 'minmax(8rem,1fr)', cell: (p) => <span className="id">{p.unit}</span> },
  { key: 'devices', word: 'Laptops', width: '5.5rem', cell: (p) => <span className="tabular-nums">{number(p.devices)}</span> },
  { key: 'source', word: 'From', width: 'minmax(6rem,0.8fr)', cell: (p) => p.origin?.source ?? <span className="quiet">edited here</span> },
];

export function PeopleScreen() {
  const view = useListQuery();
  return (
    <ListScreen
      of="people"
      title="People"
      nouns={['person', 'people']}
      placeholder="Name, id, mail, unit, title"
      view={view}
      list={usePeople(view[0])}
      columns={columns}
      to={(p) => `/people/${encodeURIComponent(p.id)}`}
      nothing="Nobody is known yet. People come from the company’s directory, or from a table."
      bring="Bring people in"
    />
  );
}

export function PersonScreen() {
  const { id = '' } = useParams();
  const { data: page, error } = usePerson(id);
  const p = page?.person;
  return (
    <Page title={p?.name || id} lead={page && `${page.units.join(' / ') || 'no unit'}${p?.mail ? ` · ${p.mail}` : ''}`}>
      <Failed error={error} />
      {!page && !error && <Loading />}
      {page && p && (
        <div className="grid items-start gap-4 xl:grid-cols-[1fr_22rem]">
          <div className="flex min-w-0 flex-col gap-4">
            <OriginNote of={p.origin} what="person" />
            <Sheet title="Laptops" aside={count(page.devices.length, 'laptop')}>
              {page.devices.length === 0 ? (
                <Empty>Owns no laptop, and signs in to none that is known.</Empty>
              ) : (
                <div className="overflow-x-auto">
                  <table className="table table-sm">
                    <caption className="sr-only">Laptops of this person</caption>
                    <tbody>
                      {page.devices.map((d) => (
                        <tr key={d.id}>
                          <th scope="row">
                            <Link to={`/devices/${d.id}`} className="id link font-semibold">
                              {d.id}
                            </Link>
                          </th>
                          <td>{d.owner === p.id ? 'owner' : 'further user'}</td>
                          <td>
                            {d.os} {d.os_version}
                          </td>
                          <td className="id">{d.unit}</td>
                          <td>{d.statuses.conflict > 0 ? <Status of="conflict" /> : null}</td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </div>
              )}
            </Sheet>
            <Memberships list={page.groups} of="person" />
          </div>
          <div className="flex min-w-0 flex-col gap-4">
            <Sheet title="Facts">
              <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 px-4 py-3 text-sm">
                <Fact name="Id">
                  <Id copy>{p.id}</Id>
                </Fact>
                {Object.entries(p.attributes).map(([name, v]) => (
                  <Fact key={name} name={name}>
                    <ValueText of={v} />
                  </Fact>
                ))}
              </dl>
            </Sheet>
            <History list={page.history} />
          </div>
        </div>
      )}
    </Page>
  );
}
