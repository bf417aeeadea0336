// Who gets a policy, and what else is to be said about it.
import { Plus, X } from 'lucide-react';
import { useEffect, useState } from 'react';
import { api, got, type Fault, type PolicyDoc } from '../../api/client';
import { useGroups, usePolicies, useUnits } from '../../api/queries';
import { lines } from '../../ui/shape';
import { Field, Sheet } from '../../ui/parts';
import { count } from '../../ui/words';
import type { Alter } from './entry';

export function AudienceSheet({
  doc,
  alter,
  faults,
  locked,
}: {
  doc: PolicyDoc;
  alter: Alter;
  faults: Fault[];
  locked: boolean;
}) {
  const set = (part: Partial<PolicyDoc['audience']>) => alter((d) => ({ ...d, audience: { ...d.audience, ...part } }));
  const whenFaults = faults.filter((f) => f.path?.endsWith('/audience/when'));
  return (
    <Sheet title="Audience" aside="nobody, unless you say who">
      <div className="flex flex-col gap-4 px-4 py-3">
        <Targets label="Gets it" list={doc.audience.include ?? []} locked={locked} onChange={(include) => set({ include })} />
        <Targets label="Left out" list={doc.audience.exclude ?? []} locked={locked} onChange={(exclude) => set({ exclude })} />
        <Field label="Only when" hint="A CEL condition over device and person; empty: always">
          <input
            className="input input-sm w-full font-mono text-[13px]"
            disabled={locked}
            placeholder='device.os == "linux" && device.os_version.atLeast("12")'
            value={doc.audience.when ?? ''}
            onChange={(e) => set({ when: e.target.value || undefined })}
          />
        </Field>
        {whenFaults.map((f, i) => (
          <p key={i} role="alert" className="text-[13px] text-error">
            {f.found}
          </p>
        ))}
      </div>
    </Sheet>
  );
}

function Targets({ label, list, locked, onChange }: { label: string; list: string[]; locked: boolean; onChange: (list: string[]) => void }) {
  const [text, setText] = useState('');
  const units = useUnits().data ?? [];
  const groups = useGroups().data ?? [];
  const listID = `targets-${label.replaceAll(' ', '-')}`;
  const [unknown, setUnknown] = useState<string[]>([]);
  const add = (target: string) => {
    const t = target.trim();
    if (t.startsWith('serial:')) return void addSerials([t.slice('serial:'.length)]);
    if (t && !list.includes(t)) onChange([...list, t]);
    setText('');
  };
  /** Turns serial numbers into the laptops that have them; those that no laptop has are listed. */
  const addSerials = async (serials: string[]) => {
    const targets: string[] = [];
    const missing: string[] = [];
    for (const serial of serials) {
      const found = await got(api.GET('/api/v1/devices', { params: { query: { q: serial, limit: 20 } } }));
      const device = found.items.find((d) => d.serial?.toLowerCase() === serial.toLowerCase() || d.id.toLowerCase() === serial.toLowerCase());
      if (device) targets.push(`device:${device.id}`);
      else missing.push(serial);
    }
    onChange([...new Set([...list, ...targets])]);
    setUnknown(missing);
    setText('');
  };
  const known = ['everyone', ...units.map((u) => `unit:${u.id}`), ...groups.map((g) => `group:${g.id}`)];
  return (
    <div className="flex flex-col gap-1.5 text-sm">
      <span className="font-medium">{label}</span>
      <div className="flex flex-wrap items-center gap-1.5">
        {list.map((t) => (
          <span
            key={t}
            className={`inline-flex items-center gap-1 rounded border px-2 py-0.5 ${t === 'everyone' ? 'border-warning text-warning' : 'border-base-300'}`}
          >
            <span className="id">{t}</span>
            <button
              type="button"
              className="cursor-pointer"
              disabled={locked}
              aria-label={`Take ${t} out`}
              onClick={() => onChange(list.filter((o) => o !== t))}
            >
              <X size={12} aria-hidden />
            </button>
          </span>
        ))}
        {list.length === 0 && <span className="quiet">nobody</span>}
        {!locked && (
          <form
            className="join"
            onSubmit={(e) => {
              e.preventDefault();
              add(text);
            }}
          >
            <input
              list={listID}
              aria-label={`${label}: add a unit, group, device or person`}
              placeholder="unit:, group:, device:, person:, serial:"
              className="input input-sm join-item w-80 font-mono text-[13px]"
              value={text}
              onPaste={(e) => {
                const pasted = lines(e.clipboardData.getData('text').replaceAll(/[,;\t]/g, '\n'));
                if (pasted.length < 2) return;
                e.preventDefault();
                void addSerials(pasted);
              }}
              onChange={(e) => {
                setText(e.target.value);
                if (known.includes(e.target.value) && !(e.nativeEvent as InputEvent).inputType?.startsWith('insertText')) add(e.target.value);
              }}
            />
            <datalist id={listID}>
              {known.map((k) => (
                <option key={k} value={k} />
              ))}
            </datalist>
            <button type="submit" className="btn btn-sm join-item" aria-label={`Add to ${label}`}>
              <Plus size={14} aria-hidden />
            </button>
          </form>
        )}
      </div>
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

export function About({ doc, alter, locked }: { doc: PolicyDoc; alter: Alter; locked: boolean }) {
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
            onChange={(e) => alter((d) => ({ ...d, state: e.target.value === 'active' ? undefined : (e.target.value as PolicyDoc['state']) }))}
          >
            <option value="active">active</option>
            <option value="draft">draft</option>
            <option value="retired">retired</option>
          </select>
        </Field>
        <fieldset className="text-sm">
          <legend className="mb-1 font-medium">Platforms</legend>
          <div className="flex gap-4">
            {['linux', 'windows', 'macos'].map((os) => (
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
}
