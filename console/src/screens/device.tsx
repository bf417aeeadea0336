// One device: what it gets by area, why, what it reported, and when it checked in.
import { ChevronDown, ChevronRight, FolderInput, GitCompare, History as HistoryIcon, RotateCw } from 'lucide-react';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, got, type Coming, type Delivery, type DevicePage, type Setting, type SettingAnswer } from '../api/client';
import { keys, useDevice, useDictionary } from '../api/queries';
import { useComing } from '../api/rollouts';
import { useWrite } from '../api/writes';
import { Why, NotApplyingList } from '../ui/why';
import { BeforeAfter } from '../ui/impact';
import { History, Memberships, OriginNote } from '../ui/membership';
import { Empty, Failed, Id, Loading, Page, Sheet } from '../ui/parts';
import { WhoMay } from './access/whomay';
import { MoveDialog } from './devices';
import { Disks } from './keys/device';
import { DriftTable } from './drift';
import { Certificates } from './enrolment';
import { Verified, VerifyButton, type Asked } from './verify';
import { count, howWord, noticeWord, Status, Time, ValueText } from '../ui/words';

export function DeviceScreen() {
  const { id = '' } = useParams();
  const { data: p, error } = useDevice(id);
  const [moving, setMoving] = useState(false);
  const [asked, setAsked] = useState<Asked>();
  return (
    <Page
      title={<Id copy>{id}</Id>}
      lead={
        p && (
          <>
            {p.device.owner_name || 'No owner'} · {p.units.join(' / ')} · {p.device.model} · {p.device.os} {p.device.os_version}
            {p.device.edition ? ` ${p.device.edition}` : ''} · seen <Time at={p.device.last_seen} />
          </>
        )
      }
      actions={
        p && (
          <>
            {p.device.enrolled && <VerifyButton p={p} onAsked={setAsked} />}
            {p.device.statuses.failed > 0 && <Retry id={id} n={p.device.statuses.failed} />}
            <Link to={`/devices/${id}/past`} className="btn btn-sm">
              <HistoryIcon size={14} aria-hidden /> At a moment
            </Link>
            <Link to={`/compare?a=${id}`} className="btn btn-sm">
              <GitCompare size={14} aria-hidden /> What if, compare
            </Link>
            <button type="button" className="btn btn-sm" onClick={() => setMoving(true)}>
              <FolderInput size={14} aria-hidden /> Move
            </button>
            <WhoMay kind="devices" id={id} />
            <MoveDialog ids={[id]} open={moving} onClose={() => setMoving(false)} />
          </>
        )
      }
    >
      <Failed error={error} />
      {!p && !error ? <Loading rows={10} /> : null}
      {p && <Body p={p} asked={asked} />}
    </Page>
  );
}

function Retry({ id, n }: { id: string; n: number }) {
  const retry = useWrite(() => got(api.POST('/api/v1/devices/{id}/retry', { params: { path: { id } } })), { alters: [keys.devices] });
  return (
    <>
      <button type="button" className="btn btn-sm" disabled={retry.isPending} onClick={() => retry.mutate()}>
        <RotateCw size={14} aria-hidden /> Try {count(n, 'failed setting')} again
      </button>
      <Failed error={retry.error} />
    </>
  );
}

function Body({ p, asked }: { p: DevicePage; asked?: Asked }) {
  const dictionary = new Map((useDictionary().data ?? []).map((d) => [d.id, d]));
  const deliveries = new Map(p.deliveries.map((d) => [d.setting, d]));
  const areas = Map.groupBy(p.effective.settings, (s) => dictionary.get(s.setting)?.area ?? 'other');
  return (
    <div className="grid items-start gap-4 xl:grid-cols-[1fr_20rem]">
      <div className="flex min-w-0 flex-col gap-4">
        <OriginNote of={p.device.origin} what="laptop" />
        {asked && <Verified p={p} asked={asked} dictionary={dictionary} />}
        <ComingNotes device={p.device.id} dictionary={dictionary} />
        {p.exceptions.map((x) => (
          <p key={x.id} role="note" className={`rounded border px-4 py-2 text-sm ${x.notice ? 'border-warning/50 text-warning' : 'border-base-300'}`}>
            The exception{' '}
            <Link className="id link" to="/exceptions">
              {x.id}
            </Link>{' '}
            decides {x.title || x.setting}: {x.unset ? 'left to the laptop' : <ValueText of={x.value} />}, {noticeWord(x.days)}.
          </p>
        ))}
        {p.effective.problems.map((f) => (
          <div key={f.check} role="note" className="rounded border border-warning/50 bg-warning/8 px-4 py-2.5 text-sm">
            <p className="font-medium text-warning">{f.message}</p>
            <p className="quiet">
              <span className="id">{f.settings.join(', ')}</span> from{' '}
              {f.from.map((from, i) => (
                <span key={from}>
                  {i > 0 && ', '}
                  <Link className="id link" to={`/policies/${from}`}>
                    {from}
                  </Link>
                </span>
              ))}
            </p>
          </div>
        ))}
        {p.effective.settings.length === 0 && (
          <div className="sheet">
            <Empty
              action={
                <Link to="/policies" className="btn btn-sm">
                  To the policies
                </Link>
              }
            >
              No policy sets anything on this laptop.
            </Empty>
          </div>
        )}
        {p.drift.length > 0 && (
          <Sheet
            title="Altered on this laptop"
            aside={
              <Link to="/drift" className="link-hover link">
                all laptops
              </Link>
            }
          >
            <DriftTable list={p.drift.slice(0, 10)} device />
          </Sheet>
        )}
        {[...areas]
          .sort(([a], [b]) => a.localeCompare(b))
          .map(([area, settings]) => (
            <Sheet key={area} title={<span className="inline-block first-letter:uppercase">{area}</span>} aside={count(settings.length, 'setting')}>
              <ul>
                {settings.map((s) => (
                  <Row key={s.setting} s={s} p={p} definition={dictionary.get(s.setting)} delivery={deliveries.get(s.setting)} />
                ))}
              </ul>
            </Sheet>
          ))}
      </div>
      <div className="flex min-w-0 flex-col gap-4">
        <Facts p={p} />
        <Offers p={p} />
        {p.baselines.length > 0 && <BaselinesOf list={p.baselines} />}
        <Disks device={p.device.id} />
        <Certificates device={p.device.id} />
        <Memberships list={p.groups} of="laptop" />
        <History list={p.history} />
        <Sheet title="Check-ins" aside={p.device.enrolled ? `revision ${p.device.revision || 'none'}` : 'not enrolled'}>
          {p.check_ins.length === 0 ? (
            <p className="quiet px-4 py-3 text-sm">None in which something was said yet.</p>
          ) : (
            <ul className="py-1.5 text-sm">
              {p.check_ins.slice(0, 12).map((c) => (
                <li key={c.at} className="flex justify-between gap-3 px-4 py-1">
                  <span>
                    {c.outcome}
                    <span className="quiet">
                      {' '}
                      · {c.sent} sent, {c.applied} taken
                    </span>
                  </span>
                  <span className="quiet text-[13px]">
                    <Time at={c.at} />
                  </span>
                </li>
              ))}
            </ul>
          )}
        </Sheet>
        <Sheet title="Applies" aside={count(p.applies.length, 'policy', 'policies')}>
          {p.applies.length === 0 ? (
            <p className="quiet px-4 py-3 text-sm">No policy applies to this laptop.</p>
          ) : (
            <ul className="max-h-72 overflow-auto py-1.5 text-sm" tabIndex={0} aria-label="Policies that apply">
              {p.applies.map((a) => (
                <li key={a.id} className="flex justify-between gap-3 px-4 py-1">
                  <Link to={`/policies/${a.id}`} className="link-hover link min-w-0 truncate">
                    {a.title || a.id}
                  </Link>
                  <span className="quiet shrink-0 text-[13px]">
                    {a.in_effect} of {a.entries} in effect
                  </span>
                </li>
              ))}
            </ul>
          )}
        </Sheet>
        <Sheet title="Does not apply">
          <div className="px-4 py-3">
            {p.effective.not_applying?.length ? (
              <NotApplyingList list={p.effective.not_applying} />
            ) : (
              <p className="quiet text-sm">Every policy applies to this laptop.</p>
            )}
          </div>
        </Sheet>
      </div>
    </div>
  );
}

/** How the laptop stands to the baselines that it is in. */
function BaselinesOf({ list }: { list: DevicePage['baselines'] }) {
  const word = { complies: 'complies', differs: 'differs', unknown: 'not known' };
  return (
    <Sheet title="Baselines">
      <ul className="py-1.5 text-sm">
        {list.map((b) => (
          <li key={b.baseline} className="px-4 py-1">
            <span className="flex justify-between gap-3">
              <Link to={`/baselines/${b.baseline}`} className="link-hover link min-w-0 truncate">
                {b.title || b.baseline}
              </Link>
              <span className={`shrink-0 text-[13px] ${b.state === 'differs' ? 'text-error' : 'quiet'}`}>{word[b.state]}</span>
            </span>
            {b.failing
              .filter((f) => f.verdict !== 'unsupported')
              .map((f) => (
                <span key={f.setting} className="quiet block text-[13px]">
                  {f.title || f.setting}
                  {f.verdict === 'overridden' && ': a policy wants otherwise'}
                  {f.verdict === 'not-reported' && ': not known'}
                </span>
              ))}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** The policies that are offered on the laptop, and what its person took. */
function Offers({ p }: { p: DevicePage }) {
  if (p.offers.length === 0) return null;
  return (
    <Sheet title="Offered" aside={`${p.offers.filter((o) => o.taken).length} of ${p.offers.length} taken`}>
      <ul className="py-1.5 text-sm">
        {p.offers.map((o) => (
          <li key={o.policy} className="flex justify-between gap-3 px-4 py-1">
            <Link to={`/policies/${o.policy}`} className="link-hover link min-w-0 truncate">
              {o.title || o.policy}
            </Link>
            <span className="quiet shrink-0 text-[13px]">
              {!o.taken ? (
                'not taken'
              ) : o.since ? (
                <>
                  taken <Time at={o.since} />
                </>
              ) : (
                'taken'
              )}
            </span>
          </li>
        ))}
      </ul>
      <p className="quiet border-t border-base-300/60 px-4 py-2 text-[13px]">
        {p.tells
          ? 'The laptop shows them to its person, who takes or leaves each.'
          : 'The laptop has not said what was taken on it. An edit or a source decides.'}
      </p>
    </Sheet>
  );
}

/** The rollouts under way that the laptop is in: what it has of them, and what comes when. */
function ComingNotes({ device, dictionary }: { device: string; dictionary: Map<string, Setting> }) {
  const list = useComing(device).data ?? [];
  if (list.length === 0) return null;
  const says = (c: Coming) => {
    if (c.state === 'taken') return 'has it in force';
    if (c.state === 'failed') return 'failed to take it';
    if (c.state === 'lost') return 'took it, and was not heard for too long since';
    if (c.state === 'excused') return 'is excused, and gets it with the others';
    if (c.state === 'returned') return 'has again what it had before';
    if (c.state === 'waiting') return `gets it with the wave ‘${c.wave}’`;
    return c.gets ? 'gets it at its next check-in' : `gets it when the rollout goes on: it is ${c.progress}`;
  };
  return (
    <Sheet title="Rollouts under way" aside={count(list.length, 'rollout')}>
      <ul className="py-1.5 text-sm">
        {list.map((c) => (
          <li key={c.rollout} className="px-4 py-1.5">
            <Link className="font-medium hover:underline" to={`/rollouts/${c.rollout}`}>
              {c.title}
            </Link>
            : this laptop {says(c)}
            {c.state === 'due' && c.gets && c.expected && (
              <>
                , usually <Time at={c.expected} />
              </>
            )}
            .
            <span className="quiet block text-[13px]">
              {c.settings.map((x) => (
                <span key={x.setting} className="flex flex-wrap items-baseline gap-x-2">
                  {dictionary.get(x.setting)?.title ?? x.setting} <BeforeAfter from={x.from} to={x.to} />
                </span>
              ))}
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function Row({ s, p, definition, delivery }: { s: SettingAnswer; p: DevicePage; definition?: Setting; delivery?: Delivery }) {
  const [open, setOpen] = useState(false);
  const state = s.status === 'set' ? (delivery?.status ?? 'none') : s.status;
  const differs = delivery?.status === 'failed' && delivery.reported !== undefined;
  return (
    <li className="border-b border-base-300/60 last:border-0">
      <div className="grid grid-cols-[minmax(0,1.6fr)_minmax(0,1.5fr)_minmax(0,1.1fr)_auto] items-center gap-3 px-4 py-2 text-sm">
        <div className="min-w-0">
          <div>{definition?.title ?? s.setting}</div>
          <div className="id quiet">{s.setting}</div>
        </div>
        <div className="min-w-0">
          {s.status === 'set' ? <ValueText of={s.value} className="font-semibold" /> : <Status of={s.status} />}
          {s.status === 'set' && <div className="quiet truncate text-[13px]">{howWord(s.how)}</div>}
        </div>
        <div className="min-w-0">
          {s.status === 'set' && <Status of={state} title={delivery?.reason} />}
          {delivery?.status === 'failed' && <div className="text-[13px] text-error">{delivery.reason}</div>}
          {(differs || delivery?.status === 'drifted') && (
            <div className="quiet text-[13px]">
              reports <ValueText of={delivery.reported} />
            </div>
          )}
          {s.status !== 'set' && delivery?.reported !== undefined && (
            <div className="quiet text-[13px]">
              has <ValueText of={delivery.reported} />
            </div>
          )}
        </div>
        <button
          type="button"
          className="btn btn-ghost btn-sm"
          aria-expanded={open}
          aria-label={`Why ${definition?.title ?? s.setting}`}
          onClick={() => setOpen(!open)}
        >
          {open ? <ChevronDown size={15} aria-hidden /> : <ChevronRight size={15} aria-hidden />} Why
        </button>
      </div>
      {open && (
        <div className="border-t border-base-300/60 bg-base-200/60 px-4 py-3">
          <Why of={s} units={p.units} notApplying={p.effective.not_applying ?? []} />
        </div>
      )}
    </li>
  );
}

function Facts({ p }: { p: DevicePage }) {
  const d = p.device;
  const o = d.origin;
  /** Where a fact comes from. */
  const from = (field: string) => (!o?.brings?.includes(field) ? 'edited here' : o.local?.includes(field) ? `edited here, differs from ${o.source}` : o.source);
  const facts: [string, string, React.ReactNode][] = [
    ['serial', 'Serial', d.serial ? <Id copy>{d.serial}</Id> : '–'],
    [
      'owner',
      'Owner',
      d.owner ? (
        <Link className="id link-hover link" to={`/people/${d.owner}`}>
          {d.owner}
        </Link>
      ) : (
        'none'
      ),
    ],
    ['users', 'Further users', p.users.length ? p.users.join(', ') : 'none'],
    ['unit', 'Unit', <span className="id">{p.units.join(' / ')}</span>],
    ['tags', 'Tags', d.tags.length ? d.tags.join(', ') : 'none'],
    ...Object.entries(p.facts).map(([k, v]): [string, string, React.ReactNode] => [`facts/${k}`, k, <ValueText of={v} />]),
  ];
  return (
    <Sheet title="Facts" aside={o ? <Link to={`/sources/${o.source}`}>from {o.source}</Link> : 'edited here'}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 px-4 py-3 text-sm">
        {facts.map(([field, k, v]) => (
          <div key={k} className="contents" title={from(field)}>
            <dt className="quiet">{k}</dt>
            <dd className="min-w-0 break-words">
              {v}
              {o && o.brings?.includes(field) !== !o.local?.includes(field) && <span className="quiet block text-[12px]">{from(field)}</span>}
            </dd>
          </div>
        ))}
      </dl>
    </Sheet>
  );
}
