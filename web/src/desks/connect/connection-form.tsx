// The form of a connection: only the fields that its kind needs, with its test as a ladder of steps.

import { useQuery } from '@tanstack/react-query';
import { Plus, X } from 'lucide-react';
import { useRef, useState } from 'react';
import { http, newId, Refused, take } from '../../api/client';
import { type ConnectionSet, type DevicePath, type Item, LONG_ORDERS, type SourceKind, type TlsSettings } from '../../api/model';
import { commit } from '../../api/queries';
import { useGo } from '../../app/view';
import { keepDraft, useDraft } from '../../parts/draft';
import { numberOf, textOf, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Theirs, Tick } from '../../parts/ui';
import { GroupRows } from './groups';
import { isPolled, KINDS } from './kinds';
import { Ladder, type Step } from './ladder';
import { Security, type SecurityDraft } from './security';
import { stream } from './stream';

const TEXTS = ['host', 'port', 'device', 'baud', 'unit', 'base', 'order', 'limit', 'gap', 'spacing_ms', 'parallel'] as const;
const TLS = ['trust', 'fingerprint', 'certificate', 'key'] as const;
const SETTINGS = [...TEXTS, ...TLS.map((t) => `tls.${t}`), 'transport', 'parity', 'stop_bits', 'writes', 'takeover'];
const FIELDS = ['name', 'interval_ms', 'timeout_ms', 'enabled', 'writing', ...SETTINGS.map((t) => `settings.${t}`)];

/** Functions that write, and what for (Modbus application protocol, §6). */
const WRITES: [number, string][] = [
  [5, 'one coil (5)'],
  [15, 'many coils (15)'],
  [6, 'one register (6)'],
  [16, 'many registers (16)'],
  [22, 'bits of a register (22)'],
  [23, 'write and read back at once (23)'],
];

function draftOf(kind: SourceKind, set: ConnectionSet | undefined) {
  const s = set?.settings ?? {};
  return {
    kind,
    name: set?.name ?? KINDS[kind].first,
    transport: s.transport ?? 'tcp',
    host: s.host ?? '',
    port: textOf(s.port ?? 502),
    device: s.device ?? '',
    baud: textOf(s.baud ?? 19_200),
    parity: s.parity ?? 'even',
    stop_bits: textOf(s.stop_bits ?? 1),
    unit: textOf(s.unit ?? 1),
    base: textOf(s.base ?? 1),
    order: s.order ?? 'ABCD',
    limit: textOf(s.limit ?? 125),
    gap: textOf(s.gap ?? 16),
    spacing_ms: textOf(s.spacing_ms ?? 0),
    parallel: textOf(s.parallel ?? 1),
    writes: s.writes ?? [5, 6, 15, 16, 22],
    spare: (s.spare ?? []).map((p) => ({ host: p.host ?? '', port: textOf(p.port ?? 502), device: p.device ?? '' })),
    takeover: s.takeover ?? true,
    trust: s.tls?.trust ?? '',
    fingerprint: s.tls?.fingerprint ?? '',
    certificate: s.tls?.certificate ?? '',
    // What was typed earlier never comes back; only that there is one.
    key: '',
    keyKept: Boolean(s.tls?.key),
    groups: set?.groups ?? [],
    interval_ms: textOf(set?.interval_ms ?? 1000),
    timeout_ms: textOf(set?.timeout_ms ?? 1000),
    enabled: set?.enabled ?? true,
    writing: set?.writing ?? false,
  };
}

type Draft = ReturnType<typeof draftOf>;

/** Whether requests travel in frames of their own and may overtake each other. */
const overTcp = (transport: Draft['transport']) => transport === 'tcp' || transport === 'tls';

const number = (text: string) => numberOf(text) as number;

function tlsOf(d: SecurityDraft): TlsSettings {
  const kept = d.keyKept ? ({ kept: true } as const) : null;
  const key = d.key.trim() ? { secret: d.key } : kept;
  return { trust: d.trust, fingerprint: d.fingerprint.trim(), certificate: d.certificate, key };
}

function settingsOf(d: Draft): ConnectionSet['settings'] {
  const serial = d.transport === 'serial';
  const path = (p: { host: string; port: string; device: string }): DevicePath =>
    serial ? { device: p.device.trim() } : { host: p.host.trim(), port: number(p.port) };
  return {
    ...(d.transport === 'tcp' ? {} : { transport: d.transport }),
    ...path(d),
    ...(serial ? { baud: number(d.baud), parity: d.parity, stop_bits: number(d.stop_bits) } : {}),
    unit: number(d.unit),
    base: number(d.base),
    order: d.order,
    limit: number(d.limit),
    gap: number(d.gap),
    spacing_ms: number(d.spacing_ms),
    parallel: overTcp(d.transport) ? number(d.parallel) : 1,
    writes: d.writes,
    ...(d.spare.length > 0 ? { spare: d.spare.map(path), takeover: d.takeover } : {}),
    ...(d.transport === 'tls' ? { tls: tlsOf(d) } : {}),
  };
}

function setOf(d: Draft): Partial<ConnectionSet> {
  return {
    name: d.name,
    kind: d.kind,
    interval_ms: number(d.interval_ms),
    timeout_ms: number(d.timeout_ms),
    enabled: d.enabled,
    writing: d.writing,
    groups: d.groups,
    settings: d.kind === 'modbus' ? settingsOf(d) : {},
  };
}

export function NewConnection({ seen }: { seen: number }) {
  const go = useGo();
  const [kind, setKind] = useDraft<SourceKind>('connection kind', 'modbus');
  return (
    <section aria-label="New connection" className="mb-3 rounded-md border border-line bg-raised p-4">
      <h2 className="mb-2 text-[1rem] font-semibold">New connection</h2>
      <div className="mb-3 flex flex-wrap items-start gap-3">
        <Field label="Kind" className="w-56" hint={KINDS[kind].about}>
          {(p) => (
            <Choice {...p} value={kind} onChange={(e) => setKind(e.target.value as SourceKind)}>
              {Object.entries(KINDS).map(([value, words]) => (
                <option key={value} value={value}>
                  {words.name}
                </option>
              ))}
            </Choice>
          )}
        </Field>
      </div>
      <ConnectionForm
        key={kind}
        kind={kind}
        seen={seen}
        onMade={(id) => {
          keepDraft('connection kind', undefined);
          go({ connection: id, part: undefined });
        }}
      />
    </section>
  );
}

interface Props {
  kind: SourceKind;
  item?: Item<'connection'>;
  seen: number;
  onMade?: (id: string) => void;
}

export function ConnectionForm({ kind, item, seen, onMade }: Props) {
  const go = useGo();
  const form = useForm(draftOf(kind, item?.set), FIELDS, {
    follow: true,
    draft: `connection ${item?.id ?? 'new'}`,
    secret: ['key'],
  });
  const [steps, setSteps] = useState<Step[] | null>(null);
  const [deleting, setDeleting] = useState(false);
  const climbing = useRef<AbortController | null>(null);
  const [busy, setBusy] = useState(false);
  const [more, setMore] = useState(false);
  const v = form.values;
  const serial = v.transport === 'serial';

  async function test() {
    climbing.current?.abort();
    const controller = new AbortController();
    climbing.current = controller;
    setSteps([]);
    setBusy(true);
    await form.probe(async (values) => {
      try {
        const body = { ...setOf(values), name: values.name || 'test' };
        const url = item ? `/api/connections/test?id=${item.id}` : '/api/connections/test';
        const climb = stream<Step>(url, { body, signal: controller.signal });
        for await (const step of climb) setSteps((old) => [...(old ?? []), step]);
      } catch (error) {
        if (controller.signal.aborted) return;
        setSteps(null);
        throw error instanceof Refused ? error : new Refused(0, 'The server cannot be reached.');
      }
    });
    setBusy(false);
  }

  // What a test found out goes into the form, and the test goes on from there when it is asked again.
  function trust(offer: NonNullable<Step['offer']>) {
    if (offer.field === 'tls.fingerprint') form.set('fingerprint', offer.value);
    else if (offer.field === 'unit' || offer.field === 'timeout_ms') form.set(offer.field, offer.value);
    setSteps(null);
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
    if (done) onMade?.(id);
  }

  type TextField = (typeof TEXTS)[number] | 'name' | 'interval_ms' | 'timeout_ms';
  const text = (field: TextField, label: string, hint?: string, className = '') => (
    <Field label={label} error={form.error(field, `settings.${field}`) ?? form.theirs(field)} hint={hint} className={className}>
      {(p) => <Input {...p} value={v[field]} onChange={(e) => form.set(field, e.target.value)} />}
    </Field>
  );
  // Each way has its usual port; one that was chosen otherwise stays.
  const over = (transport: string) => {
    if (transport === 'tls' && v.port === '502') form.set('port', '802');
    if (transport !== 'tls' && v.port === '802') form.set('port', '502');
    form.set('transport', transport as Draft['transport']);
  };
  type ChoiceField = 'transport' | 'parity' | 'stop_bits' | 'base' | 'order';
  const choice = (field: ChoiceField, label: string, options: [string, string][], className = '') => (
    <Field label={label} error={form.error(`settings.${field}`) ?? form.theirs(field)} className={className}>
      {(p) => (
        <Choice
          {...p}
          value={v[field]}
          onChange={(e) => (field === 'transport' ? over(e.target.value) : form.set(field, e.target.value as never))}
        >
          {options.map(([value, words]) => (
            <option key={value} value={value}>
              {words}
            </option>
          ))}
        </Choice>
      )}
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
        {kind === 'modbus' && (
          <>
            {choice(
              'transport',
              'Transport',
              [
                ['tcp', 'TCP'],
                ['tls', 'TCP, secured by TLS'],
                ['rtu_over_tcp', 'TCP with serial frames (RTU)'],
                ['serial', 'Serial line (RTU)'],
              ],
              'col-span-2',
            )}
            {serial ? (
              <>
                {text('device', 'Line', 'such as /dev/ttyUSB0', 'col-span-2')}
                {text('baud', 'Baud')}
                {choice('parity', 'Parity', [
                  ['even', 'even'],
                  ['odd', 'odd'],
                  ['none', 'none'],
                ])}
                {choice('stop_bits', 'Stop bits', [
                  ['1', '1'],
                  ['2', '2'],
                ])}
              </>
            ) : (
              <>
                {text('host', 'Host', 'such as 10.0.4.21')}
                {text('port', 'Port')}
              </>
            )}
            {text('unit', 'Unit id')}
            {choice('base', 'Manual counts from', [
              ['0', '0'],
              ['1', '1'],
            ])}
            {choice(
              'order',
              'Byte order',
              LONG_ORDERS.map((o) => [o, o]),
            )}
          </>
        )}
        {isPolled(kind) && text('interval_ms', kind === 'modbus' ? 'Poll interval, ms' : 'Interval, ms')}
        {kind === 'push' && text('interval_ms', 'Expected interval, ms', 'older values show their age', 'col-span-2')}
        {kind === 'modbus' && text('timeout_ms', 'Timeout, ms')}
        <div className="col-span-6 flex flex-wrap gap-x-6 gap-y-1">
          <Theirs form={form} field="enabled" what="whether it is in use" />
          <Theirs form={form} field="writing" what="whether the device may be written" />
          <Tick
            label={kind === 'modbus' ? 'Polling on' : 'In use'}
            checked={v.enabled}
            onChange={(on) => form.set('enabled', on)}
          />
          {kind === 'modbus' && (
            <Tick label="Allow writing to the device" checked={v.writing} onChange={(on) => form.set('writing', on)} />
          )}
        </div>
      </div>
      {kind === 'modbus' && v.transport === 'tls' && <Security form={form} />}
      {kind === 'modbus' && (
        <details className="mt-3 max-w-3xl" open={more} onToggle={(e) => setMore(e.currentTarget.open)}>
          <summary className="cursor-pointer text-teal">Requests, groups and spare addresses</summary>
          <div className="mt-2 grid grid-cols-4 gap-x-3 gap-y-2.5">
            {text('limit', 'Registers per request', '1 to 125')}
            {text('gap', 'Largest gap to read across', 'registers nobody wants')}
            {text('spacing_ms', 'Pause between requests, ms')}
            {overTcp(v.transport) && text('parallel', 'Requests at once', '1 to 8')}
          </div>
          <fieldset className="mt-3">
            <legend className="text-sm text-soft">Write with functions</legend>
            <Theirs form={form} field="writes" what="how it may be written" />
            <div className="flex flex-wrap gap-x-5 gap-y-1">
              {WRITES.map(([code, words]) => (
                <Tick
                  key={code}
                  label={words}
                  checked={v.writes.includes(code)}
                  onChange={(on) =>
                    form.set('writes', on ? [...v.writes, code].sort((a, b) => a - b) : v.writes.filter((c) => c !== code))
                  }
                />
              ))}
            </div>
          </fieldset>
          <Theirs form={form} field="groups" what="the groups" />
          <GroupRows groups={v.groups} problems={form.problems} onChange={(groups) => form.set('groups', groups)} />
          <Theirs form={form} field="spare" what="the spare addresses" />
          <SpareRows
            serial={serial}
            rows={v.spare}
            problem={(i, field) => form.problems.find((p) => p.field === `settings.spare[${i}].${field}`)?.message}
            onChange={(spare) => form.set('spare', spare)}
          />
          {v.spare.length > 0 && (
            <Tick
              label="Switch to a spare address automatically"
              checked={v.takeover}
              onChange={(on) => form.set('takeover', on)}
            />
          )}
        </details>
      )}
      <FormTrouble form={form} className="mt-2" />
      <div className="mt-3 flex flex-wrap gap-2">
        {kind === 'modbus' && (
          <Button onClick={() => void test()} disabled={busy}>
            Test
          </Button>
        )}
        {busy && <Button onClick={() => climbing.current?.abort()}>Stop the test</Button>}
        <Button kind="main" type="submit" disabled={form.busy || Boolean(item && !form.dirty)}>
          {item ? 'Save connection' : 'Add this connection'}
        </Button>
        {item ? (
          <Button kind="quiet" className="ml-auto" onClick={() => setDeleting(true)}>
            Delete connection…
          </Button>
        ) : (
          <Button
            kind="quiet"
            onClick={() => {
              form.discard();
              keepDraft('connection kind', undefined);
              go({ connection: undefined });
            }}
          >
            Cancel
          </Button>
        )}
      </div>
      {steps && <Ladder steps={steps} busy={busy} onTake={trust} />}
      {item && deleting && <DeleteConnection item={item} seen={seen} onClose={() => setDeleting(false)} />}
    </form>
  );
}

interface SpareProps {
  serial: boolean;
  rows: Draft['spare'];
  problem: (index: number, field: string) => string | undefined;
  onChange: (rows: Draft['spare']) => void;
}

function SpareRows({ serial, rows, problem, onChange }: SpareProps) {
  const change = (index: number, part: Partial<Draft['spare'][number]>) =>
    onChange(rows.map((row, i) => (i === index ? { ...row, ...part } : row)));
  return (
    <fieldset className="mt-3">
      <legend className="text-sm text-soft">Spare addresses of the same device</legend>
      {rows.map((row, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other identity
        <div key={i} className="mb-1.5 flex max-w-md items-start gap-2">
          {serial ? (
            <Field label={`Line of spare ${i + 1}`} error={problem(i, 'device')} className="flex-1">
              {(p) => <Input {...p} value={row.device} onChange={(e) => change(i, { device: e.target.value })} />}
            </Field>
          ) : (
            <>
              <Field label={`Host of spare ${i + 1}`} error={problem(i, 'host')} className="flex-1">
                {(p) => <Input {...p} value={row.host} onChange={(e) => change(i, { host: e.target.value })} />}
              </Field>
              <Field label="Port" error={problem(i, 'port')} className="w-24">
                {(p) => <Input {...p} value={row.port} onChange={(e) => change(i, { port: e.target.value })} />}
              </Field>
            </>
          )}
          <Button
            kind="quiet"
            className="mt-5"
            aria-label={`Remove spare ${i + 1}`}
            onClick={() => onChange(rows.filter((_, n) => n !== i))}
          >
            <X className="size-3.5" />
          </Button>
        </div>
      ))}
      {rows.length < 3 && (
        <Button kind="quiet" onClick={() => onChange([...rows, { host: '', port: '502', device: '' }])}>
          <Plus className="size-4" /> Spare address
        </Button>
      )}
    </fieldset>
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
        {counted(tags, 'tag')} and {counted(rules, 'alarm rule')} are deleted too. Recorded history stays in the database.
      </p>
      {held.length > 0 && <p className="text-act4">It cannot be deleted yet: {held.join('; ')}.</p>}
      <FormTrouble form={form} />
    </Confirm>
  );
}
