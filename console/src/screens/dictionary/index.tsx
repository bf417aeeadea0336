// The dictionary: searched by plain words, or read by area.
import { Link, useSearchParams } from 'react-router';
import type { Setting } from '../../api/client';
import { useAreas, useDictionary, useSettingSearch, useMay } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Empty, Failed, Loading, Page, Sheet } from '../../ui/parts';
import { useWords } from '../../ui/typed';
import { count } from '../../ui/words';

export function DictionaryScreen() {
  const [params] = useSearchParams();
  const { q, typed, type } = useWords();
  const change = useOpenChange().change;
  const all = useDictionary(change);
  const found = useSettingSearch(q, [], change);
  const areas = useAreas().data ?? [];
  const area = params.get('area') ?? '';
  const reader = !useMay('write');
  const byArea = Map.groupBy(all.data ?? [], (d) => d.area || 'other');
  const shown = q ? found.data : all.data && (area === 'own' ? all.data.filter((d) => d.own) : (byArea.get(area || areas[0] || '') ?? []));
  return (
    <Page
      title="Dictionary"
      lead={all.data ? `${count(all.data.length, 'setting')} in ${count(byArea.size, 'area')} that policies can hold` : ' '}
      actions={
        !reader && (
          <Link className="btn btn-sm" to="/dictionary/define">
            Define a setting
          </Link>
        )
      }
    >
      <input
        type="search"
        aria-label="Search settings"
        placeholder="Say what it does: “screen goes off”, “copy to usb”"
        className="input input-sm w-full max-w-xl"
        value={typed}
        onChange={(e) => type(e.target.value)}
      />
      <Failed error={all.error ?? found.error} />
      <div className="grid items-start gap-4 lg:grid-cols-[14rem_minmax(0,1fr)]">
        <nav aria-label="Areas" className="sheet flex flex-col p-1.5 text-sm">
          {[...areas, ...(all.data?.some((d) => d.own) ? ['own'] : [])].map((a, i) => {
            const here = !q && (area ? a === area : i === 0);
            return (
              <Link
                key={a}
                to={`/dictionary?area=${encodeURIComponent(a)}`}
                aria-current={here ? 'page' : undefined}
                className={`flex justify-between gap-2 rounded px-2 py-1 ${here ? 'bg-primary/12 font-semibold text-primary' : 'hover:bg-base-200'}`}
              >
                <span className="first-letter:uppercase">{a === 'own' ? 'defined here' : a}</span>
                <span className="quiet tabular-nums">{a === 'own' ? all.data?.filter((d) => d.own).length : (byArea.get(a)?.length ?? '')}</span>
              </Link>
            );
          })}
        </nav>
        {!shown ? (
          <Loading />
        ) : shown.length === 0 ? (
          <div className="sheet">
            <Empty>{q ? 'No setting fits these words. Try others for what it should do.' : 'No setting here yet.'}</Empty>
          </div>
        ) : (
          <Sheet
            title={<span className="inline-block first-letter:uppercase">{q ? 'Found' : area === 'own' ? 'Defined here' : area || areas[0]}</span>}
            aside={count(shown.length, 'setting')}
          >
            <ul>
              {shown.map((d) => (
                <Row key={d.id} d={d} />
              ))}
            </ul>
          </Sheet>
        )}
      </div>
    </Page>
  );
}

function Row({ d }: { d: Setting }) {
  return (
    <li className="border-b border-base-300/60 px-4 py-2 text-sm last:border-0">
      <div className="flex flex-wrap items-baseline justify-between gap-x-3">
        <span>
          <Link className="font-medium hover:underline" to={`/dictionary/${d.id}`}>
            {d.title || d.id}
          </Link>{' '}
          <span className="id quiet ml-1">{d.id}</span>
        </span>
        <span className="text-[13px]">
          {d.policies.length ? (
            <Link className="link" to={`/dictionary/${d.id}`}>
              set in {count(d.policies.length, 'policy', 'policies')}
            </Link>
          ) : (
            <span className="quiet">set nowhere</span>
          )}
        </span>
      </div>
      <p className="quiet line-clamp-2 max-w-[80ch] text-[13px]">{d.help}</p>
    </li>
  );
}
