// The form of a connection, with its test as a ladder of steps.

import { useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { http, newId, Refused, refused, type Schemas, take } from '../../api/client';
import type { ConnectionSet, Item } from '../../api/model';
import { commit } from '../../api/queries';
import { useGo } from '../../app/router';
import { numberOf, textOf, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Tick } from '../../parts/ui';

const TEXTS = ['host', 'port', 'unit', 'base', 'order', 'limit'] as const;
const FIELDS = ['name', 'interval_ms', 'timeout_ms', 'enabled', 'writing', ...TEXTS.map((t) => `settings.${t}`)];

function draftOf(set: ConnectionSet | undefined) {
  const s = set?.settings ?? {};
  return {
    name: set?.name ?? 'Controller 1',
    host: s.host ?? '',
    port: textOf(s.port ?? 502),
    unit: textOf(s.unit ?? 1),
    base: textOf(s.base ?? 1),
    order: s.order ?? 'ABCD',
    limit: textOf(s.limit ?? 125),
    interval_ms: textOf(set?.interval_ms ?? 1000),
    timeout_ms: textOf(set?.timeout_ms ?? 1000),
    enabled: set?.enabled ?? true,
    writing: set?.writing ?? false,
  };
}

type Draft = ReturnType<typeof draftOf>;

function setOf(d: Draft): Partial<ConnectionSet> {
  const number = (text: string) => numberOf(text) as number;
  const settings = {
    host: d.host.trim(),
    port: number(d.port),
    unit: number(d.unit),
    base: number(d.base),
    order: d.order,
    limit: number(d.limit),
  };
  return {
    name: d.name,
    kind: 'modbus',
    interval_ms: number(d.interval_ms),
    timeout_ms: number(d.timeout_ms),
    enabled: d.enabled,
    writing: d.writing,
    settings,
  };
}

type Step = Schemas['StepView'];

/** Climbs the ladder; each step is told as it comes. */
async function climb(set: Partial<ConnectionSet>, signal: AbortSignal, onStep: (step: Step) => void) {
  const response = await fetch('/api/connections/test', {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ ...set, name: set.name || 'test' }),
    signal,
  });
  if (!response.ok || !response.body) throw refused(response.status, await response.json().catch(() => undefined));
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const lines = (rest + value).split('\n');
    rest = lines.pop() ?? '';
    for (const line of lines) if (line) onStep(JSON.parse(line) as Step);
  }
}

export function ConnectionForm({ item, seen }: { item?: Item<'connection'>; seen: number }) {
  const go = useGo();
  const form = useForm(draftOf(item?.set), FIELDS);
  const [steps, setSteps] = useState<Step[] | null>(null);
  const [deleting, setDeleting] = useState(false);
  const climbing = useRef<AbortController | null>(null);
  const [busy, setBusy] = useState(false);
  const v = form.values;

  async function test() {
    climbing.current?.abort();
    const controller = new AbortController();
    climbing.current = controller;
    setSteps([]);
    setBusy(true);
    await form.run(async (values) => {
      try {
        await climb(setOf(values), controller.signal, (step) => setSteps((old) => [...(old ?? []), step]));
      } catch (error) {
        if (controller.signal.aborted) return;
        setSteps(null);
        throw error instanceof Refused ? error : new Refused(0, 'The server cannot be reached.');
      }
    });
    setBusy(false);
  }

  async function save() {
    const id = item?.id ?? newId();
    const done = await form.run((values) => {
      const set = setOf(values);
      const why = item ? `Changed connection ${values.name}` : `Added connection ${values.name}`;
      return commit(why, seen, [
        item ? { op: 'patch', kind: 'connection', id, set } : { op: 'create', kind: 'connection', id, set },
      ]);
    });
    if (done && !item) go({ connection: id, part: 'registers' });
  }

  const text = (
    field: Exclude<keyof Draft, 'enabled' | 'writing' | 'base' | 'order'>,
    label: string,
    hint?: string,
    className = '',
  ) => (
    <Field label={label} error={form.error(field, `settings.${field}`)} hint={hint} className={className}>
      {(p) => <Input {...p} value={v[field]} onChange={(e) => form.set(field, e.target.value)} />}
    </Field>
  );

  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <div className="grid max-w-3xl grid-cols-6 gap-x-3 gap-y-2.5">
        {text('name', 'Name', undefined, 'col-span-2')}
        {text('host', 'Host', 'name or address, such as 10.0.4.21', 'col-span-2')}
        {text('port', 'Port')}
        {text('unit', 'Unit id')}
        {text('interval_ms', 'Read every, ms')}
        {text('timeout_ms', 'Wait for, ms')}
        <Field label="Manual counts from" error={form.error('settings.base')}>
          {(p) => (
            <Choice {...p} value={v.base} onChange={(e) => form.set('base', e.target.value)}>
              <option value="0">0</option>
              <option value="1">1</option>
            </Choice>
          )}
        </Field>
        <Field label="32-bit order" error={form.error('settings.order')}>
          {(p) => (
            <Choice {...p} value={v.order} onChange={(e) => form.set('order', e.target.value)}>
              {['ABCD', 'CDAB', 'BADC', 'DCBA'].map((o) => (
                <option key={o}>{o}</option>
              ))}
            </Choice>
          )}
        </Field>
        {text('limit', 'Registers a request', undefined, 'col-span-2')}
        <div className="col-span-6 flex gap-6">
          <Tick label="Poll it" checked={v.enabled} onChange={(on) => form.set('enabled', on)} />
          <Tick label="Allow writing to the device" checked={v.writing} onChange={(on) => form.set('writing', on)} />
        </div>
      </div>
      <FormTrouble form={form} />
      <div className="mt-3 flex flex-wrap gap-2">
        <Button onClick={() => void test()} disabled={busy}>
          Test
        </Button>
        {busy && <Button onClick={() => climbing.current?.abort()}>Stop the test</Button>}
        <Button kind="main" type="submit" disabled={form.busy || Boolean(item && !form.dirty)}>
          {item ? 'Save connection' : 'Add this connection'}
        </Button>
        {item ? (
          <Button kind="quiet" className="ml-auto" onClick={() => setDeleting(true)}>
            Delete connection…
          </Button>
        ) : (
          <Button kind="quiet" onClick={() => go({ connection: undefined })}>
            Cancel
          </Button>
        )}
      </div>
      {steps && <Ladder steps={steps} busy={busy} />}
      {item && deleting && <DeleteConnection item={item} seen={seen} onClose={() => setDeleting(false)} />}
    </form>
  );
}

function Ladder({ steps, busy }: { steps: Step[]; busy: boolean }) {
  const failed = steps.some((s) => !s.passed);
  return (
    <ol aria-label="Test" aria-live="polite" className="mt-3 max-w-3xl border-l-2 border-line pl-3">
      {steps.map((step) => (
        <li key={step.name} className="flex flex-wrap items-baseline gap-x-3 py-0.5">
          <span className="w-20 font-semibold">{step.name}</span>
          <span className={step.passed ? 'text-teal' : 'font-semibold text-act4'}>{step.passed ? 'passed' : 'failed'}</span>
          <span className="text-soft">{step.tried}</span>
          <span className="min-w-0 flex-1">{step.answer}</span>
          <span className="figures text-sm text-soft">{(step.took_us / 1000).toFixed(1)} ms</span>
          {step.cure && <span className="w-full pl-23 text-soft">{step.cure}</span>}
        </li>
      ))}
      <li className="py-0.5 text-soft">
        {busy ? 'trying the next step…' : failed ? 'The test stops at the first step that fails.' : 'Everything answers.'}
      </li>
    </ol>
  );
}

function DeleteConnection({ item, seen, onClose }: { item: Item<'connection'>; seen: number; onClose: () => void }) {
  const go = useGo();
  const form = useForm({}, []);
  const uses = useQuery({
    queryKey: ['uses', 'connection', item.id],
    queryFn: () => take(http.GET('/api/items/{kind}/{id}/uses', { params: { path: { kind: 'connection', id: item.id } } })),
    staleTime: 0,
  });
  const tags = uses.data?.contents.tag ?? 0;
  const rules = uses.data?.contents.rule ?? 0;
  const held = uses.data?.referrers ?? [];
  const remove = () =>
    form
      .run(() =>
        commit(`Deleted connection ${item.set.name}`, seen, [{ op: 'delete', kind: 'connection', id: item.id, contents: true }]),
      )
      .then((done) => done && go({ connection: undefined }));
  return (
    <Confirm
      open
      title={`Delete ${item.set.name}?`}
      action="Delete connection"
      disabled={!uses.data || held.length > 0 || form.busy}
      onConfirm={() => void remove()}
      onClose={onClose}
    >
      <p>
        {counted(tags, 'tag')} and {counted(rules, 'alarm rule')} hang on it and go with it. What was recorded stays in the
        database.
      </p>
      {held.length > 0 && <p className="text-act4">It cannot go yet: {held.join('; ')}.</p>}
      <FormTrouble form={form} />
    </Confirm>
  );
}
