// Two laptops side by side, or one as it is beside what it would be: in another unit, in other groups, with another owner or person.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { api, got, type Comparison, type SettingAnswer } from '../api/client';
import { keys, useGroups, useUnitTree } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { Empty, Failed, Field, Id, Loading, Page, Sheet, UnitOptions } from '../ui/parts';
import { count, howWord, Status, ValueText } from '../ui/words';

export function CompareScreen() {
  const { change } = useOpenChange();
  const [params, setParams] = useSearchParams();
  const [a, b] = [params.get('a') ?? '', params.get('b') ?? ''];
  const supposed = {
    ...(params.get('unit') ? { unit: params.get('unit')! } : {}),
    ...(params.get('join') ? { join: params.get('join')!.split(',') } : {}),
    ...(params.get('leave') ? { leave: params.get('leave')!.split(',') } : {}),
    ...(params.has('owner') ? { owner: params.get('owner')! } : {}),
    ...(params.get('person') ? { person: params.get('person')! } : {}),
  };
  const what = !b;
  const query = change ? { change: change.id } : {};
  const answer = useQuery({
    queryKey: [...keys.devices, 'compare', a, b, supposed, change?.id ?? '', change?.version ?? 0],
    queryFn: () =>
      what
        ? got(api.POST('/api/v1/devices/{id}/suppose', { params: { path: { id: a }, query }, body: supposed }))
        : got(api.GET('/api/v1/devices/{id}/beside/{other}', { params: { path: { id: a, other: b }, query } })),
    enabled: a !== '',
    placeholderData: keepPreviousData,
    retry: false,
  });
  const set = (key: string, value: string | undefined) =>
    setParams(
      (p) => {
        if (value === undefined) p.delete(key);
        else p.set(key, value);
        return p;
      },
      { replace: true },
    );
  return (
    <Page
      title={what ? (a ? `${a}: what if` : 'Compare') : `${a} and ${b}`}
      lead={what ? 'As it is, beside what it would be. Nothing is altered.' : 'What each of them gets, and why it differs'}
    >
      <Choose key={a + b} a={a} b={b} onChoose={(x, y) => setParams(y ? { a: x, b: y } : { a: x })} />
      {what && a && <Suppose supposed={supposed} set={set} />}
      <Failed error={answer.error} />
      {a && answer.isPending && <Loading />}
      {!a && <Empty>Name a laptop to suppose something of it, or two to compare them.</Empty>}
      {answer.data && a && <Side of={answer.data} a={a} b={b || 'as it would be'} what={what} />}
    </Page>
  );
}

function Choose({ a, b, onChoose }: { a: string; b: string; onChoose: (a: string, b: string) => void }) {
  const [x, setX] = useState(a);
  const [y, setY] = useState(b);
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        onChoose(x.trim(), y.trim());
      }}
    >
      <Field label="Laptop">
        <input className="input input-sm w-44 font-mono" placeholder="LT-0001" value={x} onChange={(e) => setX(e.target.value)} />
      </Field>
      <Field label="Beside">
        <input className="input input-sm w-44 font-mono" placeholder="itself, supposed" value={y} onChange={(e) => setY(e.target.value)} />
      </Field>
      <button type="submit" className="btn btn-sm">
        Show
      </button>
    </form>
  );
}

function Suppose({
  supposed,
  set,
}: {
  supposed: { unit?: string; join?: string[]; leave?: string[]; owner?: string; person?: string };
  set: (key: string, value: string | undefined) => void;
}) {
  const tree = useUnitTree().data ?? [];
  const groups = useGroups().data ?? [];
  const [owner, setOwner] = useState(supposed.owner ?? '');
  const [person, setPerson] = useState(supposed.person ?? '');
  const pick = (key: 'join' | 'leave', label: string) => (
    <Field label={label}>
      <select className="select select-sm w-full" value={supposed[key]?.[0] ?? ''} onChange={(e) => set(key, e.target.value || undefined)}>
        <option value="">no group</option>
        {groups.map((g) => (
          <option key={g.id} value={g.id}>
            {g.title || g.id}
          </option>
        ))}
      </select>
    </Field>
  );
  return (
    <Sheet title="Suppose">
      <form
        className="grid items-end gap-3 px-4 py-3 md:grid-cols-3 xl:grid-cols-5"
        onSubmit={(e) => {
          e.preventDefault();
          set('owner', owner.trim() || undefined);
          set('person', person.trim() || undefined);
        }}
      >
        <Field label="It moves to">
          <select className="select select-sm w-full" value={supposed.unit ?? ''} onChange={(e) => set('unit', e.target.value || undefined)}>
            <option value="">where it is</option>
            <UnitOptions of={tree} />
          </select>
        </Field>
        {pick('join', 'It joins')}
        {pick('leave', 'It leaves')}
        <Field label="Another owner">
          <input
            className="input input-sm w-full font-mono text-[13px]"
            placeholder="person’s id"
            value={owner}
            onChange={(e) => setOwner(e.target.value)}
            onBlur={() => set('owner', owner.trim() || undefined)}
          />
        </Field>
        <Field label="Another person signs in">
          <input
            className="input input-sm w-full font-mono text-[13px]"
            placeholder="person’s id"
            value={person}
            onChange={(e) => setPerson(e.target.value)}
            onBlur={() => set('person', person.trim() || undefined)}
          />
        </Field>
        <button type="submit" className="sr-only">
          Suppose
        </button>
      </form>
    </Sheet>
  );
}

function Side({ of, a, b, what }: { of: Comparison; a: string; b: string; what: boolean }) {
  const [all, setAll] = useState(false);
  const rows = all ? of.rows : of.rows.filter((r) => !r.same);
  const only = (word: string, list: string[], to: string) =>
    list.length > 0 && (
      <p>
        <span className="quiet">{word}: </span>
        {list.map((id, i) => (
          <span key={id}>
            {i > 0 && ', '}
            <Link to={`${to}/${id}`} className="id link-hover link">
              {id}
            </Link>
          </span>
        ))}
      </p>
    );
  return (
    <>
      <div className="flex flex-col gap-1 text-sm">
        <p>
          <strong className="text-2xl tabular-nums">{of.differ}</strong> of {count(of.rows.length, 'setting')} {of.differ === 1 ? 'differs' : 'differ'}
        </p>
        {only(`Policies for ${a} alone`, of.only_a, '/policies')}
        {only(`Policies ${what ? 'it would get' : `for ${b} alone`}`, of.only_b, '/policies')}
        {only(`Groups of ${a} alone`, of.groups_a, '/groups')}
        {only(`Groups ${what ? 'it would be in' : `of ${b} alone`}`, of.groups_b, '/groups')}
      </div>
      {!!of.facts?.length && (
        <Sheet title="Facts that differ">
          <div className="overflow-x-auto" tabIndex={0}>
            <table className="table table-sm">
              <caption className="sr-only">Facts that differ</caption>
              <tbody>
                {of.facts.map((f) => (
                  <tr key={f.name}>
                    <th scope="row" className="w-1/3">
                      {f.name.replace(/^facts\//, '')}
                    </th>
                    <td className="w-1/3">{f.a === undefined ? <span className="quiet">not known</span> : <ValueText of={f.a} />}</td>
                    <td>{f.b === undefined ? <span className="quiet">not known</span> : <ValueText of={f.b} />}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </Sheet>
      )}
      <Sheet
        title="Settings"
        aside={
          <label className="flex items-center gap-1.5">
            <input type="checkbox" className="checkbox checkbox-xs" checked={all} onChange={(e) => setAll(e.target.checked)} /> those that are the same too
          </label>
        }
      >
        {rows.length === 0 ? (
          <Empty>Every setting is the same.</Empty>
        ) : (
          <div className="overflow-x-auto" tabIndex={0}>
            <table className="table table-sm">
              <caption className="sr-only">Settings side by side</caption>
              <thead>
                <tr>
                  <th scope="col" className="w-1/3">
                    Setting
                  </th>
                  <th scope="col" className="w-1/3">
                    <Id>{a}</Id>
                  </th>
                  <th scope="col">{what ? b : <Id>{b}</Id>}</th>
                </tr>
              </thead>
              <tbody>
                {rows.map((r) => (
                  <tr key={r.setting} className="align-top">
                    <th scope="row">
                      <div>{r.title || r.setting}</div>
                      <div className="id quiet">{r.setting}</div>
                    </th>
                    <td>
                      <Outcome of={r.a} />
                    </td>
                    <td>
                      <Outcome of={r.b} strong={!r.same} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Sheet>
    </>
  );
}

/** A setting's outcome with where it comes from. */
function Outcome({ of, strong = false }: { of?: SettingAnswer; strong?: boolean }) {
  if (!of) return <span className="quiet">not set</span>;
  return (
    <div>
      {of.status === 'set' ? <ValueText of={of.value} className={strong ? 'font-semibold' : ''} /> : <Status of={of.status} />}
      <div className="quiet text-[13px]">
        {howWord(of.how)}
        {of.from?.length ? ' from ' : ''}
        {of.from?.map((id, i) => (
          <span key={id}>
            {i > 0 && ', '}
            {of.how === 'exception' ? id : <Link to={`/policies/${id}`}>{id}</Link>}
            {of.candidates.find((c) => c.policy === id) && ` (${of.candidates.find((c) => c.policy === id)!.level})`}
          </span>
        ))}
      </div>
    </div>
  );
}
