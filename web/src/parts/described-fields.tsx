// The fields of a form that the server describes.

import clsx from 'clsx';
import { FileUp, Plus, X } from 'lucide-react';
import { type ReactNode, useRef, useState } from 'react';
import { blankRow, changed, type FormField, isShown, type Value, type Values } from './described';
import { numberOf } from './form';
import { Button, Choice, Field, INPUT, Input, Tick } from './ui';

const SPAN = ['', 'col-span-1', 'col-span-2', 'col-span-3', 'col-span-4', 'col-span-5', 'col-span-6'];

interface Props {
  fields: readonly FormField[];
  values: Values;
  /** What the conditions of the fields may name besides. */
  outer?: Values;
  onChange: (values: Values) => void;
  /** The message for a field, by its key. */
  error: (key: string) => string | undefined;
  /** Stands before a field that has no line for a message. */
  above?: (field: FormField) => ReactNode;
  /** Draws a field that only its desk can; undefined leaves it to this part. */
  special?: (field: FormField) => ReactNode | undefined;
  /** Follows the labels: “Host of spare 1”. */
  of?: string;
  disabled?: boolean;
}

/** Fields in a grid of six columns. */
export function DescribedFields({
  fields,
  values,
  outer = {},
  onChange,
  error,
  above,
  special,
  of = '',
  disabled = false,
}: Props) {
  const all = { ...outer, ...values };
  const shown = fields.filter((field) => isShown(field, all));
  const set = (key: string, value: Value) => onChange(changed(fields, values, key, value, outer));
  return (
    <>
      {shown.map((field) => (
        <div key={field.key} className={clsx('min-w-0', SPAN[field.width])}>
          {special?.(field) ?? (
            <Described
              field={field}
              value={values[field.key] ?? null}
              values={all}
              onChange={(value) => set(field.key, value)}
              error={error}
              above={above?.(field)}
              of={of}
              disabled={disabled}
            />
          )}
        </div>
      ))}
    </>
  );
}

interface OneProps {
  field: FormField;
  value: Value;
  values: Values;
  onChange: (value: Value) => void;
  error: (key: string) => string | undefined;
  above: ReactNode;
  of: string;
  disabled: boolean;
}

function Described({ field, value, values, onChange, error, above, of, disabled }: OneProps) {
  const label = `${field.label}${of}`;
  const said = { label, error: error(field.key), hint: field.hint || undefined };
  const text = typeof value === 'string' ? value : '';
  switch (field.control) {
    case 'text':
    case 'address':
      return (
        <Field {...said}>
          {(p) => <Input {...p} disabled={disabled} value={text} onChange={(e) => onChange(e.target.value)} />}
        </Field>
      );
    case 'number':
      return <Field {...said}>{(p) => <NumberInput {...p} disabled={disabled} value={value} onChange={onChange} />}</Field>;
    case 'numbers':
      return <Field {...said}>{(p) => <NumbersInput {...p} disabled={disabled} value={value} onChange={onChange} />}</Field>;
    case 'choice':
      return (
        <Field {...said}>
          {(p) => (
            <Choice
              {...p}
              disabled={disabled}
              value={String(value ?? '')}
              onChange={(e) => onChange(field.numbers ? Number(e.target.value) : e.target.value)}
            >
              {field.options
                .filter((o) => o.value === value || isShown(o, values))
                .map((o) => (
                  <option key={o.value} value={o.value}>
                    {o.words}
                  </option>
                ))}
            </Choice>
          )}
        </Field>
      );
    case 'tick':
      return (
        <>
          {above}
          <Tick label={label} checked={value === true} disabled={disabled} onChange={onChange} />
          {said.error && <p className="text-sm text-act4">{said.error}</p>}
        </>
      );
    case 'ticks': {
      const on = (Array.isArray(value) ? value : []) as readonly number[];
      const put = (code: number, yes: boolean) =>
        onChange(yes ? [...on, code].sort((a, b) => a - b) : on.filter((c) => c !== code));
      return (
        <fieldset>
          <legend className="text-sm text-soft">{label}</legend>
          {above}
          <div className="flex flex-wrap gap-x-5 gap-y-1">
            {field.options.map((o) => (
              <Tick
                key={o.value}
                label={o.words}
                checked={on.includes(Number(o.value))}
                disabled={disabled}
                onChange={(yes) => put(Number(o.value), yes)}
              />
            ))}
          </div>
          {said.error && <p className="text-sm text-act4">{said.error}</p>}
        </fieldset>
      );
    }
    case 'fingerprint':
      return (
        <Field {...said}>
          {(p) => (
            <textarea
              {...p}
              disabled={disabled}
              className={`${INPUT} figures h-16 py-1 text-sm leading-4 break-all`}
              spellCheck={false}
              value={text}
              onChange={(e) => onChange(e.target.value.trim())}
            />
          )}
        </Field>
      );
    case 'rows':
      return (
        <Field {...said}>
          {(p) => (
            <textarea
              {...p}
              rows={5}
              disabled={disabled}
              className={`${INPUT} h-auto py-1 font-mono`}
              value={text}
              onChange={(e) => onChange(e.target.value)}
            />
          )}
        </Field>
      );
    case 'pem':
      return <PemField {...said} value={text} onChange={onChange} />;
    case 'pem_secret':
      return (
        <SecretField label={field.label} value={value} onChange={onChange}>
          {(secret, put) => <PemField {...said} value={secret} onChange={put} />}
        </SecretField>
      );
    case 'password':
      return (
        <SecretField label={field.label} value={value} onChange={onChange}>
          {(secret, put) => (
            <Field {...said}>
              {(p) => (
                <Input
                  {...p}
                  type="password"
                  autoComplete="new-password"
                  disabled={disabled}
                  value={secret}
                  onChange={(e) => put(e.target.value)}
                />
              )}
            </Field>
          )}
        </SecretField>
      );
    case 'list':
      return <Rows field={field} rows={(value ?? []) as readonly Values[]} {...{ values, onChange, error, above, disabled }} />;
    case 'groups':
    case 'own_certificate':
      return null;
  }
}

/** A number as it is typed: what means the same number stays as it was written. */
function NumberInput({ value, onChange, ...rest }: { value: Value; onChange: (value: Value) => void; disabled: boolean }) {
  const [typed, setTyped] = useState(value === null ? '' : String(value));
  const text = Object.is(numberOf(typed), value) ? typed : value === null ? '' : String(value);
  const put = (next: string) => {
    setTyped(next);
    onChange(numberOf(next));
  };
  return <Input {...rest} className="figures" inputMode="decimal" value={text} onChange={(e) => put(e.target.value)} />;
}

const numbersOf = (text: string) =>
  text
    .split(/[,;\s]+/)
    .filter(Boolean)
    .map((t) => numberOf(t));

function NumbersInput({ value, onChange, ...rest }: { value: Value; onChange: (value: Value) => void; disabled: boolean }) {
  const shown = Array.isArray(value) ? value.join(', ') : '';
  const [typed, setTyped] = useState(shown);
  const text = JSON.stringify(numbersOf(typed)) === JSON.stringify(value) ? typed : shown;
  const put = (next: string) => {
    setTyped(next);
    onChange(numbersOf(next));
  };
  return <Input {...rest} value={text} onChange={(e) => put(e.target.value)} />;
}

/** Longest file that is read into a field; the server takes no longer one. */
const LONGEST = 64 * 1024;

interface PemProps {
  label: string;
  hint: ReactNode;
  error: string | undefined;
  value: string;
  onChange: (text: string) => void;
}

/** A text that usually lies in a file. */
function PemField({ label, hint, error, value, onChange }: PemProps) {
  const input = useRef<HTMLInputElement>(null);
  const [first] = value.trim().split('\n');
  return (
    <Field label={label} error={error} hint={hint}>
      {(p) => (
        <div className="flex items-start gap-2">
          <textarea
            {...p}
            className={`${INPUT} figures h-16 py-1 text-sm leading-4`}
            spellCheck={false}
            placeholder="-----BEGIN …"
            title={first}
            value={value}
            onChange={(e) => onChange(e.target.value)}
          />
          <Button aria-label={`${label}: choose a file`} onClick={() => input.current?.click()}>
            <FileUp className="size-4" />
          </Button>
          <input
            ref={input}
            type="file"
            className="hidden"
            accept=".pem,.crt,.cer,.crl,.key,text/plain"
            onChange={async (e) => {
              const file = e.target.files?.[0];
              e.target.value = '';
              if (file) onChange(await file.slice(0, LONGEST + 1).text());
            }}
          />
        </div>
      )}
    </Field>
  );
}

/** The same for what goes in and never comes back: of what is stored, only that there is something. */
interface SecretProps {
  label: string;
  value: Value;
  onChange: (value: Value) => void;
  children: (secret: string, put: (secret: string) => void) => ReactNode;
}

function SecretField({ label, value, onChange, children }: SecretProps) {
  const held = value as { kept?: true; secret?: string } | null;
  if (held?.kept) {
    return (
      <div>
        <p className="mb-0.5 text-sm text-soft">{label}</p>
        <p className="flex min-h-7 flex-wrap items-center gap-2">
          <span>Stored encrypted; it is never shown.</span>
          <Button onClick={() => onChange(null)}>Replace</Button>
        </p>
      </div>
    );
  }
  return children(held?.secret ?? '', (secret) => onChange(secret.trim() ? { secret } : null));
}

interface RowsProps {
  field: FormField & { control: 'list' };
  rows: readonly Values[];
  values: Values;
  onChange: (value: Value) => void;
  error: (key: string) => string | undefined;
  above: ReactNode;
  disabled: boolean;
}

/** The same fields several times. */
function Rows({ field, rows, values, onChange, error, above, disabled }: RowsProps) {
  const [first = ''] = field.noun.toLowerCase().split(' ');
  return (
    <fieldset className="max-w-md">
      <legend className="text-sm text-soft">{field.label}</legend>
      {above}
      {rows.map((row, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other identity
        <div key={i} className="mb-1.5 flex items-start gap-2">
          <div className="grid flex-1 grid-cols-4 gap-2">
            <DescribedFields
              fields={field.fields}
              values={row}
              outer={values}
              of={` of ${first} ${i + 1}`}
              error={(key) => error(`${field.key}[${i}].${key}`)}
              disabled={disabled}
              onChange={(next) => onChange(rows.map((r, n) => (n === i ? next : r)))}
            />
          </div>
          <Button
            kind="quiet"
            className="mt-5"
            aria-label={`Remove ${first} ${i + 1}`}
            disabled={disabled}
            onClick={() => onChange(rows.filter((_, n) => n !== i))}
          >
            <X className="size-3.5" />
          </Button>
        </div>
      ))}
      {rows.length < field.most && (
        <Button kind="quiet" disabled={disabled} onClick={() => onChange([...rows, blankRow(field.fields, values)])}>
          <Plus className="size-4" /> {field.noun}
        </Button>
      )}
    </fieldset>
  );
}
