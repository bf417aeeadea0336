// The editor of a rule: facts and their values are completed while it is typed, with how many have them.
import { useId, useRef, useState } from 'react';
import { flushSync } from 'react-dom';
import type { Fault, FieldValues, Value } from '../../api/client';
import { useFields } from '../../api/queries';
import { useAnnounced } from '../../ui/announce';
import { count, valueText } from '../../ui/words';

interface Offer {
  insert: string;
  from: number; // where what is typed already begins
  word: string;
  note: string;
}

const subject = { devices: 'device', people: 'person' } as const;

/** The name that expressions have for a field; empty where they have none. */
const named = (field: string) => field.replace(/^(facts|attributes)\//, '');
const hidden = ['owner', 'owner_name', 'users', 'groups', 'devices'];

const literal = (f: FieldValues, v: Value) => (f.kind === 'text' || f.kind === 'list' ? JSON.stringify(valueText(v)) : valueText(v));

/** What may come next at the cursor: names of facts after "device.", and values after a comparison with one. */
function offers(text: string, of: 'devices' | 'people', fields: FieldValues[]): Offer[] {
  const usable = fields.filter((f) => !hidden.includes(f.name));
  const name = /\b(device|person)\.(\w*)$/.exec(text);
  if (name && name[1] === subject[of])
    return usable
      .filter((f) => named(f.name).startsWith(name[2]!))
      .map((f) => ({ insert: named(f.name), from: text.length - name[2]!.length, word: named(f.name), note: `${f.kind}, known of ${f.known}` }));
  const value = /\b(?:device|person)\.(\w+)\s*(==|!=|>=|<=|>|<|\.atLeast\(|\.below\(|\.startsWith\()\s*("?[^"&|()]*)$/.exec(text);
  if (value) {
    const f = usable.find((u) => named(u.name) === value[1]);
    const typed = value[3]!.replace(/^"/, '').toLowerCase();
    const close = value[2]!.startsWith('.') ? ')' : '';
    return (f?.most ?? [])
      .filter((m) => valueText(m.value).toLowerCase().startsWith(typed))
      .map((m) => ({
        insert: literal(f!, m.value) + close,
        from: text.length - value[3]!.length,
        word: valueText(m.value),
        note: `${m.count} have it`,
      }));
  }
  const within = /("[^"]*)$/.exec(text);
  if (!within && /(^|[(&|!]\s*)$/.test(text)) return [{ insert: `${subject[of]}.`, from: text.length, word: `${subject[of]}.`, note: 'its facts' }];
  return [];
}

export function RuleEditor({
  of,
  value,
  onChange,
  faults: all,
}: {
  of: 'devices' | 'people';
  value: string;
  onChange: (rule: string) => void;
  faults: Fault[];
}) {
  const fields = useFields(of).data ?? [];
  const area = useRef<HTMLTextAreaElement>(null);
  const [at, setAt] = useState<number | null>(null);
  const [chosen, setChosen] = useState(0);
  const list = useId();
  const told = useId();
  // What is typed already need not be offered.
  const open =
    at === null
      ? []
      : offers(value.slice(0, at), of, fields)
          .filter((o) => value.slice(o.from, at) !== o.insert)
          .slice(0, 12);
  const take = (o: Offer) => {
    const next = value.slice(0, o.from) + o.insert + value.slice(at!);
    const cursor = o.from + o.insert.length;
    flushSync(() => {
      // at once: who types fast has the next letter on its way
      onChange(next);
      setChosen(0);
      setAt(o.insert.endsWith('.') ? cursor : null);
    });
    area.current?.focus();
    area.current?.setSelectionRange(cursor, cursor);
  };
  const faults = all.filter((f) => f.path?.endsWith('/rule'));
  useAnnounced(
    faults.length > 0 ? `Rule: ${faults.map((f) => f.found).join(' ')}` : open.length > 0 ? `${count(open.length, 'completion')}: ${open[0]!.word} first` : '',
  );
  return (
    <div className="flex flex-col gap-2 text-sm">
      <textarea
        ref={area}
        role="combobox"
        aria-label="Rule"
        aria-invalid={faults.length > 0 ? true : undefined}
        aria-describedby={told}
        aria-expanded={open.length > 0}
        aria-controls={list}
        aria-autocomplete="list"
        aria-activedescendant={open.length > 0 ? `${list}-${chosen}` : undefined}
        spellCheck={false}
        rows={3}
        className="textarea textarea-sm w-full font-mono text-[13px]"
        placeholder={of === 'devices' ? 'device.os == "linux" && device.os_version.atLeast("12")' : 'person.department == "Hydrography"'}
        value={value}
        onChange={(e) => {
          onChange(e.target.value);
          setAt(e.target.selectionStart);
          setChosen(0);
        }}
        onClick={(e) => setAt(e.currentTarget.selectionStart)}
        onBlur={() => setAt(null)}
        onKeyDown={(e) => {
          if (open.length === 0) return;
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault();
            setChosen((c) => (c + (e.key === 'ArrowDown' ? 1 : open.length - 1)) % open.length);
          } else if (e.key === 'Enter' || e.key === 'Tab') {
            e.preventDefault();
            take(open[chosen]!);
          } else if (e.key === 'Escape') setAt(null);
        }}
      />
      {open.length > 0 && (
        <ul id={list} role="listbox" aria-label="What may come next" className="max-h-56 overflow-auto rounded border border-base-300 bg-base-100">
          {open.map((o, i) => (
            <li
              key={o.word}
              id={`${list}-${i}`}
              role="option"
              aria-selected={i === chosen}
              className={`flex cursor-pointer justify-between gap-3 px-3 py-1 ${i === chosen ? 'bg-primary/12' : 'hover:bg-base-200'}`}
              onMouseDown={(e) => {
                e.preventDefault();
                take(o);
              }}
            >
              <span className="id">{o.word}</span>
              <span className="quiet text-[13px]">{o.note}</span>
            </li>
          ))}
        </ul>
      )}
      <div id={told} className="text-[13px]">
        {faults.map((f) => (
          <p key={f.found} className="text-error">
            {f.found}
          </p>
        ))}
      </div>
      <p className="quiet text-[13px]">
        {value.trim()
          ? 'CEL: == != >= in && || !, .startsWith("…"), .atLeast("12") and .below("13") for releases, has(…) for what may be missing.'
          : `Empty: nobody by rule. ${count(fields.length, 'fact')} to choose from.`}
      </p>
    </div>
  );
}
