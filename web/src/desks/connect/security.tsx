// Whom a secured connection trusts, and as whom it is made. The private key goes in and never comes back.

import { FileUp } from 'lucide-react';
import { type ReactNode, useRef } from 'react';
import type { Form } from '../../parts/form';
import { Button, Field, INPUT } from '../../parts/ui';

/** What the form of a connection holds of it. */
export interface SecurityDraft {
  trust: string;
  fingerprint: string;
  certificate: string;
  /** As it is typed; what was typed earlier never comes back, only that there is one. */
  key: string;
  keyKept: boolean;
}

type Asked = keyof Omit<SecurityDraft, 'keyKept'>;

/** Longest file that is read into a field; the server takes no longer one. */
const LONGEST = 64 * 1024;

export function Security({ form }: { form: Pick<Form<SecurityDraft>, 'values' | 'set' | 'error' | 'theirs'> }) {
  const { values } = form;
  const error = (field: Asked) => form.error(`settings.tls.${field}`) ?? form.theirs(field);
  const text = (field: Exclude<Asked, 'fingerprint'>, label: string, hint: string) => (
    <PemField label={label} hint={hint} error={error(field)} value={values[field]} onChange={(next) => form.set(field, next)} />
  );
  return (
    <fieldset className="mt-3 max-w-3xl rounded border border-line p-3">
      <legend className="px-1 text-sm text-soft">Security</legend>
      <div className="grid grid-cols-2 gap-x-4 gap-y-2.5">
        {text('trust', 'Certificates of trusted authorities', 'PEM')}
        <Field
          label="Or the fingerprint of the device’s own certificate"
          error={error('fingerprint')}
          hint="SHA-256. A test shows it, to be compared and trusted."
        >
          {(p) => (
            <textarea
              {...p}
              className={`${INPUT} figures h-16 py-1 text-sm leading-4 break-all`}
              spellCheck={false}
              value={values.fingerprint}
              onChange={(e) => form.set('fingerprint', e.target.value)}
            />
          )}
        </Field>
        {text('certificate', 'Our certificate', 'PEM; where the device asks for one')}
        {values.keyKept ? (
          <div>
            <p className="mb-0.5 text-sm text-soft">Private key of our certificate</p>
            <p className="flex min-h-7 flex-wrap items-center gap-2">
              <span>Stored encrypted; it is never shown.</span>
              <Button onClick={() => form.set('keyKept', false)}>Replace</Button>
            </p>
          </div>
        ) : (
          text('key', 'Private key of our certificate', 'PEM; encrypted when saved, never shown again')
        )}
      </div>
    </fieldset>
  );
}

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
            accept=".pem,.crt,.cer,.key,text/plain"
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
