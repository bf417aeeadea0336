// A new policy: from nothing, from a kit, as a copy, or from what a laptop has. It reaches nobody at first.
import { useState, type FormEvent } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { api, got, type Entry, type Kit, type PolicyDoc, type Value, chosen, isPolicy } from '../../api/client';
import { useCapture, useDictionary, useKits, useLivePolicy, usePolicies, useMay } from '../../api/queries';
import { ChoiceCards, type Choice } from '../../ui/choicecards';
import { useWrite } from '../../api/writes';
import { useOpenChange } from '../../ui/change';
import { Failed, Field, Heads, Id, Loading, Page } from '../../ui/parts';
import { count, slug, ValueText } from '../../ui/words';

const policyKinds = ['configuration', 'security', 'encryption'] as const;

type Start = 'nothing' | 'kit' | 'copy' | 'laptop';
const starts: Choice<Start>[] = [
  { id: 'nothing', word: 'From nothing', hint: 'Find each setting by what it does' },
  { id: 'kit', word: 'From a kit', hint: 'A common purpose, with values and the reason for each' },
  { id: 'copy', word: 'As a copy', hint: 'Another policy’s settings, for nobody yet' },
  { id: 'laptop', word: 'From a laptop', hint: 'What a laptop that is set up right reports' },
];

/** What a new policy starts with. */
type Begin = Partial<Pick<PolicyDoc, 'kind' | 'why' | 'platforms' | 'labels' | 'priority'>> & { title?: string; settings: Record<string, Entry> };

export function NewPolicyScreen() {
  const [params, setParams] = useSearchParams();
  const start: Start = params.has('like')
    ? 'copy'
    : params.has('kit')
      ? 'kit'
      : params.has('device')
        ? 'laptop'
        : (starts.find((s) => s.id === params.get('from'))?.id ?? 'nothing');
  const [begin, setBegin] = useState<Begin>({ settings: {} });
  return (
    <Page title="New policy" lead="One purpose, a name and a reason. It reaches nobody until you say who gets it, and nothing is live until you publish.">
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_26rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <ChoiceCards
            label="Start"
            choices={starts}
            value={start}
            className="sm:grid-cols-2 lg:grid-cols-4"
            onChange={(s) => {
              setBegin({ settings: {} });
              setParams(s === 'nothing' ? {} : { from: s }, { replace: true });
            }}
          />
          {start === 'kit' && <Kits chosen={params.get('kit') ?? ''} onChoose={(k) => setParams({ kit: k }, { replace: true })} onBegin={setBegin} />}
          {start === 'copy' && <Copy of={params.get('like') ?? ''} onChoose={(p) => setParams({ like: p }, { replace: true })} onBegin={setBegin} />}
          {start === 'laptop' && (
            <Capture device={params.get('device') ?? ''} onChoose={(d) => setParams({ device: d }, { replace: true })} onBegin={setBegin} />
          )}
        </div>
        <Form begin={begin} ready={start === 'nothing' || Object.keys(begin.settings).length > 0} />
      </div>
    </Page>
  );
}

function Form({ begin, ready }: { begin: Begin; ready: boolean }) {
  const { put, change } = useOpenChange();
  const [typed, setTyped] = useState<{ title?: string; kind?: PolicyDoc['kind']; why?: string }>({});
  const [error, setError] = useState<unknown>();
  const go = useNavigate();
  const taken = new Set((usePolicies(change?.id).data?.items ?? []).map((p) => p.id));
  const title = typed.title ?? begin.title ?? '';
  const kind = typed.kind ?? begin.kind ?? 'security';
  const why = typed.why ?? begin.why ?? '';
  const id = slug(title);
  const create = (e: FormEvent) => {
    e.preventDefault();
    const doc: PolicyDoc = { ...begin, id, title, kind, audience: {}, ...(why ? { why } : {}) };
    put('policies', doc, undefined, title)
      .then(() => go(`/policies/${doc.id}`))
      .catch(setError);
  };
  return (
    <form onSubmit={create} className="sheet flex flex-col gap-4 p-5 xl:sticky xl:top-4">
      <Field
        label="Name"
        hint={
          taken.has(id) ? (
            <span className="text-error">
              There is a policy <Id>{id}</Id> already
            </span>
          ) : id ? (
            <>
              Id: <Id>{id}</Id>
            </>
          ) : (
            'What it is for, in a few words'
          )
        }
      >
        <input className="input w-full" required value={title} onChange={(e) => setTyped({ ...typed, title: e.target.value })} />
      </Field>
      <Field label="Kind" hint="Units and groups that are detached do so for one kind of policy">
        <select className="select w-full" value={kind} onChange={(e) => setTyped({ ...typed, kind: chosen(policyKinds, e.target.value) })}>
          <option value="security">security</option>
          <option value="configuration">configuration</option>
          <option value="encryption">encryption</option>
        </select>
      </Field>
      <Field label="Why" hint="Who asked for it, a ticket, a rule that it follows">
        <textarea className="textarea w-full" rows={2} value={why} onChange={(e) => setTyped({ ...typed, why: e.target.value })} />
      </Field>
      <Failed error={error} />
      <div className="flex flex-wrap items-center gap-3">
        <button type="submit" className="btn btn-primary" disabled={!id || taken.has(id) || !ready}>
          Begin{Object.keys(begin.settings).length ? ` with ${count(Object.keys(begin.settings).length, 'setting')}` : ''}
        </button>
        <span className="quiet text-sm">{change ? `It goes into the open change ‘${change.title}’.` : 'A change is opened for it.'}</span>
      </div>
    </form>
  );
}

function Kits({ chosen, onChoose, onBegin }: { chosen: string; onChoose: (id: string) => void; onBegin: (b: Begin) => void }) {
  const kits = useKits();
  const dictionary = new Map((useDictionary().data ?? []).map((d) => [d.id, d]));
  if (!kits.data) return <Loading />;
  const choose = (k: Kit) => {
    onChoose(k.id);
    onBegin({ title: k.title, kind: k.kind, why: k.why, platforms: k.platforms, labels: k.labels, settings: k.settings });
  };
  return (
    <ul className="sheet divide-y divide-base-300/60" aria-label="Kits">
      {kits.data.map((k) => (
        <li key={k.id} className={k.id === chosen ? 'bg-primary/6' : ''}>
          <button type="button" aria-expanded={k.id === chosen} className="w-full cursor-pointer px-4 py-2.5 text-left text-sm" onClick={() => choose(k)}>
            <span className="font-medium">{k.title}</span>{' '}
            <span className="quiet">
              {k.kind}, {count(Object.keys(k.settings).length, 'setting')}
            </span>
            <span className="block text-[13px]">{k.why}</span>
            <span className="quiet block text-[13px]">{k.when}</span>
          </button>
          {k.id === chosen && (
            <div className="overflow-x-auto px-4 pb-3">
              <table className="table table-sm">
                <caption className="sr-only">Settings of the kit</caption>
                <Heads of={['Setting', 'Value', 'Why']} />
                <tbody>
                  {Object.entries(k.settings).map(([id, e]) => (
                    <tr key={id}>
                      <th scope="row">{dictionary.get(id)?.title ?? id}</th>
                      <td>
                        <ValueText of={(e as { value: Value }).value} />
                      </td>
                      <td className="quiet">{(e as { note?: string }).note}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </li>
      ))}
    </ul>
  );
}

function Copy({ of, onChoose, onBegin }: { of: string; onChoose: (id: string) => void; onBegin: (b: Begin) => void }) {
  const { change } = useOpenChange();
  const policies = usePolicies(change?.id).data?.items ?? [];
  const draft = change?.edits?.find((e) => e.kind === 'policies' && e.id === of && e.action !== 'retire')?.body;
  const edited = isPolicy(draft) ? draft : undefined;
  const live = useLivePolicy(of, of !== '' && !edited);
  const doc = edited ?? live.data?.body;
  const [begun, setBegun] = useState('');
  if (doc && begun !== of) {
    setBegun(of);
    const { id: _id, audience: _audience, state: _state, owner: _owner, title, ...rest } = doc;
    onBegin({ ...rest, title: `${title || doc.id} (copy)` });
  }
  return (
    <div className="sheet p-4">
      <Field label="Copy" hint="Its settings, kind, platforms and priority; not its audience">
        <select className="select select-sm w-full max-w-md" value={of} onChange={(e) => onChoose(e.target.value)}>
          <option value="">Choose a policy</option>
          {policies.map((p) => (
            <option key={p.id} value={p.id}>
              {p.title || p.id}
            </option>
          ))}
        </select>
      </Field>
      {doc && <p className="quiet mt-2 text-sm">{count(Object.keys(doc.settings).length, 'setting')} will be copied.</p>}
    </div>
  );
}

/** Asks the laptop for all that it has; what it says appears once it has checked in. */
function AskAll({ device }: { device: string }) {
  const ask = useWrite((id: string) => got(api.POST('/api/v1/devices/{id}/ask', { params: { path: { id } } })));
  if (!useMay('write')) return null;
  return (
    <p className="quiet">
      {ask.isSuccess && ask.variables === device ? (
        <span role="status">Asked: what it has besides appears here after its next check-in.</span>
      ) : (
        <>
          Listed is what it reports of managed settings.{' '}
          <button type="button" className="link cursor-pointer" disabled={ask.isPending} onClick={() => ask.mutate(device)}>
            Ask it for all that it has
          </button>
        </>
      )}
      <Failed error={ask.error} />
    </p>
  );
}

function Capture({ device, onChoose, onBegin }: { device: string; onChoose: (id: string) => void; onBegin: (b: Begin) => void }) {
  const [typed, setTyped] = useState(device);
  const [chosen, setChosen] = useState<string[]>([]);
  const captured = useCapture(device);
  const list = captured.data ?? [];
  const areas = Map.groupBy(list, (c) => c.area || 'other');
  const choose = (ids: string[]) => {
    setChosen(ids);
    const taken = list.filter((c) => ids.includes(c.setting));
    onBegin({
      title: `As on ${device}`,
      kind: taken[0]?.kind,
      why: `Captured from ${device}`,
      settings: Object.fromEntries(taken.map((c) => [c.setting, c.reported])),
    });
  };
  return (
    <div className="sheet flex flex-col gap-3 p-4 text-sm">
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          setChosen([]);
          onChoose(typed.trim());
        }}
      >
        <Field label="Laptop" hint="One that is set up as others should be">
          <input className="input input-sm w-48 font-mono text-[13px]" placeholder="LT-0110" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </Field>
        <button type="submit" className="btn btn-sm mb-6" disabled={!typed.trim()}>
          Show what it has
        </button>
      </form>
      <Failed error={captured.error} />
      {captured.data && <AskAll device={device} />}
      {list.length > 0 && (
        <>
          <p>
            Choose what the policy should set: {count(chosen.length, 'setting')} chosen.{' '}
            <button type="button" className="link cursor-pointer" onClick={() => choose(list.filter((c) => !c.default).map((c) => c.setting))}>
              All that differ from an unmanaged laptop
            </button>
          </p>
          {[...areas].map(([area, items]) => (
            <fieldset key={area}>
              <legend className="quiet text-[13px] font-semibold first-letter:uppercase">{area}</legend>
              {items.map((c) => (
                <label key={c.setting} className="flex items-baseline gap-2 py-0.5">
                  <input
                    type="checkbox"
                    className="checkbox checkbox-sm self-center"
                    checked={chosen.includes(c.setting)}
                    onChange={(e) => choose(e.target.checked ? [...chosen, c.setting] : chosen.filter((s) => s !== c.setting))}
                  />
                  <span className="min-w-0">
                    {c.title} <ValueText of={c.reported} />{' '}
                    <span className="quiet text-[13px]">{c.from.length ? `from ${c.from.join(', ')}` : c.default ? 'as unmanaged' : 'not managed'}</span>
                  </span>
                </label>
              ))}
            </fieldset>
          ))}
        </>
      )}
    </div>
  );
}
