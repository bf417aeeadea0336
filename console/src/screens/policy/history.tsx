// The versions of a policy: who, why, what each altered; two side by side; an earlier one as a new draft.
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import type { Difference, PolicyVersion } from '../../api/client';
import { useDifferences, useHistory, useLivePolicy, useMay } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Empty, Failed, Loading, Page, Sheet } from '../../ui/parts';
import { count, Time } from '../../ui/words';

export function HistoryScreen() {
  const { id = '' } = useParams();
  const history = useHistory(id);
  const live = useLivePolicy(id, true);
  const [params, setParams] = useSearchParams();
  const versions = history.data ?? [];
  const newest = versions[0]?.version ?? 0;
  // A moment in the address chooses the version that was live then.
  const at = params.get('at');
  const then = (at && versions.find((v) => Date.parse(v.at) <= Date.parse(at))?.version) || newest;
  const to = Number(params.get('to') ?? then);
  const from = Number(params.get('from') ?? Math.max(1, to - 1));
  const set = (part: Record<string, number>) =>
    setParams({ from: String(from), to: String(to), ...Object.fromEntries(Object.entries(part).map(([k, v]) => [k, String(v)])) }, { replace: true });
  return (
    <Page
      title={`History of ${live.data?.body?.title || id}`}
      lead={history.data ? count(versions.length, 'published version') : ' '}
      actions={
        <Link className="btn btn-sm" to={`/policies/${id}`}>
          To the policy
        </Link>
      }
    >
      <Failed error={history.error} />
      {history.isPending && <Loading />}
      {versions.length > 1 && (
        <Sheet
          title="Side by side"
          aside={
            <span className="flex items-center gap-2">
              <VersionSelect label="Earlier" value={from} versions={versions} onChange={(v) => set({ from: v })} />
              with
              <VersionSelect label="Later" value={to} versions={versions} onChange={(v) => set({ to: v })} />
            </span>
          }
        >
          <SideBySide id={id} from={from} to={to} />
        </Sheet>
      )}
      {history.data && (
        <Sheet title="Versions">
          <ol className="divide-y divide-base-300/60">
            {versions.map((v) => (
              <Version key={v.version} id={id} of={v} current={v.version === newest} />
            ))}
          </ol>
        </Sheet>
      )}
    </Page>
  );
}

function VersionSelect({ label, value, versions, onChange }: { label: string; value: number; versions: PolicyVersion[]; onChange: (v: number) => void }) {
  return (
    <select aria-label={label} className="select select-xs w-32" value={value} onChange={(e) => onChange(Number(e.target.value))}>
      {versions.map((v) => (
        <option key={v.version} value={v.version}>
          version {v.version}
        </option>
      ))}
    </select>
  );
}

function SideBySide({ id, from, to }: { id: string; from: number; to: number }) {
  const found = useDifferences(id, from, to);
  if (from === to) return <Empty>Choose two versions that are not the same.</Empty>;
  if (found.error) return <Failed error={found.error} />;
  if (!found.data) return <Loading rows={3} />;
  if (found.data.length === 0) return <Empty>These versions say the same.</Empty>;
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm [&_td]:align-top">
        <caption className="sr-only">Versions of the policy</caption>
        <thead>
          <tr>
            <th scope="col">What</th>
            <th scope="col">Version {from}</th>
            <th scope="col">Version {to}</th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((d) => (
            <tr key={d.part}>
              <th scope="row">
                {d.title ?? partWord(d.part)} {d.setting && <span className="id quiet block">{d.setting}</span>}
              </th>
              <td className={`id ${d.from ? '' : 'quiet'}`}>{d.from || 'nothing'}</td>
              <td className={`id ${d.to ? '' : 'quiet'}`}>{d.to || 'nothing'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const words: Record<string, string> = { include: 'who gets it', exclude: 'who is left out', when: 'only when', title: 'name', why: 'reason' };
const partWord = (part: string) => words[part] ?? part;

function Version({ id, of: v, current }: { id: string; of: PolicyVersion; current: boolean }) {
  const open = useOpenChange();
  const go = useNavigate();
  const reader = !useMay('write');
  const [error, setError] = useState<unknown>();
  const restore = async () => {
    if (!v.body) return;
    const there = open.change?.edits?.find((e) => e.kind === 'policies' && e.id === id);
    try {
      await open.put('policies', v.body, there?.version, `Restore version ${v.version} of ${id}`);
      go(`/policies/${id}`);
    } catch (e) {
      setError(e);
    }
  };
  return (
    <li className="px-4 py-3 text-sm">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <span>
          <strong className="font-medium">Version {v.version}</strong>
          {current && <span className="quiet"> (live)</span>} by {v.by}, <Time at={v.at} />, in{' '}
          <Link className="link" to={`/changes/${v.change}`}>
            {v.title || v.change}
          </Link>
        </span>
        {!current && !reader && v.body ? (
          <button type="button" className="btn btn-sm" onClick={() => void restore()}>
            Restore as a draft
          </button>
        ) : null}
      </div>
      {v.why && <p className="quiet">{v.why}</p>}
      <Failed error={error} />
      <ul className="mt-1 flex flex-col gap-0.5 text-[13px]">
        {v.before.map((d: Difference) => (
          <li key={d.part}>
            {d.title ?? partWord(d.part)}: <span className="id quiet line-through">{d.from || 'nothing'}</span> <span aria-label="became">→</span>{' '}
            <span className="id">{d.to || 'nothing'}</span>
          </li>
        ))}
      </ul>
    </li>
  );
}
