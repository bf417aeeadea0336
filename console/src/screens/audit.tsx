// Audit log: who did what, when, through what; searched by person, action, object and day. What is searched for is in the address.
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { ShieldAlert, ShieldCheck } from 'lucide-react';
import { Fragment, useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, got, type AuditRecord, type Verification } from '../api/client';
import { showMoment } from '../api/moment';
import { keys } from '../api/queries';
import { Empty, Failed, Heads, Loading, Page } from '../ui/parts';
import { useTyped } from '../ui/typed';
import { Time } from '../ui/words';

const size = 100;

const fields = [
  { name: 'by', word: 'Who', placeholder: 'ines.okafor', type: 'text' },
  { name: 'action', word: 'What', placeholder: 'publish', type: 'text' },
  { name: 'object', word: 'Object', placeholder: 'policies/house-rules', type: 'text' },
  { name: 'since', word: 'From', placeholder: '', type: 'date' },
  { name: 'until', word: 'To', placeholder: '', type: 'date' },
] as const;

/** The moment at which a day begins here, or the next one; nothing for no day. */
function moment(day: string, next = false): string | undefined {
  const at = new Date(`${day}T00:00:00`);
  if (Number.isNaN(at.getTime())) return undefined;
  if (next) at.setDate(at.getDate() + 1);
  return at.toISOString();
}

/** The filter that the address holds, as the service takes it. */
function filterOf(params: URLSearchParams) {
  const text = (name: string) => params.get(name) || undefined;
  const [kind, ...id] = (params.get('object') ?? '').split('/');
  return {
    by: text('by'),
    action: text('action'),
    ...(id.length > 0 ? { kind, object: id.join('/') } : {}),
    since: moment(params.get('since') ?? ''),
    until: moment(params.get('until') ?? '', true),
  };
}

export function AuditScreen() {
  const [params] = useSearchParams();
  const filter = filterOf(params);
  const list = useInfiniteQuery({
    queryKey: [...keys.changes, 'audit', filter],
    queryFn: ({ pageParam }) => got(api.GET('/api/v1/audit', { params: { query: { ...filter, limit: size, below: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === size ? last.at(-1)!.seq : undefined),
  });
  const rows = list.data?.pages.flat() ?? [];
  return (
    <Page title="Audit log" lead="Everything that was done, by whom, through what. Open a row for what was there before and after." actions={<Verify />}>
      <div className="flex flex-wrap items-end gap-3">
        {fields.map((f) => (
          <FilterField key={f.name} {...f} />
        ))}
        {[...params].length > 0 && (
          <Link className="btn btn-ghost btn-sm" to="/audit-log">
            Show all
          </Link>
        )}
      </div>
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {rows.length === 0 ? (
            <Empty>{[...params].length > 0 ? 'Nothing that was done matches this.' : 'Nothing was done yet.'}</Empty>
          ) : (
            <table className="table table-sm">
              <caption className="sr-only">Records of the audit log</caption>
              <Heads of={['When', 'Who', 'Via', 'What', 'Object', 'Change']} />
              <tbody>
                {rows.map((r) => (
                  <Record key={r.seq} of={r} />
                ))}
              </tbody>
            </table>
          )}
          {list.hasNextPage && (
            <button type="button" className="btn btn-sm m-3" onClick={() => void list.fetchNextPage()}>
              Older entries
            </button>
          )}
        </div>
      )}
    </Page>
  );
}

/** Has the service verify its log: every record carries a hash over the one before, and checkpoints sign these hashes. */
function Verify() {
  const verify = useMutation({ mutationFn: () => got(api.POST('/api/v1/audit/verification', { body: { checkpoints: [] } })) });
  return (
    <div className="flex flex-col items-end gap-1" aria-live="polite">
      <button type="button" className="btn btn-sm" disabled={verify.isPending} onClick={() => verify.mutate()}>
        {verify.isPending ? 'Verifying …' : 'Verify the log'}
      </button>
      <Failed error={verify.error} />
      {verify.data && <Found of={verify.data} />}
    </div>
  );
}

const faultWords: Record<NonNullable<Verification['fault']>, string> = {
  altered: 'was altered',
  missing: 'does not follow the record before: records are missing',
  inserted: 'was inserted',
  'bad-checkpoint': 'has a checkpoint that is not good',
  shortened: 'is missing at the end of the log',
};

function Found({ of: v }: { of: Verification }) {
  if (v.fault) {
    return (
      <p className="flex max-w-md items-start gap-2 text-[13px] text-error">
        <ShieldAlert className="mt-0.5 size-4 shrink-0" aria-hidden />
        <span>
          Not as it was written: record {v.at} {faultWords[v.fault]}. {v.detail}
        </span>
      </p>
    );
  }
  return (
    <p className="flex items-start gap-2 text-[13px]">
      <ShieldCheck className="mt-0.5 size-4 shrink-0 text-success" aria-hidden />
      <span>
        As it was written: {v.records.toLocaleString('en')} records.{' '}
        {v.covered > 0 ? (
          <>
            Signed up to record {v.covered.toLocaleString('en')}, <Time at={v.covered_at} />.
          </>
        ) : (
          'Not signed yet: the service signs it every hour.'
        )}
      </span>
    </p>
  );
}

function FilterField({ name, word, placeholder, type }: { name: string; word: string; placeholder: string; type: string }) {
  const [params, setParams] = useSearchParams();
  const [text, setText] = useTyped(
    params.get(name) ?? '',
    (kept) =>
      setParams(
        (was) => {
          const next = new URLSearchParams(was);
          if (kept) next.set(name, kept);
          else next.delete(name);
          return next;
        },
        { replace: true },
      ),
    type === 'text' ? 300 : 0,
  );
  return (
    <label className="flex flex-col gap-1 text-[13px]">
      <span className="quiet">{word}</span>
      <input className="input input-sm w-44" type={type} placeholder={placeholder} value={text} onChange={(e) => setText(e.target.value)} />
    </label>
  );
}

function Record({ of: r }: { of: AuditRecord }) {
  const [open, setOpen] = useState(false);
  const more = !!(r.before || r.after || r.request);
  return (
    <Fragment>
      <tr>
        <th scope="row">
          <Time at={r.at} />
        </th>
        <td>{r.by}</td>
        <td>{r.via}</td>
        <td>
          {more ? (
            <button type="button" className="link-hover link cursor-pointer text-left" aria-expanded={open} onClick={() => setOpen(!open)}>
              {r.action}
            </button>
          ) : (
            r.action
          )}
        </td>
        <td className="id">
          <ObjectLink of={r} />
        </td>
        <td>
          {r.change && (
            <Link className="id link" to={`/changes/${r.change}`}>
              {r.change}
            </Link>
          )}
        </td>
      </tr>
      {open && (
        <tr>
          <td colSpan={6} className="bg-base-200/50">
            <div className="grid gap-3 md:grid-cols-2">
              <Body title="Before" text={r.before} />
              <Body title="After" text={r.after} />
            </div>
            {r.kind === 'policies' && r.id && r.change && (
              <p className="mt-2 text-[13px]">
                <Link className="link" to={`/policies/${encodeURIComponent(r.id)}/history?at=${encodeURIComponent(r.at)}`}>
                  The version of the policy
                </Link>
              </p>
            )}
            <ThenButton of={r} />
            {r.request && (
              <p className="quiet mt-2 text-[13px]">
                Request <span className="id">{r.request}</span>
              </p>
            )}
          </td>
        </tr>
      )}
    </Fragment>
  );
}

/** Kinds of objects that have a page of their own. */
const pages: Record<string, string> = { policies: 'policies', groups: 'groups', units: 'units', people: 'people', devices: 'devices', settings: 'dictionary' };

/** Kinds of objects whose pages can be looked at in the past, with what they are called. */
const withPast: Record<string, string> = { policies: 'policy', groups: 'group', units: 'unit', devices: 'laptop', settings: 'setting' };

/** Opens the page of what a record is about, as it was live at that moment. */
function ThenButton({ of: r }: { of: AuditRecord }) {
  const go = useNavigate();
  const word = withPast[r.kind ?? ''];
  if (!word || !r.id) return null;
  const open = () => {
    showMoment(r.at);
    void go(`/${pages[r.kind!]}/${encodeURIComponent(r.id!)}`);
  };
  return (
    <p className="mt-2 text-[13px]">
      <button type="button" className="link cursor-pointer" onClick={open}>
        Show the {word} as it was live at that moment
      </button>
    </p>
  );
}

/** What a record is about, as a link where it has a page; what was done in words otherwise. */
function ObjectLink({ of: r }: { of: AuditRecord }) {
  if (!r.id) return <>{r.after?.slice(0, 60)}</>;
  const page = pages[r.kind ?? ''];
  if (!page) return <>{`${r.kind}/${r.id}`}</>;
  return (
    <Link className="link-hover link" to={`/${page}/${encodeURIComponent(r.id)}`}>
      {r.kind}/{r.id}
    </Link>
  );
}

/** A body of a record: an object in lines, any other text as it is. */
function Body({ title, text }: { title: string; text?: string }) {
  let shown = text ?? '';
  try {
    shown = JSON.stringify(JSON.parse(shown), null, 2);
  } catch {
    // no object: shown as it is
  }
  return (
    <div className="min-w-0">
      <h3 className="quiet mb-1 text-[13px]">{title}</h3>
      {shown ? (
        <pre className="max-h-72 overflow-auto rounded bg-base-100 p-2 text-[12px]" tabIndex={0} aria-label={title}>
          {shown}
        </pre>
      ) : (
        <p className="quiet text-[13px]">nothing</p>
      )}
    </div>
  );
}
