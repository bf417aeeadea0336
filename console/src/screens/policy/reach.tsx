// What an audience comes to, while it is written: numbers and names, what each target does, a test group, another policy beside it.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { Link } from 'react-router';
import { api, got, type AudienceReach, type PolicyDoc } from '../../api/client';
import { basis, keys, queries, useGroups, usePolicies } from '../../api/queries';
import { useAnnounced } from '../../ui/announce';
import { useOpenChange } from '../../ui/change';
import { Dialog, Failed, Field } from '../../ui/parts';
import { DeviceLinks, ReachBar } from '../../ui/reach';
import { useSettled } from '../../ui/typed';
import { count, number } from '../../ui/words';

const asked = (doc: PolicyDoc, beside: string) => ({
  kind: doc.kind,
  ...(doc.platforms?.length ? { platforms: doc.platforms } : {}),
  ...(doc.within ? { within: doc.within } : {}),
  ...(doc.offered ? { offered: doc.id } : {}),
  audience: doc.audience,
  settings: Object.keys(doc.settings),
  ...(beside ? { beside } : {}),
});

/** Who an audience reaches, by platform, unit and release, and what it has in common with another policy's. */
export function useAudienceReach(doc: PolicyDoc, beside = '') {
  const { change } = useOpenChange();
  const body = useMemo(() => asked(doc, beside), [doc, beside]);
  const settled = useSettled(body);
  return useQuery({
    queryKey: [...keys.estate, 'audience', settled, ...basis(change, 'units', 'people', 'devices', 'groups', ...(beside ? ['policies'] : []))],
    queryFn: () => got(api.POST('/api/v1/audience', { params: { query: change ? { change: change.id } : {} }, body: settled })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

export function ReachDetails({ doc, locked, setInclude }: { doc: PolicyDoc; locked: boolean; setInclude: (include: string[]) => void }) {
  const [beside, setBeside] = useState('');
  const reach = useAudienceReach(doc, beside);
  const r = reach.data?.reach;
  useAnnounced(r ? `This policy reaches ${number(r.gets.count)} of ${count(r.estate, 'laptop')}${alarmWords[r.alarm ?? ''] ?? ''}.` : '');
  return (
    <div className="flex flex-col gap-3 border-t border-base-300/60 pt-3">
      <Failed error={reach.error} />
      {r && <Outcome r={r} />}
      <div className="flex flex-wrap items-center gap-2">
        {!locked && <TestGroup doc={doc} setInclude={setInclude} />}
        <Beside doc={doc} value={beside} onChange={setBeside} />
      </div>
      {r?.beside && <Shared r={r} />}
    </div>
  );
}

const alarmWords: Record<string, string> = { everyone: ': that is everyone', many: ': that counts as many', nobody: ': that is nobody' };

function Outcome({ r }: { r: AudienceReach }) {
  const share = r.estate ? Math.round((100 * r.gets.count) / r.estate) : 0;
  return (
    <div className="flex flex-col gap-3 text-sm">
      {r.alarm === 'everyone' && (
        <p className="rounded bg-warning px-3 py-2 font-semibold text-warning-content">
          EVERYONE: all {count(r.estate, 'laptop')} of the company get this, and those that come later.
        </p>
      )}
      {r.alarm === 'many' && (
        <p className="rounded border-2 border-warning px-3 py-2 font-semibold text-warning">
          {share} % of the company, more than the {r.share} % that count as many. Start with a test group?
        </p>
      )}
      <ReachBar
        of={{
          gets: r.gets.count,
          excluded: r.excluded.count,
          condition: r.condition.count,
          not_taken: r.not_taken.count,
          platform: r.platform.count,
          outside: r.outside.count,
          unknown: r.unknown.count,
          not_included: r.not_included.count,
          unsupported: r.unsupported.count,
          people: r.people.count,
          everyone: r.alarm === 'everyone',
          sample: r.gets.first,
          left_out: r.excluded.first,
        }}
      />
      <p className="quiet">
        {share} % of the estate{r.alarm === 'nobody' ? ': nobody yet' : ''}, in {count(r.units, 'unit')}
      </p>
      {!!r.missing?.length && (
        <p role="alert" className="text-error">
          Names nothing: <span className="id">{r.missing.join(', ')}</span>
        </p>
      )}
      {!!r.errors?.length && (
        <p className="text-warning">
          The condition fails, and counts as not true, on {r.errors.map((e) => `${count(e.count, 'laptop')} (${String(e.value)})`).join(', ')}
        </p>
      )}
      <div className="grid grid-cols-[minmax(0,1fr)] gap-x-6 gap-y-3 md:grid-cols-2">
        <Bars title="By platform" list={r.by_platform.map((s) => ({ word: s.name, n: s.devices, of: s.of }))} />
        <Bars title="By unit" list={r.by_unit.map((s) => ({ word: s.title || s.name, n: s.devices, of: s.of, to: `/devices?unit=${s.name}` }))} />
        <Bars title="By release" list={r.by_release.map((s) => ({ word: `${s.within} ${s.name}`, n: s.devices, of: s.of }))} />
        <div className="flex flex-col gap-3">
          <Counts title="Included by" list={r.by_include} />
          <Counts title="Excluded by" list={r.by_exclude} />
          {r.condition.count > 0 && (
            <Names title={`Left out by the condition: ${number(r.condition.count)}`} list={r.condition.first} all={r.condition.count} />
          )}
          {r.unsupported.count > 0 && (
            <Names title={`Support none of its settings: ${number(r.unsupported.count)}`} list={r.unsupported.first} all={r.unsupported.count} />
          )}
          {r.unknown.count > 0 && (
            <Names title={`Not known whether they support each setting: ${number(r.unknown.count)}`} list={r.unknown.first} all={r.unknown.count} />
          )}
          {r.outside.count > 0 && (
            <Names title={`Outside of the unit that bounds it: ${number(r.outside.count)}`} list={r.outside.first} all={r.outside.count} />
          )}
          {r.excluded.count > 0 && <Names title={`Left out by name: ${number(r.excluded.count)}`} list={r.excluded.first} all={r.excluded.count} />}
          {r.people.count > 0 && (
            <details>
              <summary className="quiet cursor-pointer text-[13px]">Whose laptops: {count(r.people.count, 'person', 'people')}</summary>
              <p className="mt-1 flex flex-wrap gap-x-2.5 text-[13px] leading-6">
                {r.people.first.map((id) => (
                  <Link key={id} to={`/people/${id}`} className="id link-hover link">
                    {id}
                  </Link>
                ))}
                {r.people.count > r.people.first.length && <span className="quiet">and {number(r.people.count - r.people.first.length)} more</span>}
              </p>
            </details>
          )}
        </div>
      </div>
    </div>
  );
}

/** A part of the audience beside the whole of that part in the estate. */
function Bars({ title, list }: { title: string; list: { word: string; n: number; of: number; to?: string }[] }) {
  if (list.length === 0) return null;
  const most = Math.max(...list.map((l) => l.of));
  return (
    <div>
      <h3 className="quiet mb-1 text-[13px]">{title}</h3>
      <ul className="flex max-h-44 flex-col gap-1 overflow-auto" tabIndex={0} aria-label={title}>
        {list.map((l) => (
          <li key={l.word} className="grid grid-cols-[9rem_1fr_5.5rem] items-center gap-2 text-[13px]">
            {l.to ? (
              <Link to={l.to} className="link-hover link truncate leading-6">
                {l.word}
              </Link>
            ) : (
              <span className="truncate">{l.word}</span>
            )}
            <span className="h-2 rounded-sm bg-base-300" style={{ width: `${(100 * l.of) / most}%` }} aria-hidden>
              <span className="block h-2 rounded-sm bg-primary" style={{ width: `${(100 * l.n) / l.of}%` }} />
            </span>
            <span className="text-right tabular-nums">
              {number(l.n)} <span className="quiet">of {number(l.of)}</span>
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Counts({ title, list }: { title: string; list: { target: string; title?: string; devices: number }[] }) {
  if (list.length === 0) return null;
  return (
    <div>
      <h3 className="quiet mb-1 text-[13px]">{title}</h3>
      <ul className="text-[13px]">
        {list.map((t) => (
          <li key={t.target} className="flex justify-between gap-3">
            <span className="min-w-0 truncate">
              {t.title} <span className={`id ${t.title ? 'quiet' : ''}`}>{t.target}</span>
            </span>
            <span className={`tabular-nums ${t.devices === 0 ? 'text-warning' : ''}`}>{number(t.devices)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Names({ title, list, all }: { title: string; list: string[]; all: number }) {
  return (
    <details>
      <summary className="cursor-pointer text-[13px]">{title}</summary>
      <DeviceLinks ids={list} more={all - list.length} />
    </details>
  );
}

/** A few laptops of every sort to begin with: an existing small group, or one that is made here. */
function TestGroup({ doc, setInclude }: { doc: PolicyDoc; setInclude: (include: string[]) => void }) {
  const { change, put } = useOpenChange();
  const groups = (useGroups().data ?? []).filter((g) => g.of === 'devices' && g.members > 0 && g.members <= 20);
  const [open, setOpen] = useState(false);
  const [n, setN] = useState(10);
  const [error, setError] = useState<unknown>();
  const make = async () => {
    const spread = await got(
      api.POST('/api/v1/audience/spread', { params: { query: { count: n, ...(change ? { change: change.id } : {}) } }, body: asked(doc, '') }),
    );
    const id = `test-${doc.id}`;
    await put(
      'groups',
      { id, of: 'devices', title: `Test group of ${doc.title || doc.id}`, members: spread.devices },
      change?.edits?.find((e) => e.kind === 'groups' && e.id === id)?.version,
      `Test group of ${doc.title || doc.id}`,
      [`policies/${doc.id}`],
    );
    await queries.invalidateQueries({ queryKey: keys.estate });
    setInclude([`group:${id}`]);
    setOpen(false);
  };
  return (
    <>
      <button type="button" className="btn btn-sm" onClick={() => setOpen(true)}>
        Start with a test group
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title="Start with a test group">
        <div className="flex flex-col gap-3 text-sm">
          <p>The policy is for this group alone at first. Its former audience is in its history, and can be put back.</p>
          {groups.length > 0 && (
            <div>
              <h3 className="font-medium">A small group that is there</h3>
              <ul>
                {groups.map((g) => (
                  <li key={g.id}>
                    <button
                      type="button"
                      className="link"
                      onClick={() => {
                        setInclude([`group:${g.id}`]);
                        setOpen(false);
                      }}
                    >
                      {g.title || g.id}
                    </button>{' '}
                    <span className="quiet">{count(g.members, 'laptop')}</span>
                  </li>
                ))}
              </ul>
            </div>
          )}
          <Field label="Or a new one, of so many laptops" hint="Of every platform and unit among those that would get it, and as many releases as there are">
            <input type="number" min={1} max={500} className="input input-sm w-24" value={n} onChange={(e) => setN(Number(e.target.value))} />
          </Field>
          <Failed error={error} />
          <button type="button" className="btn btn-primary btn-sm self-end" onClick={() => void make().catch(setError)}>
            Make it, in the change
          </button>
        </div>
      </Dialog>
    </>
  );
}

function Beside({ doc, value, onChange }: { doc: PolicyDoc; value: string; onChange: (policy: string) => void }) {
  const policies = usePolicies().data?.items;
  const options = useMemo(
    () =>
      (policies ?? [])
        .filter((p) => p.id !== doc.id && p.state === 'active')
        .map((p) => (
          <option key={p.id} value={p.id}>
            {p.title || p.id}
          </option>
        )),
    [policies, doc.id],
  );
  return (
    <select aria-label="Compare with the audience of another policy" className="select select-sm w-64" value={value} onChange={(e) => onChange(e.target.value)}>
      <option value="">Compare with another policy’s …</option>
      {options}
    </select>
  );
}

function Shared({ r }: { r: AudienceReach }) {
  const b = r.beside!;
  return (
    <div className="grid gap-3 text-sm md:grid-cols-3">
      {(
        [
          ['Only here', b.here],
          ['Both', b.both],
          ['Only there', b.there],
        ] as const
      ).map(([word, list]) => (
        <details key={word} className="rounded border border-base-300 px-3 py-2">
          <summary className="cursor-pointer">
            <strong className="text-lg tabular-nums">{number(list.count)}</strong> {word.toLowerCase()}
          </summary>
          <DeviceLinks ids={list.first} more={list.count - list.first.length} />
        </details>
      ))}
    </div>
  );
}
