// Approval rules: which changes need whose approval, and which recent ones they would have asked for.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Check, Plus } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, Refusal, type ApprovalRuleDoc } from '../api/client';
import { keys, queries, useGroups } from '../api/queries';
import { useApprovalRules } from '../api/rollouts';
import { useOpenChange } from '../ui/change';
import { Dialog, Empty, Failed, Field, Heads, Id, Loading, Page, Sheet } from '../ui/parts';
import { useSettled } from '../ui/typed';
import { count, number, slug, Status } from '../ui/words';

export function ApprovalRulesScreen() {
  const list = useApprovalRules();
  const { change } = useOpenChange();
  const [editing, setEditing] = useState<ApprovalRuleDoc>();
  const drafts = (change?.edits ?? []).filter((e) => e.kind === 'approval_rules');
  return (
    <Page
      title="Approval rules"
      lead={
        <>
          Every rule that is true of a change must be met before it is published.{' '}
          <Link className="link" to="/changes">
            Changes
          </Link>
        </>
      }
      actions={
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setEditing({ id: '', when: 'change.laptops > 10', approvals: 1 })}>
          <Plus size={15} aria-hidden /> New rule
        </button>
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data?.length === 0 && (
        <div className="sheet">
          <Empty
            action={
              <button type="button" className="btn btn-sm" onClick={() => setEditing({ id: '', when: 'change.share > 1.0', approvals: 1 })}>
                Write the first rule
              </button>
            }
          >
            There is no rule yet: whoever may publish does so alone. A rule such as ‘more than 1 % of the laptops’ asks for a second person.
          </Empty>
        </div>
      )}
      {!!list.data?.length && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Approval rules</caption>
            <Heads of={['Rule', 'When', 'Approvals']} actions />
            <tbody>
              {list.data.map((r) => (
                <tr key={r.id}>
                  <th scope="row" className="align-top">
                    <span className="font-medium">{r.title || r.id}</span>
                    <div className="quiet">
                      <Id>{r.id}</Id>
                    </div>
                    {r.reason && <div className="quiet text-[13px]">{r.reason}</div>}
                  </th>
                  <td className="align-top">
                    <code className="id">{r.when}</code>
                  </td>
                  <td className="align-top whitespace-nowrap">
                    {r.approvals}
                    {r.from && <span className="quiet"> from {r.from}</span>}
                  </td>
                  <td className="text-right align-top">
                    <button type="button" className="btn btn-ghost btn-xs" aria-label={`Edit ${r.title || r.id} …`} onClick={() => setEditing(r)}>
                      Edit …
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {drafts.length > 0 && <p className="quiet text-sm">The open change has {count(drafts.length, 'edit')} of rules. They count once it is published.</p>}
      <Dialog open={!!editing} onClose={() => setEditing(undefined)} title={editing?.id ? `The rule ${editing.title || editing.id}` : 'New approval rule'} wide>
        {editing && <RuleForm start={editing} onDone={() => setEditing(undefined)} />}
      </Dialog>
    </Page>
  );
}

const names = ['laptops', 'share', 'edits', 'weaker', 'conflicts_gained', 'problems_gained', 'irreversible', 'restarts', 'prompts', 'lockouts'];
const lists = ['kinds', 'areas', 'settings', 'policies', 'units', 'groups'];

function RuleForm({ start, onDone }: { start: ApprovalRuleDoc; onDone: () => void }) {
  const { change, put, retire } = useOpenChange();
  const groups = (useGroups().data ?? []).filter((g) => g.of === 'people');
  const roles = useQuery({ queryKey: ['roles'], queryFn: () => got(api.GET('/api/v1/roles')), retry: false }).data ?? [];
  const [rule, setRule] = useState(start);
  const [error, setError] = useState<unknown>();
  const alter = (part: Partial<ApprovalRuleDoc>) => setRule((r) => ({ ...r, ...part }));
  const id = start.id || slug(rule.title ?? '');
  const asked = useSettled({ ...rule, id: id || 'new' });
  const tried = useQuery({
    queryKey: [...keys.changes, 'rule-trial', asked],
    queryFn: ({ signal }) => got(api.POST('/api/v1/approval-rules/try', { body: asked, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const faults = tried.error instanceof Refusal ? (tried.error.problem.faults ?? []) : [];
  const of = (path: string) => faults.filter((f) => f.path === path).map((f) => f.found ?? f.expected ?? f.code);
  const version = change?.edits?.find((e) => e.kind === 'approval_rules' && e.id === id)?.version;
  const kept = async (write: Promise<unknown>) => {
    await write;
    await queries.invalidateQueries({ queryKey: keys.estate });
    onDone();
  };
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        void kept(put('approval_rules', { ...rule, id }, version, `Approval rule ${rule.title || id}`)).catch(setError);
      }}
    >
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Title">
          <input className="input input-sm w-full" required value={rule.title ?? ''} onChange={(e) => alter({ title: e.target.value })} />
        </Field>
        <Field label="Why it asks">
          <input className="input input-sm w-full" value={rule.reason ?? ''} onChange={(e) => alter({ reason: e.target.value || undefined })} />
        </Field>
      </div>
      <Field label="When" hint={`Over change: ${names.join(', ')}; lists: ${lists.join(', ')}`} faults={of('/when')}>
        <textarea
          className="textarea textarea-sm w-full font-mono"
          rows={2}
          spellCheck={false}
          value={rule.when}
          onChange={(e) => alter({ when: e.target.value })}
        />
      </Field>
      <div className="flex flex-wrap gap-4">
        <Field label="Approvals" faults={of('/approvals')}>
          <input
            type="number"
            min={1}
            max={10}
            className="input input-sm w-24 tabular-nums"
            value={rule.approvals}
            onChange={(e) => alter({ approvals: Number(e.target.value) })}
          />
        </Field>
        <Field label="From" faults={of('/from')}>
          <select className="select select-sm w-64" value={rule.from ?? ''} onChange={(e) => alter({ from: e.target.value || undefined })}>
            <option value="">anybody who may approve</option>
            {roles.map((r) => (
              <option key={r.id} value={r.id}>
                the role {r.title || r.id}
              </option>
            ))}
            {groups.map((g) => (
              <option key={g.id} value={`group:${g.id}`}>
                the group {g.title || g.id}
              </option>
            ))}
          </select>
        </Field>
      </div>
      <Sheet
        title="Recent changes that it asks for"
        aside={tried.data && faults.length === 0 ? `${number(tried.data.filter((t) => t.asks).length)} of ${tried.data.length}` : undefined}
      >
        {faults.length > 0 ? (
          <p className="quiet px-4 py-3 text-sm">Nothing to say while there are faults.</p>
        ) : (
          <ul className="max-h-64 overflow-auto py-1 text-sm" tabIndex={0} aria-label="Recent changes">
            {tried.data?.map((t) => (
              <li key={t.change} className={`flex items-baseline gap-2 px-4 py-1 ${t.asks ? '' : 'quiet'}`}>
                <span className="w-5 shrink-0">{t.asks && <Check size={15} className="inline text-success" aria-label="asks" />}</span>
                <span className="min-w-0 flex-1 truncate">{t.title}</span>
                <span className="quiet text-[13px]">{count(t.facts?.laptops ?? 0, 'laptop')}</span>
                <Status of={t.state} />
              </li>
            ))}
          </ul>
        )}
      </Sheet>
      <Failed error={error} />
      <div className="flex justify-end gap-2">
        {start.id && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void kept(retire('approval_rules', start.id, `Without the approval rule ${rule.title || id}`)).catch(setError)}
          >
            Take the rule away
          </button>
        )}
        <button type="submit" className="btn btn-primary btn-sm" disabled={!id || faults.length > 0}>
          Put into the change
        </button>
      </div>
    </form>
  );
}
