// The dictionary, searched by plain words.
import { Link, useSearchParams } from 'react-router';
import { useSettingSearch, useDictionary } from '../api/queries';
import { Empty, Failed, Loading, Page, Sheet } from '../ui/parts';
import { count, valueText } from '../ui/words';
import type { Setting } from '../api/client';

export function DictionaryScreen() {
  const [params, setParams] = useSearchParams();
  const q = params.get('q') ?? '';
  const all = useDictionary();
  const found = useSettingSearch(q);
  const shown = q ? found.data : all.data;
  const areas = Map.groupBy(shown ?? [], (d) => (q ? 'Found' : d.area || 'other'));
  return (
    <Page title="Dictionary" lead={all.data ? `${count(all.data.length, 'setting')} that policies can hold` : ' '}>
      <input
        type="search"
        aria-label="Search settings"
        placeholder="Say what it does: “screen goes off”, “copy to usb”"
        className="input input-sm w-96"
        value={q}
        onChange={(e) => setParams(e.target.value ? { q: e.target.value } : {}, { replace: true })}
      />
      <Failed error={all.error ?? found.error} />
      {!shown && <Loading />}
      {shown?.length === 0 && (
        <div className="sheet">
          <Empty>No setting fits these words. Try others for what it should do.</Empty>
        </div>
      )}
      {[...areas].map(([area, list]) => (
        <Sheet key={area} title={<span className="inline-block first-letter:uppercase">{area}</span>} aside={count(list.length, 'setting')}>
          <ul>
            {list.map((d) => (
              <Row key={d.id} d={d} />
            ))}
          </ul>
        </Sheet>
      ))}
    </Page>
  );
}

const combines: Record<string, string> = {
  closest: 'the closest to the laptop wins',
  strictest: 'the strictest wins',
  merge: 'lists add up',
  common: 'what all lists have',
};

function Row({ d }: { d: Setting }) {
  return (
    <li className="border-b border-base-300/60 px-4 py-2.5 text-sm last:border-0">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <span>
          <span className="font-medium">{d.title}</span> <span className="id quiet ml-1">{d.id}</span>
        </span>
        <span className="text-[13px]">
          {d.policies.length ? (
            <>
              set in{' '}
              {d.policies.map((p, i) => (
                <span key={p}>
                  {i > 0 && ', '}
                  <Link className="id link" to={`/policies/${p}`}>
                    {p}
                  </Link>
                </span>
              ))}
            </>
          ) : (
            <span className="quiet">set nowhere</span>
          )}
        </span>
      </div>
      <p className="mt-0.5 max-w-[75ch]">{d.help}</p>
      <p className="quiet mt-0.5 text-[13px]">
        {d.type}
        {d.options ? ` (${d.options.join(', ')})` : ''}; {combines[d.combine ?? 'closest']}; unmanaged:{' '}
        {d.default === undefined ? 'not known' : valueText(d.default)}
        {d.effects?.length ? `; ${d.effects.join(', ')}` : ''}
      </p>
    </li>
  );
}
