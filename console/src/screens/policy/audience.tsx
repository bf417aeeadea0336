// Who gets a policy, and what else is to be said about it.
import { X } from 'lucide-react';
import { memo, useEffect, useState } from 'react';
import { api, got, type Fault, type Group, type PolicyDoc, type Unit, chosen, type Platform } from '../../api/client';
import { useGroups, usePolicies, useUnits } from '../../api/queries';
import { lines } from '../../ui/shape';
import { Field, Fold, Sheet } from '../../ui/parts';
import { TargetField, TargetName } from '../../ui/target';
import { count, number } from '../../ui/words';
import type { Alter } from './entry';
import { ReachDetails } from './reach';

const states = ['active', 'draft', 'retired'] as const;
const platforms: Platform[] = ['linux', 'windows', 'macos'];

export const AudienceSheet = memo(function AudienceSheet({ doc, alter, faults, locked }: { doc: PolicyDoc; alter: Alter; faults: Fault[]; locked: boolean }) {
  const set = (part: Partial<PolicyDoc['audience']>) => alter((d) => ({ ...d, audience: { ...d.audience, ...part } }));
  const targets = (side: 'include' | 'exclude') => (to: ToList) => alter((d) => ({ ...d, audience: { ...d.audience, [side]: to(d.audience[side] ?? []) } }));
  const units = useUnits().data ?? noUnits;
  const whenFaults = faults.filter((f) => f.path?.endsWith('/audience/when'));
  return (
    <Sheet title="Audience" aside="nobody, unless you say who">
      <div className="flex flex-col gap-4 px-4 py-3">
        <div className="grid gap-4 lg:grid-cols-2">
          <Targets label="Gets it" list={doc.audience.include ?? []} locked={locked} onChange={targets('include')} />
          <Targets label="Left out" list={doc.audience.exclude ?? []} locked={locked} onChange={targets('exclude')} />
        </div>
        <Field label="Only when" hint="A CEL condition over device and person; empty: always" faults={whenFaults.map((f) => f.found ?? f.code)}>
          <input
            className="input input-sm w-full font-mono text-[13px]"
            disabled={locked}
            placeholder='device.os == "linux" && device.os_version.atLeast("12")'
            value={doc.audience.when ?? ''}
            onChange={(e) => set({ when: e.target.value || undefined })}
          />
        </Field>
        <Field label="Within" hint="A unit that bounds the policy: it never reaches a laptop outside it, not through a group either">
          <select
            className="select select-sm w-72"
            disabled={locked}
            value={doc.within ?? ''}
            onChange={(e) => alter((d) => ({ ...d, within: e.target.value || undefined }))}
          >
            <option value="">No bound</option>
            {units.map((u) => (
              <option key={u.id} value={u.id}>
                {`${'\u2003'.repeat(u.depth)}${u.title || u.id}`}
              </option>
            ))}
          </select>
        </Field>
        <ReachDetails doc={doc} locked={locked} setInclude={(include) => set({ include })} />
      </div>
    </Sheet>
  );
});

/** What becomes of a list of targets as it is then. */
type ToList = (list: string[]) => string[];

const noUnits: Unit[] = [];
const noGroups: Group[] = [];

function Targets({ label, list, locked, onChange }: { label: string; list: string[]; locked: boolean; onChange: (to: ToList) => void }) {
  const units = useUnits().data ?? noUnits;
  const groups = useGroups().data ?? noGroups;
  const [unknown, setUnknown] = useState<string[]>([]);
  /** Turns serial numbers into the laptops that have them; those that no laptop has are listed. */
  const addSerials = async (words: string[]) => {
    const found = await got(api.POST('/api/v1/audience/paste', { params: { query: {} }, body: { words } }));
    onChange((now) => [...new Set([...now, ...found.devices.map((id) => `device:${id}`)])]);
    setUnknown(found.unknown);
  };
  return (
    <div className="flex min-w-0 flex-col gap-1.5 text-sm">
      <span className="font-medium">{label}</span>
      <div className="flex flex-wrap items-center gap-1.5">
        {list.map((t) => (
          <span
            key={t}
            className={`inline-flex items-center gap-1 rounded border py-0.5 pl-2 ${t === 'everyone' ? 'border-warning text-warning' : 'border-base-300'}`}
          >
            <span>
              <TargetName target={t} />
            </span>
            <button
              type="button"
              className="btn btn-ghost btn-xs btn-square"
              disabled={locked}
              aria-label={`Remove ${t} from ${label}`}
              onClick={() => onChange((now) => now.filter((o) => o !== t))}
            >
              <X size={12} aria-hidden />
            </button>
          </span>
        ))}
        {list.length === 0 && <span className="quiet">nobody</span>}
      </div>
      {!locked && (
        <div className="flex flex-wrap items-start gap-1.5">
          <TargetField
            label={`${label}: add a unit, group, device or person`}
            whole={label === 'Gets it'}
            onTake={(t) => onChange((now) => (now.includes(t) ? now : [...now, t]))}
            onPaste={(text) => {
              const pasted = lines(text.replaceAll(/[,;\t]/g, '\n'));
              if (pasted.length < 2) return false;
              void addSerials(pasted);
              return true;
            }}
          />
          <Tree label={label} list={list} units={units} groups={groups} onChange={onChange} />
        </div>
      )}
      {unknown.length > 0 && (
        <p role="alert" className="text-[13px] text-error">
          No laptop has the serial number {unknown.join(', ')}.
        </p>
      )}
      {list.includes('everyone') && label === 'Gets it' && (
        <p className="text-[13px] font-medium text-warning">This is for everyone: every laptop of the company, those that come later too.</p>
      )}
    </div>
  );
}

/** Units as a tree and groups, each with a box and how many laptops or people it has. */
function Tree({ label, list, units, groups, onChange }: { label: string; list: string[]; units: Unit[]; groups: Group[]; onChange: (to: ToList) => void }) {
  const row = (target: string, word: string, n: number, depth = 0) => (
    <label key={target} className="flex items-center gap-2 py-0.5" style={{ paddingLeft: `${depth}rem` }}>
      <input
        type="checkbox"
        className="checkbox checkbox-sm"
        checked={list.includes(target)}
        onChange={(e) => onChange((now) => (e.target.checked ? [...now, target] : now.filter((t) => t !== target)))}
      />
      <span className="min-w-0 flex-1 truncate">{word}</span>
      <span className="quiet tabular-nums">{number(n)}</span>
    </label>
  );
  return (
    <Fold className="dropdown" summary="Choose" summaryClass="btn btn-sm">
      <div
        className="dropdown-content z-30 max-h-96 w-80 overflow-auto rounded border border-base-300 bg-base-100 p-3 text-sm shadow-lg"
        role="group"
        aria-label={`${label}: units and groups`}
      >
        <p className="quiet text-[13px]">Units, with their laptops</p>
        {units.map((u) => row(`unit:${u.id}`, u.title || u.id, u.devices, u.depth))}
        <p className="quiet mt-2 text-[13px]">Groups of laptops</p>
        {groups.filter((g) => g.of === 'devices').map((g) => row(`group:${g.id}`, g.title || g.id, g.members))}
        <p className="quiet mt-2 text-[13px]">Groups of people</p>
        {groups.filter((g) => g.of === 'people').map((g) => row(`group:${g.id}`, g.title || g.id, g.members))}
      </div>
    </Fold>
  );
}

export const About = memo(function About({ doc, alter, locked }: { doc: PolicyDoc; alter: Alter; locked: boolean }) {
  const [priority, setPriority] = useState(String(doc.priority ?? 0));
  useEffect(() => setPriority(String(doc.priority ?? 0)), [doc.priority]);
  const others = usePolicies().data?.items ?? [];
  return (
    <Sheet title="About">
      <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
        <Field label="Name">
          <input
            className="input input-sm w-full"
            disabled={locked}
            value={doc.title ?? ''}
            onChange={(e) => alter((d) => ({ ...d, title: e.target.value || undefined }))}
          />
        </Field>
        <Field label="Why">
          <input
            className="input input-sm w-full"
            disabled={locked}
            value={doc.why ?? ''}
            onChange={(e) => alter((d) => ({ ...d, why: e.target.value || undefined }))}
          />
        </Field>
        <Field
          label="Priority"
          hint={`Higher wins on the same level; ${count(others.filter((o) => o.priority === (doc.priority ?? 0) && o.id !== doc.id).length, 'other policy has', 'other policies have')} the same`}
        >
          <input
            inputMode="numeric"
            className="input input-sm w-28"
            disabled={locked}
            value={priority}
            onChange={(e) => {
              setPriority(e.target.value);
              if (/^-?\d+$/.test(e.target.value)) alter((d) => ({ ...d, priority: Number(e.target.value) || undefined }));
            }}
          />
        </Field>
        <Field label="State" hint="A draft reaches nobody">
          <select
            className="select select-sm w-40"
            disabled={locked}
            value={doc.state ?? 'active'}
            onChange={(e) => alter((d) => ({ ...d, state: e.target.value === 'active' ? undefined : chosen(states, e.target.value) }))}
          >
            <option value="active">active</option>
            <option value="draft">draft</option>
            <option value="retired">retired</option>
          </select>
        </Field>
        <label className="flex items-start gap-2 text-sm md:col-span-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm mt-0.5"
            disabled={locked}
            checked={doc.offered ?? false}
            onChange={(e) => alter((d) => ({ ...d, offered: e.target.checked || undefined }))}
          />
          <span>
            <span className="font-medium">Offered, not enforced</span>
            <span className="quiet block text-[13px]">
              It counts only on laptops whose person takes it, and never against a policy that is enforced. Where an enforced policy becomes offered, its
              settings stop applying until people take it.
            </span>
          </span>
        </label>
        <label className="flex items-start gap-2 text-sm md:col-span-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm mt-0.5"
            disabled={locked}
            checked={doc.on_drift === 'report'}
            onChange={(e) => alter((d) => ({ ...d, on_drift: e.target.checked ? 'report' : undefined }))}
          />
          <span>
            <span className="font-medium">Only report drift</span>
            <span className="quiet block text-[13px]">
              A value that somebody alters on a laptop is left as it is and shown. Otherwise the laptop puts it right at once, or at its next check-in.
            </span>
          </span>
        </label>
        <fieldset className="text-sm">
          <legend className="mb-1 font-medium">Platforms</legend>
          <div className="flex gap-4">
            {platforms.map((os) => (
              <label key={os} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  disabled={locked}
                  checked={doc.platforms?.includes(os) ?? false}
                  onChange={(e) =>
                    alter((d) => {
                      const list = (d.platforms ?? []).filter((o) => o !== os);
                      if (e.target.checked) list.push(os);
                      return { ...d, platforms: list.length ? list : undefined };
                    })
                  }
                />
                {os}
              </label>
            ))}
          </div>
          <span className="quiet text-[13px]">None chosen: all of them</span>
        </fieldset>
      </div>
    </Sheet>
  );
});
