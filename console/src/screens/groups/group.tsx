// One group, as it is or as it is being written: a list, a rule with completion, member groups; who joins and who leaves are shown beside it.
import { Listed, Nested } from './members';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Trash2 } from 'lucide-react';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Link, useLocation, useNavigate, useParams } from 'react-router';
import { api, got, Refusal, type GroupDoc, type GroupPage, type GroupTrial, chosen } from '../../api/client';
import { keys, queries, useGroup } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { useAnnounced } from '../../ui/announce';
import { useOpenChange } from '../../ui/change';
import { ImpactPanel } from '../../ui/impact';
import { OriginNote } from '../../ui/membership';
import { Dialog, Empty, Failed, Field, Id, Loading, Page, Sheet } from '../../ui/parts';
import { useSettled } from '../../ui/typed';
import { count, number, slug } from '../../ui/words';
import { WhoMay } from '../access/whomay';
import { DetachButton } from '../units/detach';
import { RuleEditor } from './rule';

export function GroupScreen() {
  const { id = '' } = useParams();
  const { change } = useOpenChange();
  const group = useGroup(id, change);
  const retired = group.error instanceof Refusal && change?.edits?.some((e) => e.kind === 'groups' && e.id === id && e.action === 'retire');
  if (retired)
    return (
      <Page title={<Id>{id}</Id>}>
        <Empty
          action={
            <Link className="btn btn-sm" to={`/changes/${change!.id}`}>
              To the change
            </Link>
          }
        >
          ‘{change!.title}’ takes this group away.
        </Empty>
      </Page>
    );
  return (
    <>
      {group.error ? (
        <Page title={<Id>{id}</Id>}>
          <Failed error={group.error} />
        </Page>
      ) : null}
      {group.isPending && <Loading />}
      {group.data && <Editor key={id} page={group.data} current={!group.isPlaceholderData} />}
    </>
  );
}

export function NewGroupScreen() {
  const state = useLocation().state as { of?: 'devices' | 'people'; members?: string[] } | null;
  return <Editor start={{ id: '', of: state?.of ?? 'devices', ...(state?.members ? { members: state.members } : {}) }} />;
}

const clean = (d: GroupDoc): GroupDoc => ({
  id: d.id,
  of: d.of,
  ...(d.title ? { title: d.title } : {}),
  ...(d.members?.length ? { members: d.members } : {}),
  ...(d.groups?.length ? { groups: d.groups } : {}),
  ...(d.rule?.trim() ? { rule: d.rule } : {}),
  ...(d.detach?.length ? { detach: d.detach } : {}),
});

function Editor({ page, current, start }: { page?: GroupPage; current?: boolean; start?: GroupDoc }) {
  const { change, put } = useOpenChange();
  const go = useNavigate();
  const from = page?.doc ?? start!;
  const [doc, setDoc] = useState<GroupDoc>(from);
  const [title, setTitle] = useState('');
  const [error, setError] = useState<unknown>();
  const fresh = JSON.stringify(clean(page?.doc ?? from));
  const edit = change?.edits?.find((e) => e.kind === 'groups' && e.id === doc.id);
  const dirty = JSON.stringify(clean(doc)) !== fresh || !page;
  // What is typed began from this. When somebody else puts the group into the change meanwhile, what is typed stays, and a person chooses.
  const began = useRef({ fresh, version: edit?.version });
  const theirs = page && current && dirty && fresh !== began.current.fresh ? edit : undefined;
  useEffect(() => {
    if (!page || !current || JSON.stringify(clean(doc)) !== began.current.fresh) return;
    setDoc(page.doc);
    began.current = { fresh, version: edit?.version };
  }, [fresh, edit?.version, current]); // eslint-disable-line react-hooks/exhaustive-deps
  const alter = (part: Partial<GroupDoc>) => setDoc((d) => ({ ...d, ...part }));
  const trial = useTrial(doc, change);
  const save = async (over = began.current.version) => {
    const id = doc.id || slug(title);
    const { version } = await put('groups', { ...clean(doc), id, ...(page ? {} : { title }) }, over, page ? `Group ${id}` : `New group ${title}`);
    began.current = { fresh: JSON.stringify(clean(doc)), version };
    await queries.invalidateQueries({ queryKey: keys.estate });
    go(`/groups/${id}`);
  };
  const devices = doc.of === 'devices';
  const shown = trial.data?.trial ?? page?.trial;
  const faults = trial.data?.faults ?? [];
  return (
    <Page
      title={page ? doc.title || doc.id : 'New group'}
      lead={page && <Id copy>{doc.id}</Id>}
      actions={
        <>
          {page && (
            <Link className="btn btn-ghost btn-sm" to={`/groups/${doc.id}/inherits`}>
              Inherited settings
            </Link>
          )}
          {page && <WhoMay kind="groups" id={doc.id} />}
          {page && <DetachButton place={`group:${doc.id}`} title={doc.title || doc.id} detach={page.group.detach} />}
          {page && <Retire page={page} />}
          <button
            type="button"
            className="btn btn-primary btn-sm"
            disabled={!dirty || (!page && !slug(title)) || trial.isError || faults.length > 0 || !!theirs}
            onClick={() => void save().catch(setError)}
          >
            {page ? 'Put into the change' : 'Make the group'}
          </button>
        </>
      }
    >
      <Failed error={error ?? trial.error} />
      {page && theirs && (
        <div role="alert" className="flex flex-wrap items-center gap-3 rounded border border-warning px-4 py-3 text-sm">
          <p className="min-w-0 flex-1 basis-96">
            <span className="font-medium">{theirs.by}</span> put this group into the change while you typed
            {page.doc.rule && page.doc.rule !== doc.rule ? (
              <>
                , with the rule <code className="id">{page.doc.rule}</code>
              </>
            ) : null}
            . What you typed is still here.
          </p>
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => {
              setDoc(page.doc);
              began.current = { fresh, version: theirs.version };
            }}
          >
            Take theirs
          </button>
          <button type="button" className="btn btn-primary btn-sm" disabled={faults.length > 0} onClick={() => void save(theirs.version).catch(setError)}>
            Put mine in its place
          </button>
        </div>
      )}
      <div className="grid items-start gap-4 xl:grid-cols-[1fr_24rem]">
        <div className="flex min-w-0 flex-col gap-4">
          {page && <OriginNote of={page.origin} what="group" />}
          {page?.group.source && !page.origin?.left && (
            <p role="note" className="quiet rounded border border-base-300 px-4 py-2 text-sm">
              This group comes from{' '}
              <Link className="link" to={`/sources/${page.group.source}`}>
                {page.group.source}
              </Link>
              . What you edit here is kept, and no longer follows the source.
            </p>
          )}
          <Sheet title="About">
            <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
              <Field label="Name">
                <input
                  className="input input-sm w-full"
                  value={page ? (doc.title ?? '') : title}
                  onChange={(e) => (page ? alter({ title: e.target.value }) : setTitle(e.target.value))}
                />
              </Field>
              {page ? (
                <Field label="A group of">
                  <span>{devices ? 'laptops' : 'people'}</span>
                </Field>
              ) : (
                <Field label="A group of" hint={title ? `Its id will be ${slug(title)}` : undefined}>
                  <select
                    className="select select-sm w-full"
                    value={doc.of}
                    onChange={(e) => setDoc({ id: '', of: chosen(['devices', 'people'], e.target.value) ?? 'devices' })}
                  >
                    <option value="devices">laptops</option>
                    <option value="people">people</option>
                  </select>
                </Field>
              )}
            </div>
          </Sheet>
          <Sheet title="Rule" aside="everything matching this rule is a member">
            <div className="px-4 py-3">
              <RuleEditor of={doc.of} value={doc.rule ?? ''} onChange={(rule) => alter({ rule })} faults={faults} />
            </div>
          </Sheet>
          <Listed doc={doc} onChange={(members) => alter({ members })} />
          <Nested doc={doc} page={page} onChange={(groups) => alter({ groups })} />
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <Outcome trial={shown} of={devices ? 'laptop' : 'person'} busy={trial.isFetching} />
          {page && (dirty || edit) && (
            <ImpactPanel
              title={change ? 'What the open change does, with this' : 'What comes of it'}
              asked={{
                change: change?.id,
                version: change?.version,
                edits: dirty && faults.length === 0 ? [{ kind: 'groups', id: doc.id, body: clean(doc) }] : [],
              }}
            />
          )}
          {page && <Uses page={page} />}
        </div>
      </div>
    </Page>
  );
}

/** Who the group would have, a moment after the last key. */
function useTrial(doc: GroupDoc, change: { id: string; version: number } | undefined) {
  const body = useMemo(() => clean({ ...doc, id: doc.id || 'new' }), [doc]);
  const settled = useSettled(body);
  return useQuery({
    queryKey: [...keys.estate, 'group-trial', settled, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.POST('/api/v1/groups/try', { params: { query: change ? { change: change.id } : {} }, body: settled })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

function Outcome({ trial, of, busy }: { trial?: GroupTrial; of: 'laptop' | 'person'; busy: boolean }) {
  const many = of === 'laptop' ? 'laptops' : 'people';
  useAnnounced(
    trial
      ? `${number(trial.count)} of ${count(trial.of, of, many)} would be in the group: ${number(trial.join_count)} would join, ${number(trial.leave_count)} would leave.`
      : '',
  );
  if (!trial) return null;
  const to = (id: string) => (of === 'laptop' ? `/devices/${id}` : `/people/${id}`);
  const names = (list: { id: string; title?: string }[], all: number) => (
    <ul className="mt-1 flex flex-col gap-0.5 text-[13px]">
      {list.slice(0, 30).map((m) => (
        <li key={m.id} className="flex gap-2">
          <Link to={to(m.id)} className="id link-hover link">
            {m.id}
          </Link>
          <span className="quiet truncate">{m.title}</span>
        </li>
      ))}
      {all > 30 && <li className="quiet">and {number(all - 30)} more</li>}
    </ul>
  );
  return (
    <Sheet title="Who is in it" aside={busy ? 'working it out' : undefined}>
      <div className="flex flex-col gap-3 px-4 py-3 text-sm">
        <p>
          <strong className="text-2xl tabular-nums">{number(trial.count)}</strong> of {count(trial.of, of, many)}
          {trial.count === trial.of && trial.of > 0 && (
            <strong className="ml-2 rounded bg-warning px-1.5 py-0.5 text-[13px] text-warning-content">everyone</strong>
          )}
        </p>
        <p className="quiet text-[13px]">
          {number(trial.listed)} listed, {number(trial.nested)} through member groups, {number(trial.by_rule)} by the rule alone
        </p>
        {trial.join_count > 0 && (
          <details open={trial.join_count <= 8}>
            <summary className="cursor-pointer font-medium text-success">{number(trial.join_count)} would join</summary>
            {names(trial.joins, trial.join_count)}
          </details>
        )}
        {trial.leave_count > 0 && (
          <details open={trial.leave_count <= 8}>
            <summary className="cursor-pointer font-medium text-warning">{number(trial.leave_count)} would leave</summary>
            {names(trial.leaves, trial.leave_count)}
          </details>
        )}
        {trial.remarks?.map((remark) => (
          <p key={remark} className="text-warning">
            In the rule, {remark}.
          </p>
        ))}
        {trial.failed_count > 0 && (
          <details>
            <summary className="cursor-pointer text-warning">The rule fails on {count(trial.failed_count, of, many)}, which it does not add</summary>
            <ul className="mt-1 flex flex-col gap-0.5 text-[13px]">
              {trial.failures.slice(0, 30).map((f) => (
                <li key={f.id}>
                  <Link to={to(f.id)} className="id link-hover link">
                    {f.id}
                  </Link>{' '}
                  <span className="quiet">{f.error}</span>
                </li>
              ))}
            </ul>
          </details>
        )}
        {trial.count > 0 && (
          <details>
            <summary className="quiet cursor-pointer">Everybody in it</summary>
            {names(trial.members, trial.count)}
          </details>
        )}
      </div>
    </Sheet>
  );
}

function Uses({ page }: { page: GroupPage }) {
  const u = page.use;
  const rows: [string, string[], (id: string) => string][] = [
    ['Gets', u.includes, (id) => `/policies/${id}`],
    ['Is left out of', u.excludes, (id) => `/policies/${id}`],
    ['Exceptions for it', u.exceptions, () => '/exceptions'],
    ['Is a member of', u.groups, (id) => `/groups/${id}`],
  ];
  const used = rows.filter(([, list]) => list.length > 0);
  return (
    <Sheet title="Where it is used">
      {used.length === 0 ? (
        <p className="quiet px-4 py-3 text-sm">Nowhere.</p>
      ) : (
        <dl className="flex flex-col gap-2 px-4 py-3 text-sm">
          {used.map(([word, list, to]) => (
            <div key={word}>
              <dt className="quiet">{word}</dt>
              {list.map((id) => (
                <dd key={id}>
                  <Link to={to(id)} className="id link-hover link">
                    {id}
                  </Link>
                </dd>
              ))}
            </div>
          ))}
        </dl>
      )}
    </Sheet>
  );
}

function Retire({ page }: { page: GroupPage }) {
  const { need } = useOpenChange();
  const [open, setOpen] = useState(false);
  const go = useNavigate();
  const u = page.use;
  const uses = u.includes.length + u.excludes.length + u.groups.length + u.exceptions.length;
  const retire = useWrite(
    async () => {
      const into = await need(`Retire the group ${page.group.title || page.group.id}`, [`groups/${page.group.id}`]);
      await got(api.POST('/api/v1/changes/{id}/retired-groups/{group}', { params: { path: { id: into, group: page.group.id } } }));
      return into;
    },
    { alters: [keys.changes, keys.estate], done: (into) => go(`/changes/${into}`) },
  );
  return (
    <>
      <button type="button" className="btn btn-sm" onClick={() => setOpen(true)}>
        <Trash2 size={14} aria-hidden /> Retire
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title={`Retire ${page.group.title || page.group.id}`}>
        <div className="flex flex-col gap-3 text-sm">
          {uses === 0 ? (
            <p>No policy, exception or group names it. Its {count(page.group.members, 'member')} keep what they have.</p>
          ) : (
            <p>
              It is in use:{' '}
              {[
                u.includes.length && `${count(u.includes.length, 'policy includes', 'policies include')} it`,
                u.excludes.length && `${count(u.excludes.length, 'policy leaves', 'policies leave')} it out`,
                u.groups.length && `${count(u.groups.length, 'group has', 'groups have')} it as a member`,
                u.exceptions.length && `${count(u.exceptions.length, 'exception is', 'exceptions are')} for it`,
              ]
                .filter(Boolean)
                .join(', ')}
              . Retiring takes it out of all of these, as edits of one change. Its page shows what the laptops get instead, before anything is published.
            </p>
          )}
          <Failed error={retire.error} />
          <button type="button" className="btn btn-primary btn-sm self-end" disabled={retire.isPending} onClick={() => retire.mutate()}>
            See what that does
          </button>
        </div>
      </Dialog>
    </>
  );
}
