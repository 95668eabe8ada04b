// A saved lookup for programs: the HTTP call that gives its rows, with a token that may read.

import { useState } from 'react';
import { http, type Schemas, take } from '../../../api/client';
import { useMay } from '../../../api/queries';
import { CopyButton } from '../../../parts/copy-button';
import { useForm } from '../../../parts/form';
import { Button, Choice, Field, FormTrouble, Input, Popup } from '../../../parts/ui';
import { type KeptKind, useKept } from '../kept';
import { CALLS, type Call, callCode } from './call-code';

type Kept = Schemas['LookupView'];
const TOKEN = 'TOKEN';

export function ProgramsDialog({ kind, onClose }: { kind: KeptKind<Kept>; onClose: () => void }) {
  const kept = useKept(kind).data ?? [];
  const [chosen, setChosen] = useState<string | null>(null);
  const [format, setFormat] = useState('csv');
  const [call, setCall] = useState<Call>('shell');
  const [token, setToken] = useState<string | null>(null);
  const one = kept.find(({ id }) => id === chosen) ?? kept[0];
  const url = `${window.location.origin}/api/lookups/${one?.id}/rows?format=${format}`;
  const code = callCode(call, url, token ?? TOKEN, format);
  return (
    <Popup open title="For programs" onClose={onClose} className="top-16 max-h-[calc(100vh-6rem)] w-[44rem] overflow-y-auto p-4">
      {!one && <p className="mt-2 text-soft">Save the lookup under a name first; a program asks for it by that.</p>}
      {one && (
        <>
          <div className="mt-2 grid grid-cols-[minmax(0,1fr)_9rem_9rem] items-start gap-3">
            <Field label="Saved lookup">
              {(p) => (
                <Choice {...p} value={one.id} onChange={(e) => setChosen(e.target.value)}>
                  {kept.map(({ id, name }) => (
                    <option key={id} value={id}>
                      {name}
                    </option>
                  ))}
                </Choice>
              )}
            </Field>
            <Field label="Answer as">
              {(p) => (
                <Choice {...p} value={format} onChange={(e) => setFormat(e.target.value)}>
                  <option value="csv">CSV</option>
                  <option value="json">JSON</option>
                  <option value="ndjson">JSON lines</option>
                </Choice>
              )}
            </Field>
            <Field label="Code for">
              {(p) => (
                <Choice {...p} value={call} onChange={(e) => setCall(e.target.value as Call)}>
                  {CALLS.map(([key, name]) => (
                    <option key={key} value={key}>
                      {name}
                    </option>
                  ))}
                </Choice>
              )}
            </Field>
          </div>
          <p className="mt-2 text-sm text-soft">
            The answer holds all rows of its period, as they are then. Another period: add <code>&amp;last_s=3600</code>, or{' '}
            <code>&amp;from=…&amp;to=…</code> as RFC 3339.
          </p>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
          <pre tabIndex={0} className="mt-2 overflow-auto rounded border border-line bg-paper p-2 text-xs">
            {code}
          </pre>
          <p className="mt-2 flex items-center gap-3">
            <CopyButton text={code}>Copy code</CopyButton>
            <span className="text-sm text-soft">
              {token
                ? 'With the token that was just made; it is not shown again.'
                : `${TOKEN} stands for a token that reads; signed in, a browser needs none.`}
            </span>
          </p>
        </>
      )}
      <NewToken onMade={setToken} />
    </Popup>
  );
}

function NewToken({ onMade }: { onMade: (token: string) => void }) {
  const engineer = useMay('engineer');
  const form = useForm({ name: '', days: '' }, ['name', 'expires_at']);
  if (!engineer) return <p className="mt-3 text-sm text-soft">An engineer makes the token.</p>;
  const make = async () => {
    const done = await form.run(async ({ name, days }) => {
      const expires_at = days ? new Date(Date.now() + Number(days) * 86_400_000).toISOString() : '';
      onMade((await take(http.POST('/api/tokens', { body: { name, reads: true, place: null, expires_at } }))).token);
    });
    if (done) form.reset({ name: '', days: '' });
  };
  return (
    <form
      aria-label="New token that reads"
      className="mt-4 border-t border-line pt-3"
      onSubmit={(e) => {
        e.preventDefault();
        void make();
      }}
    >
      <div className="flex items-end gap-3">
        <Field label="Token that reads, for" error={form.error('name')} className="flex-1">
          {(p) => (
            <Input
              {...p}
              placeholder="Laboratory notebook"
              value={form.values.name}
              onChange={(e) => form.set('name', e.target.value)}
            />
          )}
        </Field>
        <Field label="Ends" error={form.error('expires_at')} className="w-36">
          {(p) => (
            <Choice {...p} value={form.values.days} onChange={(e) => form.set('days', e.target.value)}>
              <option value="">never</option>
              <option value="30">in 30 days</option>
              <option value="365">in a year</option>
            </Choice>
          )}
        </Field>
        <Button type="submit" disabled={form.busy || form.values.name.trim() === ''}>
          Create token
        </Button>
      </div>
      <FormTrouble form={form} />
      <p className="mt-1 text-sm text-soft">It reads saved lookups and nothing else. It is revoked on the desk Connect.</p>
    </form>
  );
}
