// The set-up of a source: a mapping of columns by preview, a directory with its filters, or what is taken of what a client writes.
import { useState } from 'react';
import { api, got, type SourceSetUp, type TablePreview, chosen } from '../../api/client';
import { bytes } from '../../api/queries';
import { Failed, Field, Sheet } from '../../ui/parts';
import { count } from '../../ui/words';

type Part<T> = { value: T; onChange: (value: T) => void };
export type Kind = 'scim' | 'ldap' | 'csv';

export const enterprise = 'urn:ietf:params:scim:schemas:extension:enterprise:2.0:User';

export const begin: Record<Kind, SourceSetUp> = {
  csv: { table: { of: 'devices', columns: {}, key: 'serial', whole: true } },
  ldap: {
    ldap: {
      address: 'ldaps://',
      base: '',
      people: { filter: '(objectClass=inetOrgPerson)', attributes: { title: 'title', department: 'departmentNumber' } },
      units: { filter: '(objectClass=organizationalUnit)' },
      groups: { filter: '(objectClass=groupOfNames)', members: 'member' },
    },
    read_every_minutes: 15,
    compare_at_hour: 2,
  },
  scim: { scim: { unit: `${enterprise}:organization`, attributes: { title: 'title', department: `${enterprise}:department` } } },
};

/** The form for one kind of source, and what becomes of what has left. */
export function SetUpForm({ kind, value, onChange }: { kind: Kind } & Part<SourceSetUp>) {
  return (
    <div className="flex flex-col gap-4">
      {kind === 'csv' && value.table && <TableForm value={value.table} onChange={(table) => onChange({ ...value, table })} />}
      {kind === 'ldap' && value.ldap && <DirectoryForm value={value.ldap} onChange={(ldap) => onChange({ ...value, ldap })} />}
      {kind === 'scim' && value.scim && <ClientForm value={value.scim} onChange={(scim) => onChange({ ...value, scim })} />}
      <Sheet title="In time">
        <div className="grid gap-4 px-4 py-3 md:grid-cols-4">
          {kind === 'ldap' && (
            <>
              <Whole
                label="Read every so many minutes"
                hint="What altered since; 0: only when asked"
                value={value.read_every_minutes}
                onChange={(n) => onChange({ ...value, read_every_minutes: n })}
              />
              <Whole
                label="Compare everything at"
                hint="The hour of the day, in UTC"
                value={value.compare_at_hour}
                onChange={(n) => onChange({ ...value, compare_at_hour: n })}
              />
            </>
          )}
          <Whole
            label="Remove after so many days"
            hint="What has left and nothing names; 0: only by a person"
            value={value.remove_after_days}
            onChange={(n) => onChange({ ...value, remove_after_days: n })}
          />
          <Whole
            label="Ask when more leaves than"
            hint="Percent of all at once; 20 when empty"
            value={value.most_left_percent}
            onChange={(n) => onChange({ ...value, most_left_percent: n })}
          />
          <Whole
            label="Ask when a policy loses more than"
            hint="Percent of its laptops, of an exclusion too; 50 when empty. One that loses all always waits"
            value={value.most_lost_percent}
            onChange={(n) => onChange({ ...value, most_lost_percent: n })}
          />
        </div>
      </Sheet>
    </div>
  );
}

function Whole({ label, hint, value, onChange }: { label: string; hint: string; value?: number; onChange: (n: number | undefined) => void }) {
  return (
    <Field label={label} hint={hint}>
      <input
        inputMode="numeric"
        className="input input-sm w-24"
        value={value ?? ''}
        onChange={(e) => (e.target.value === '' ? onChange(undefined) : /^\d+$/.test(e.target.value) && onChange(Number(e.target.value)))}
      />
    </Field>
  );
}

function Text({
  label,
  hint,
  value,
  onChange,
  mono = true,
  placeholder,
}: {
  label: string;
  hint?: string;
  placeholder?: string;
  value?: string;
  mono?: boolean;
  onChange: (text: string | undefined) => void;
}) {
  return (
    <Field label={label} hint={hint}>
      <input
        className={`input input-sm w-full ${mono ? 'font-mono text-[13px]' : ''}`}
        placeholder={placeholder}
        value={value ?? ''}
        onChange={(e) => onChange(e.target.value || undefined)}
      />
    </Field>
  );
}

/** Names in the estate and where they come from, a row for each. */
function Mapping({
  label,
  from,
  value,
  onChange,
}: {
  label: string;
  from: string;
  value: Record<string, string>;
  onChange: (v: Record<string, string>) => void;
}) {
  const rows = Object.entries(value);
  return (
    <fieldset className="flex flex-col gap-1.5 text-sm">
      <legend className="mb-1 font-medium">{label}</legend>
      {rows.map(([name, attribute], i) => (
        <div key={i} className="flex items-center gap-2">
          <input
            aria-label="Name here"
            className="input input-sm w-40 font-mono text-[13px]"
            value={name}
            onChange={(e) => onChange(Object.fromEntries(rows.map(([n, a], j) => (j === i ? [e.target.value, a] : [n, a]))))}
          />
          <span className="quiet">from</span>
          <input
            aria-label={from}
            className="input input-sm flex-1 font-mono text-[13px]"
            value={attribute}
            onChange={(e) => onChange({ ...value, [name]: e.target.value })}
          />
          <button
            type="button"
            aria-label={`Remove ${name}`}
            className="btn btn-ghost btn-xs"
            onClick={() => onChange(Object.fromEntries(rows.filter((_, j) => j !== i)))}
          >
            Remove
          </button>
        </div>
      ))}
      <button type="button" className="btn btn-sm self-start" onClick={() => onChange({ ...value, [`attribute${rows.length + 1}`]: '' })}>
        Add one
      </button>
    </fieldset>
  );
}

function ClientForm({ value, onChange }: Part<NonNullable<SourceSetUp['scim']>>) {
  return (
    <Sheet title="What is taken of what the client writes" aside="SCIM 2.0, under /scim/v2">
      <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
        <Text
          label="Becomes a person’s id"
          hint="userName when empty; of a mail address the part before the @"
          placeholder="userName"
          value={value.id}
          onChange={(id) => onChange({ ...value, id })}
        />
        <Text label="Names a person’s unit" hint="By its id or title; empty: none" value={value.unit} onChange={(unit) => onChange({ ...value, unit })} />
        <div className="md:col-span-2">
          <Mapping
            label="Attributes of people"
            from="Attribute of the client"
            value={value.attributes ?? {}}
            onChange={(attributes) => onChange({ ...value, attributes })}
          />
        </div>
      </div>
    </Sheet>
  );
}

function DirectoryForm({ value, onChange }: Part<NonNullable<SourceSetUp['ldap']>>) {
  const set = (part: Partial<typeof value>) => onChange({ ...value, ...part });
  return (
    <>
      <Sheet title="The directory" aside="always encrypted, its certificate always checked">
        <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
          <Text
            label="Address"
            hint="ldaps://HOST:PORT, or ldap://HOST:PORT for StartTLS"
            value={value.address}
            onChange={(address) => set({ address: address ?? '' })}
          />
          <Text label="Base" placeholder="dc=larkfell,dc=example" value={value.base} onChange={(base) => set({ base: base ?? '' })} />
          <Text
            label="Signs in as"
            hint="Empty: nobody"
            placeholder="cn=reader,dc=larkfell,dc=example"
            value={value.bind_as}
            onChange={(bind_as) => set({ bind_as })}
          />
          <Text
            label="File with its password"
            hint="A name in the service’s folder of secrets, serve --secrets FOLDER"
            value={value.password}
            onChange={(password) => set({ password })}
          />
          <Field label="Authority" hint="Certificates that vouch for it, as PEM; the system’s when empty">
            <textarea
              className="textarea textarea-sm h-20 w-full font-mono text-[12px]"
              value={value.authority ?? ''}
              onChange={(e) => set({ authority: e.target.value || undefined })}
            />
          </Field>
        </div>
      </Sheet>
      <Sheet title="People, units, groups" aside="a filter that is empty: none are read">
        <div className="grid gap-4 px-4 py-3 md:grid-cols-3">
          <Text label="People: filter" value={value.people.filter} onChange={(filter) => set({ people: { ...value.people, filter } })} />
          <Text label="Id from" placeholder="uid" value={value.people.id} onChange={(id) => set({ people: { ...value.people, id } })} />
          <Text label="Mail from" placeholder="mail" value={value.people.mail} onChange={(mail) => set({ people: { ...value.people, mail } })} />
          <div className="md:col-span-3">
            <Mapping
              label="Attributes of people"
              from="Attribute of the directory"
              value={value.people.attributes ?? {}}
              onChange={(attributes) => set({ people: { ...value.people, attributes } })}
            />
          </div>
          <Text label="Units: filter" value={value.units.filter} onChange={(filter) => set({ units: { ...value.units, filter } })} />
          <Text label="Title from" placeholder="description" value={value.units.title} onChange={(title) => set({ units: { ...value.units, title } })} />
          <Text
            label="Stand below"
            hint="A unit of the estate; the organisation when empty"
            value={value.units.under}
            onChange={(under) => set({ units: { ...value.units, under } })}
          />
          <Text label="Groups: filter" value={value.groups.filter} onChange={(filter) => set({ groups: { ...value.groups, filter } })} />
          <Field label="Who says who is in them">
            <select
              className="select select-sm w-full"
              value={value.groups.members ?? 'member'}
              onChange={(e) => set({ groups: { ...value.groups, members: chosen(['member', 'memberOf'], e.target.value) } })}
            >
              <option value="member">groups list people (member)</option>
              <option value="memberOf">people list groups (memberOf)</option>
            </select>
          </Field>
        </div>
      </Sheet>
    </>
  );
}

const deviceFields = ['serial', 'id', 'owner', 'users', 'unit', 'os', 'os_version', 'edition', 'model', 'tags'];
const personFields = ['id', 'name', 'mail', 'unit'];

/** A table's columns, mapped beside the first rows of a real one. */
function TableForm({ value, onChange }: Part<NonNullable<SourceSetUp['table']>>) {
  const [preview, setPreview] = useState<TablePreview>();
  const [encoding, setEncoding] = useState(value.encoding ?? '');
  const [file, setFile] = useState<File>();
  const [error, setError] = useState<unknown>();
  const devices = value.of === 'devices';
  const look = async (f: File, of: 'devices' | 'people', charset: string) => {
    setError(undefined);
    const p = await got(
      api.POST('/api/v1/tables/preview', {
        params: { query: { of, name: f.name, ...(charset ? { encoding: charset } : {}) } },
        ...bytes(f.slice(0, 256 << 10)),
        headers: { 'Content-Type': 'text/csv' },
      }),
    );
    setPreview(p);
    onChange({ ...p.table, whole: value.whole });
  };
  const fields = devices ? deviceFields : personFields;
  const prefix = devices ? 'facts/' : 'attributes/';
  const header = preview?.header ?? Object.keys(value.columns ?? {});
  return (
    <Sheet title="The table" aside={preview && `${preview.encoding}, columns between ${preview.separator === 'tab' ? 'tabs' : preview.separator}`}>
      <div className="flex flex-col gap-4 px-4 py-3 text-sm">
        <div className="flex flex-wrap items-end gap-4">
          <Field label="A row is">
            <select
              className="select select-sm w-40"
              value={value.of}
              onChange={(e) => {
                const of = chosen(['devices', 'people'], e.target.value) ?? 'devices';
                onChange({ of, columns: {}, key: of === 'devices' ? 'serial' : 'id', whole: value.whole });
                if (file) void look(file, of, encoding).catch(setError);
              }}
            >
              <option value="devices">a laptop</option>
              <option value="people">a person</option>
            </select>
          </Field>
          <Field label="Begin with a table" hint="Its columns are mapped below; nothing is taken yet">
            <input
              type="file"
              accept=".csv,text/csv,.txt,.tsv"
              className="file-input file-input-sm w-80"
              onChange={(e) => {
                const f = e.target.files?.[0];
                setFile(f);
                if (f) void look(f, value.of, encoding).catch(setError);
              }}
            />
          </Field>
          <Field label="Encoding" hint="UTF-8 when empty">
            <input
              className="input input-sm w-36"
              placeholder="iso-8859-1"
              value={encoding}
              onChange={(e) => setEncoding(e.target.value)}
              onBlur={() => {
                onChange({ ...value, encoding: encoding || undefined });
                if (file) void look(file, value.of, encoding).catch(setError);
              }}
            />
          </Field>
        </div>
        <Failed error={error} />
        {header.length > 0 && (
          <div className="overflow-x-auto rounded border border-base-300" tabIndex={0} aria-label="Columns and first rows">
            <table className="table table-sm">
              <caption className="sr-only">Columns of the table, and what they are</caption>
              <thead>
                <tr>
                  <th scope="col">Column</th>
                  <th scope="col">Becomes</th>
                  {(preview?.rows ?? []).slice(0, 3).map((_, i) => (
                    <th scope="col" key={i}>
                      Row {i + 1}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {header.map((column, i) => {
                  const field = value.columns?.[column] ?? '';
                  const own = field.startsWith(prefix);
                  return (
                    <tr key={i}>
                      <th scope="row" className="font-medium">
                        {column}
                      </th>
                      <td>
                        <div className="flex gap-1.5">
                          <select
                            aria-label={`What ${column} becomes`}
                            className="select select-sm w-40"
                            value={own ? prefix : field}
                            onChange={(e) =>
                              onChange({
                                ...value,
                                columns: {
                                  ...value.columns,
                                  [column]: e.target.value === prefix ? prefix + column.toLowerCase().replace(/[^a-z0-9]+/g, '_') : e.target.value,
                                },
                              })
                            }
                          >
                            <option value="">left out</option>
                            {fields.map((f) => (
                              <option key={f}>{f}</option>
                            ))}
                            <option value={prefix}>{devices ? 'a fact' : 'an attribute'} of its own</option>
                          </select>
                          {own && (
                            <input
                              aria-label={`Name of the ${devices ? 'fact' : 'attribute'} from ${column}`}
                              className="input input-sm w-36 font-mono text-[13px]"
                              value={field.slice(prefix.length)}
                              onChange={(e) => onChange({ ...value, columns: { ...value.columns, [column]: prefix + e.target.value } })}
                            />
                          )}
                        </div>
                      </td>
                      {(preview?.rows ?? []).slice(0, 3).map((r, j) => (
                        <td key={j} className="max-w-40 truncate">
                          {r[i]}
                        </td>
                      ))}
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </div>
        )}
        <div className="flex flex-wrap items-end gap-4">
          <Field label="A row is known again by" hint="Stable, and different in every row">
            <select
              className="select select-sm w-40"
              value={value.key}
              onChange={(e) => onChange({ ...value, key: chosen(['serial', 'id', 'mail'], e.target.value) ?? value.key })}
            >
              {(devices ? ['serial', 'id'] : ['id', 'mail']).map((k) => (
                <option key={k}>{k}</option>
              ))}
            </select>
          </Field>
          <label className="flex items-center gap-2">
            <input type="checkbox" className="checkbox checkbox-sm" checked={value.whole} onChange={(e) => onChange({ ...value, whole: e.target.checked })} />
            The table lists everything: what is no longer in it has left
          </label>
        </div>
        {preview && (
          <p className="quiet text-[13px]">
            {count(Object.values(value.columns ?? {}).filter(Boolean).length, 'column')} mapped, the rest is left out and never kept.
          </p>
        )}
      </div>
    </Sheet>
  );
}
