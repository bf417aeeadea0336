// What comes to a unit or a group: from above, overridden by what, locked above, detached, and its own.
import { ChevronDown, ChevronRight, Lock } from 'lucide-react';
import { Fragment, useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import type { Arrival, Inheritance, InheritedSetting } from '../../api/client';
import { useInheritance, useUnitTree } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Empty, Failed, Heads, Id, Loading, Page } from '../../ui/parts';
import { Prevails } from '../../ui/prevailing';
import { count, number, ValueText } from '../../ui/words';
import { WhoMay } from '../access/whomay';
import { DetachButton, detachText } from './detach';

type Way = 'above' | 'overridden' | 'locked' | 'detached' | 'own' | 'clashing';

const ways: { key: Way; word: string; says: string }[] = [
  { key: 'above', word: 'From above', says: 'the value in effect comes from a unit above' },
  { key: 'overridden', word: 'Overridden', says: 'something from above is overridden by  of here or closer' },
  { key: 'locked', word: 'Locked above', says: 'an entry from above is locked: nothing here overrides it' },
  { key: 'detached', word: 'Detached', says: 'something from above does not arrive' },
  { key: 'own', word: 'Its own', says: 'the value in effect comes from here or closer alone' },
  { key: 'clashing', word: 'Conflicts', says: 'policies disagree' },
];

const pressed = 'border-primary/50 bg-primary/12 text-primary';

export function UnitScreen() {
  const { id = '' } = useParams();
  const { change } = useOpenChange();
  const tree = useUnitTree(change).data ?? [];
  const unit = tree.find((u) => u.id === id);
  const titles = new Map(tree.map((u) => [u.id, u.title || u.id]));
  const query = useInheritance('units', id, change);
  const above = query.data?.above ?? [];
  return (
    <Inherits
      key={id}
      id={id}
      query={query}
      what="unit"
      lead={
        <>
          {above.map((u) => (
            <Fragment key={u}>
              <Link className="link-hover link" to={`/units/${u}`}>
                {titles.get(u) ?? u}
              </Link>
              {' › '}
            </Fragment>
          ))}
          <Id copy>{id}</Id>
        </>
      }
      devices={`/devices?unit=${id}`}
      actions={
        <>
          <Link className="btn btn-ghost btn-sm" to={`/units/matrix?unit=${id}`}>
            Settings by unit
          </Link>
          {unit && <WhoMay kind="units" id={id} />}
          {unit?.parent && <DetachButton place={`unit:${id}`} title={unit.title || id} detach={unit.detach} />}
        </>
      }
    />
  );
}

export function GroupInheritsScreen() {
  const { id = '' } = useParams();
  const { change } = useOpenChange();
  const query = useInheritance('groups', id, change);
  return (
    <Inherits
      key={id}
      id={id}
      query={query}
      what="group"
      lead={
        <>
          The group{' '}
          <Link className="id link" to={`/groups/${id}`}>
            {id}
          </Link>
        </>
      }
      devices={`/devices?group=${id}`}
    />
  );
}

function Inherits({
  id,
  query,
  what,
  lead,
  devices,
  actions,
}: {
  id: string;
  query: { data?: Inheritance; error: unknown; isPending: boolean };
  what: string;
  lead: React.ReactNode;
  devices: string;
  actions?: React.ReactNode;
}) {
  const [params, setParams] = useSearchParams();
  const [words, setWords] = useState('');
  const only = ways.find((w) => w.key === params.get('only'));
  const i = query.data;
  const mentions = words.toLowerCase().trim();
  const shown = (i?.settings ?? []).filter(
    (s) => (!only || s[only.key] > 0) && (!mentions || `${s.title} ${s.setting} ${s.area}`.toLowerCase().includes(mentions)),
  );
  const areas = [...new Set(shown.map((s) => s.area || 'Other'))].sort();
  return (
    <Page
      title={i?.title || <Id>{id}</Id>}
      lead={
        <>
          {lead}
          {i && (
            <>
              {' · '}
              <Link className="link-hover link" to={devices}>
                {count(i.devices, 'laptop')}
              </Link>
              {i.detach.length > 0 && <span className="text-info"> · detached: {detachText(i.detach)}</span>}
            </>
          )}
        </>
      }
      actions={actions}
    >
      <Failed error={query.error} />
      {query.isPending && <Loading />}
      {i && (
        <>
          <div className="flex flex-wrap items-center gap-2" role="group" aria-label="Which settings">
            <button type="button" className={`btn btn-sm ${only ? '' : pressed}`} aria-pressed={!only} onClick={() => setParams({}, { replace: true })}>
              All <span className="tabular-nums">{number(i.settings.length)}</span>
            </button>
            {ways.map((w) => {
              const n = i.settings.filter((s) => s[w.key] > 0).length;
              return (
                <button
                  key={w.key}
                  type="button"
                  title={w.says}
                  disabled={n === 0}
                  className={`btn btn-sm ${only === w ? pressed : ''}`}
                  aria-pressed={only === w}
                  onClick={() => setParams({ only: w.key }, { replace: true })}
                >
                  {w.word} <span className="tabular-nums">{number(n)}</span>
                </button>
              );
            })}
            <input
              className="input input-sm ml-auto w-56"
              placeholder="Only that mention …"
              aria-label="Only settings that mention"
              value={words}
              onChange={(e) => setWords(e.target.value)}
            />
          </div>
          {only && (
            <p className="quiet text-sm">
              Settings where, on some laptop of the {what}, {only.says}.
            </p>
          )}
          {shown.length === 0 ? (
            <div className="sheet">
              <Empty
                action={
                  <Link className="btn btn-sm" to="/policies">
                    To the policies
                  </Link>
                }
              >
                {i.settings.length === 0 ? `No policy reaches a laptop of this ${what}.` : 'None of its settings is so.'}
              </Empty>
            </div>
          ) : (
            <div className="sheet overflow-x-auto">
              <table className="table table-sm">
                <caption className="sr-only">Inherited settings</caption>
                <Heads of={['Setting', 'On most laptops', 'How it comes here']} />
                {areas.map((area) => (
                  <tbody key={area}>
                    <tr>
                      <th scope="rowgroup" colSpan={3} className="quiet bg-base-200/60 py-1 text-[13px] font-medium">
                        <span className="inline-block first-letter:uppercase">{area}</span>
                      </th>
                    </tr>
                    {shown
                      .filter((s) => (s.area || 'Other') === area)
                      .map((s) => (
                        <SettingRows key={s.setting} of={s} what={what} />
                      ))}
                  </tbody>
                ))}
              </table>
            </div>
          )}
        </>
      )}
    </Page>
  );
}

function SettingRows({ of, what }: { of: InheritedSetting; what: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <tr>
        <th scope="row" className="align-top">
          <button type="button" className="flex cursor-pointer items-start gap-1.5 text-left" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? <ChevronDown size={14} className="mt-1 shrink-0" aria-hidden /> : <ChevronRight size={14} className="mt-1 shrink-0" aria-hidden />}
            <span>
              <span className="block">{of.title || of.setting}</span>
              <span className="id quiet">{of.setting}</span>
            </span>
          </button>
        </th>
        <td className="max-w-96 align-top">
          <Prevails of={of.prevailing} />
        </td>
        <td className="align-top">
          <Comes of={of} />
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={3} className="bg-base-200/40 py-2 pl-9">
            <Rungs of={of} what={what} />
          </td>
        </tr>
      )}
    </>
  );
}

/** The ways in which a setting comes to a place, each with its laptops. */
function Comes({ of }: { of: InheritedSetting }) {
  const over = [...new Set(of.arrivals.filter((a) => a.whence === 'above').flatMap((a) => a.beaten.map((b) => b.policy_title || b.policy || 'an exception')))];
  return (
    <span className="flex flex-wrap gap-x-4 gap-y-0.5 text-sm">
      {of.above > 0 && (
        <span>
          from above on <Num n={of.above} />
          {of.locked > 0 && (
            <span className="whitespace-nowrap">
              , <Lock size={12} className="inline" aria-hidden /> locked{of.locked < of.above ? ` on ${number(of.locked)}` : ''}
            </span>
          )}
        </span>
      )}
      {of.overridden > 0 && (
        <span className="text-info">
          overridden on <Num n={of.overridden} />{' '}
          {over.length > 0 && `by ${over.slice(0, 2).join(' and ')}${over.length > 2 ? ` and ${over.length - 2} more` : ''}`}
        </span>
      )}
      {of.own > 0 && of.overridden < of.own && (
        <span>
          its own on <Num n={of.own} />
        </span>
      )}
      {of.detached > 0 && (
        <span className="text-warning">
          from above, not inherited on <Num n={of.detached} />
        </span>
      )}
      {of.clashing > 0 && (
        <span className="text-warning">
          conflict on <Num n={of.clashing} />
        </span>
      )}
    </span>
  );
}

const Num = ({ n }: { n: number }) => <strong className="tabular-nums">{number(n)}</strong>;

const whences: Record<Arrival['whence'], (what: string) => string> = {
  above: () => 'from above',
  here: (what) => `for this ${what}`,
  beside: () => 'for another group',
  closer: () => 'closer',
};

/** Every entry, from the outermost level inwards, with what is in effect instead of it. */
function Rungs({ of, what }: { of: InheritedSetting; what: string }) {
  return (
    <table className="table table-xs">
      <caption className="sr-only">Entries for {of.title || of.setting}</caption>
      <thead>
        <tr>
          <th scope="col">Comes</th>
          <th scope="col">Policy</th>
          <th scope="col">Value</th>
          <th scope="col" className="text-right">
            Laptops
          </th>
          <th scope="col">Where</th>
        </tr>
      </thead>
      <tbody>
        {of.arrivals.map((a) => (
          <tr key={a.policy + a.level}>
            <th scope="row" className="whitespace-nowrap">
              {whences[a.whence](what)} <span className="quiet">{a.level}</span>
            </th>
            <td>
              <Link className="link-hover link" to={`/policies/${a.policy}`}>
                {a.policy_title || a.policy}
              </Link>
            </td>
            <td>
              <ValueText of={a.value} />
              {a.locked && (
                <span className="quiet whitespace-nowrap">
                  {' '}
                  <Lock size={11} className="inline" aria-hidden /> locked
                </span>
              )}
            </td>
            <td className="text-right tabular-nums">{number(a.devices)}</td>
            <td>
              <Where of={a} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Where({ of }: { of: Arrival }) {
  const parts: React.ReactNode[] = [];
  if (of.fates.won) parts.push(<span key="won">in effect on {number(of.fates.won)}</span>);
  if (of.fates.clashing)
    parts.push(
      <Link key="conflict" className="link text-warning" to="/conflicts">
        conflicts on {number(of.fates.clashing)}
      </Link>,
    );
  if (of.fates.detached) parts.push(<span key="detached">does not arrive on {number(of.fates.detached)}</span>);
  for (const b of of.beaten)
    parts.push(
      <span key={`${b.policy}${b.exception}`}>
        overridden by{' '}
        {b.policy ? (
          <Link className="link-hover link" to={`/policies/${b.policy}`}>
            {b.policy_title || b.policy}
          </Link>
        ) : (
          <Link className="link-hover link" to="/exceptions">
            the exception {b.exception}
          </Link>
        )}{' '}
        on {number(b.devices)}
      </span>,
    );
  return (
    <span className="flex flex-wrap gap-x-3">
      {parts.map((p, i) => (
        <Fragment key={i}>{p}</Fragment>
      ))}
    </span>
  );
}
