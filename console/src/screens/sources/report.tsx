// What a reading of a source found, and what it does to laptops.
import { Link } from 'react-router';
import type { SourceReport } from '../../api/client';
import { count, number } from '../../ui/words';
import { thingWord } from './index';

export const objectTo: Record<string, (id: string) => string> = {
  people: (id) => `/people/${id}`,
  devices: (id) => `/devices/${id}`,
  groups: (id) => `/groups/${id}`,
  units: () => '/units',
};

const sorts: { key: 'new' | 'altered' | 'left' | 'back'; word: string; tone: string }[] = [
  { key: 'new', word: 'new', tone: 'text-success' },
  { key: 'altered', word: 'altered', tone: '' },
  { key: 'left', word: 'left', tone: 'text-warning' },
  { key: 'back', word: 'back again', tone: 'text-success' },
];

/** What a reading found, and what it does to laptops. */
export function ReportView({ of: r }: { of: SourceReport }) {
  return (
    <div className="flex flex-col gap-3 text-sm">
      <dl className="grid grid-cols-3 gap-x-4 gap-y-1 md:grid-cols-7">
        {(
          [
            ['read', r.read],
            ['new', r.new],
            ['of them here already', r.adopted],
            ['altered', r.altered],
            ['the same', r.same],
            ['left', r.left],
            ['faulty', r.faulty],
          ] as const
        ).map(([word, n]) => (
          <div key={word} className="flex flex-col-reverse">
            <dt className="quiet text-[13px]">{word}</dt>
            <dd className={`text-xl font-semibold tabular-nums ${n > 0 && (word === 'left' || word === 'faulty') ? 'text-warning' : ''}`}>{number(n)}</dd>
          </div>
        ))}
      </dl>
      <p>
        <strong>{count(r.devices, 'laptop')}</strong> would get other values
        {r.weaker > 0 && <span className="text-warning">, {number(r.weaker)} a weaker value</span>}
        {r.conflicts_gained > 0 && <span className="text-warning">, {count(r.conflicts_gained, 'conflict', 'conflicts')} gained</span>}
        {r.problems_gained > 0 && <span className="text-warning">, {count(r.problems_gained, 'problem')} gained</span>}.
        {r.left > 0 && ' What left stays in the estate, marked, until somebody removes it.'}
      </p>
      {!!r.shrunk?.length && (
        <div className="rounded border border-warning/60 bg-warning/5 px-3 py-2">
          <p className="font-medium text-warning">Laptops would drop out</p>
          <ul className="mt-1 text-[13px]">
            {r.shrunk.map((s) => (
              <li key={s.policy + (s.exclusion ?? '')}>
                {s.exclusion && (
                  <>
                    The exclusion <span className="id">{s.exclusion}</span> of{' '}
                  </>
                )}
                <Link className="link-hover link" to={`/policies/${s.policy}`}>
                  {s.title || s.policy}
                </Link>
                : {count(s.before, 'laptop')} now, {s.after === 0 ? <strong>none</strong> : number(s.after)} afterwards
              </li>
            ))}
          </ul>
        </div>
      )}
      {!!r.differ?.length && (
        <details>
          <summary className="cursor-pointer">
            Laptops whose values differ{r.devices > r.differ.length ? `, the first ${number(r.differ.length)} of ${number(r.devices)}` : ''}
          </summary>
          <p className="id mt-1 flex flex-wrap gap-x-3 text-[13px]">
            {r.differ.map((d) => (
              <Link key={d} className="link-hover link" to={`/devices/${d}`}>
                {d}
              </Link>
            ))}
          </p>
        </details>
      )}
      {!!r.audiences?.length && (
        <details>
          <summary className="cursor-pointer">{count(r.audiences.length, 'policy reaches', 'policies reach')} other laptops than before</summary>
          <ul className="mt-1 text-[13px]">
            {r.audiences.map((a) => (
              <li key={a.policy}>
                <Link className="link-hover link" to={`/policies/${a.policy}`}>
                  {a.title || a.policy}
                </Link>
                : {a.gained > 0 && `${number(a.gained)} more`} {a.dropped > 0 && `${number(a.dropped)} fewer`}
              </li>
            ))}
          </ul>
        </details>
      )}
      {!!r.faults?.length && (
        <div role="alert" className="rounded border border-error/50 bg-error/5 px-3 py-2">
          <p className="font-medium text-error">{count(r.faults.length + (r.more_faults ?? 0), 'fault')}</p>
          <ul className="mt-1 max-h-48 overflow-auto text-[13px]">
            {r.faults.map((f, i) => (
              <li key={i}>
                <span className="id quiet mr-2">{f.place?.line ? `line ${f.place.line}${f.place.column ? `, column ${f.place.column}` : ''}` : f.path}</span>
                {f.found && `found ${f.found}, `}
                {f.expected ? `expected ${f.expected}` : f.code}
              </li>
            ))}
          </ul>
        </div>
      )}
      {r.message && (
        <p role="alert" className="text-error">
          {r.message}
        </p>
      )}
      {!!r.circle_count && (
        <p className="text-warning">
          {count(r.circle_count, 'membership closes a circle of groups and is', 'memberships close a circle of groups and are')} left out:{' '}
          {r.circles?.join('; ')}
        </p>
      )}
      {!!r.loose_count && (
        <details>
          <summary className="cursor-pointer text-warning">{count(r.loose_count, 'reference leads', 'references lead')} nowhere, and would be left out</summary>
          <ul className="id mt-1 text-[13px]">
            {r.loose?.map((l) => (
              <li key={l}>{l}</li>
            ))}
          </ul>
        </details>
      )}
      {sorts.map(({ key, word, tone }) => {
        const items = r.items.filter((i) => i.what === key);
        return items.length === 0 ? null : (
          <details key={key} open={items.length <= 6}>
            <summary className={`cursor-pointer font-medium ${tone}`}>
              {number(r[key])} {word}
              {r[key] > items.length ? `, the first ${items.length}` : ''}
            </summary>
            <ul className="mt-1 max-h-56 overflow-auto text-[13px]">
              {items.map((i) => (
                <li key={i.kind + i.key} className="flex flex-wrap gap-x-2">
                  <Link className="id link-hover link" to={objectTo[i.kind]!(i.id)}>
                    {i.id}
                  </Link>
                  <span className="quiet">
                    {thingWord[i.kind]?.[0]}
                    {i.adopts ? ', here already' : ''}
                    {i.line ? `, line ${i.line}` : ''}
                  </span>
                  {i.fields?.slice(0, 6).map((f) => (
                    <span key={f.field}>
                      {f.field}:{' '}
                      {!f.from && !f.to && (f.added || f.removed) ? (
                        `${number(f.added ?? 0)} added, ${number(f.removed ?? 0)} removed`
                      ) : (
                        <>
                          <s className="quiet">{f.from?.slice(0, 60) ?? 'nothing'}</s> → {f.to?.slice(0, 60) ?? 'nothing'}
                        </>
                      )}
                    </span>
                  ))}
                </li>
              ))}
            </ul>
          </details>
        );
      })}
    </div>
  );
}
