// Where a tag is read: the fields that its connection's kind needs, and no others.

import type { Schemas } from '../api/client';
import { ordersOf, type Point, type SourceKind, TYPES } from '../api/model';
import { numberOf, textOf } from '../parts/form';
import { Button, Choice, Field, INPUT, Input, Tick } from '../parts/ui';

interface Props {
  kind: SourceKind;
  source: string;
  point: Partial<Point>;
  onChange: (point: Partial<Point>) => void;
  error: (field: string) => string | undefined;
  /** The address as it goes on the wire, and its other readings. */
  check: (Omit<Schemas['PointView'], 'wrong'> & { wrong: string[][] }) | undefined;
  disabled: boolean;
}

export function PointFields(props: Props) {
  const { kind, point, source } = props;
  if (point.block || kind === 'figures') {
    return (
      <div>
        <p className="text-sm text-soft">{point.block ? 'Member of a block' : 'Figure'}</p>
        <p>{source || 'It no longer exists.'}</p>
        {props.error('block') && <p className="text-sm text-act4">{props.error('block')}</p>}
      </div>
    );
  }
  if (kind === 'signals') return <SignalFields {...props} />;
  if (kind === 'modbus') return <RegisterFields {...props} />;
  return <HeldFields {...props} />;
}

/** Fields of a point that are numbers, left away where nothing is typed. */
function put(point: Partial<Point>, field: string, text: string): Partial<Point> {
  const { [field as keyof Point]: _, ...rest } = point;
  return text.trim() === '' ? rest : { ...rest, [field]: numberOf(text) };
}

function RegisterFields({ point, onChange, error, check, disabled }: Props) {
  const wrong = check?.wrong.map(([field, message]) => `${field}: ${message}`)[0]?.replace(/^point\.\w+: /, '');
  const set = (change: Partial<Point>) => onChange({ ...point, ...change });
  const type = point.type ?? 'u16';
  const number = (field: 'length' | 'bit' | 'bits' | 'unit', label: string, hint?: string) => (
    <Field label={label} error={error(field)} hint={hint}>
      {(p) => (
        <Input
          {...p}
          disabled={disabled}
          className="figures"
          value={textOf(point[field])}
          onChange={(e) => onChange(put(point, field, e.target.value))}
        />
      )}
    </Field>
  );
  return (
    <div className="grid grid-cols-3 gap-2">
      <Field
        label="Address"
        className="col-span-2"
        error={error('address') ?? wrong}
        hint={check?.shown && `on the wire: ${check.shown}${check.now ? `, holds ${check.now}` : ''}`}
      >
        {(p) => (
          <Input {...p} disabled={disabled} value={point.address ?? ''} onChange={(e) => set({ address: e.target.value })} />
        )}
      </Field>
      <Field label="Type" error={error('type')}>
        {(p) => (
          <Choice {...p} disabled={disabled} value={type} onChange={(e) => set({ type: e.target.value })}>
            {TYPES.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </Choice>
        )}
      </Field>
      {check?.others.map((other) => (
        <p key={other.write} className="col-span-3 flex items-center gap-2 text-sm text-soft">
          <span className="flex-1">
            Can also be read {other.why}: {other.shown}
            {other.now && `, holds ${other.now}`}
          </span>
          <Button kind="quiet" disabled={disabled} onClick={() => set({ address: other.write })}>
            Take that
          </Button>
        </p>
      ))}
      <Field label="Order" error={error('order')}>
        {(p) => (
          <Choice
            {...p}
            disabled={disabled}
            value={point.order ?? ''}
            onChange={(e) => {
              const { order: _, ...rest } = point;
              onChange(e.target.value ? { ...rest, order: e.target.value } : rest);
            }}
          >
            <option value="">as set</option>
            {ordersOf(type, point.order).map((o) => (
              <option key={o}>{o}</option>
            ))}
          </Choice>
        )}
      </Field>
      {(type === 'text' || type === 'bcd') && number('length', 'Registers')}
      {['bool', 'u16', 'u32', 'u64'].includes(type) && number('bit', 'From bit')}
      {['u16', 'u32', 'u64'].includes(type) && number('bits', 'Number of bits')}
      {number('unit', 'Unit id')}
    </div>
  );
}

const SIGNALS: [string, string, [string, string][]][] = [
  [
    'sine',
    'a sine',
    [
      ['low', 'From'],
      ['high', 'to'],
      ['period_s', 'in seconds'],
    ],
  ],
  [
    'ramp',
    'a ramp',
    [
      ['low', 'From'],
      ['high', 'to'],
      ['period_s', 'in seconds'],
    ],
  ],
  ['steps', 'steps', [['each_s', 'Seconds each']]],
  [
    'walk',
    'a random walk',
    [
      ['low', 'From'],
      ['high', 'to'],
      ['step', 'Most a second'],
    ],
  ],
  ['replay', 'a played table', []],
];
const STARTS: Record<string, object> = {
  sine: { low: 0, high: 100, period_s: 60 },
  ramp: { low: 0, high: 100, period_s: 60 },
  steps: { values: [0, 50, 100], each_s: 15 },
  walk: { low: 0, high: 100, step: 1 },
  replay: { csv: '0;20\n10;35\n20;20' },
};

function SignalFields({ point, onChange, error, disabled }: Props) {
  const own = point as Record<string, unknown>;
  const signal = point.signal ?? '';
  const fields = SIGNALS.find((s) => s[0] === signal)?.[2] ?? [];
  const list = Array.isArray(own.values) ? own.values.join(', ') : '';
  const typed = (text: string) =>
    text
      .split(/[,;\s]+/)
      .filter(Boolean)
      .map((t) => numberOf(t));
  return (
    <div className="grid grid-cols-3 gap-2">
      <Field label="Signal" className="col-span-3" error={error('signal')}>
        {(p) => (
          <Choice
            {...p}
            disabled={disabled}
            value={signal}
            onChange={(e) => onChange({ signal: e.target.value, ...STARTS[e.target.value] })}
          >
            <option value="">choose…</option>
            {SIGNALS.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      {fields.map(([field, label]) => (
        <Field key={`${signal}-${field}`} label={label} error={error(field)}>
          {(p) => (
            <Input
              {...p}
              disabled={disabled}
              defaultValue={textOf(own[field] as number)}
              onChange={(e) => onChange(put(point, field, e.target.value))}
            />
          )}
        </Field>
      ))}
      {signal === 'steps' && (
        <Field label="Values" className="col-span-3" error={error('values')}>
          {(p) => (
            <Input
              {...p}
              disabled={disabled}
              defaultValue={list}
              onChange={(e) => onChange({ ...point, values: typed(e.target.value) } as Partial<Point>)}
            />
          )}
        </Field>
      )}
      {signal === 'replay' && (
        <Field label="Table: time in seconds, value" className="col-span-3" error={error('csv')}>
          {(p) => (
            <textarea
              {...p}
              rows={5}
              disabled={disabled}
              className={`${INPUT} h-auto py-1 font-mono`}
              value={String(own.csv ?? '')}
              onChange={(e) => onChange({ ...point, csv: e.target.value } as Partial<Point>)}
            />
          )}
        </Field>
      )}
    </div>
  );
}

/** Of memory and of values that are pushed. */
function HeldFields({ kind, point, onChange, error, disabled }: Props) {
  return (
    <div className="space-y-2">
      <Field label="Holds" error={error('type')}>
        {(p) => (
          <Choice
            {...p}
            disabled={disabled}
            value={point.type ?? 'number'}
            onChange={(e) => onChange({ ...point, type: e.target.value })}
          >
            <option value="number">a number</option>
            <option value="switch">on or off</option>
            <option value="text">a text</option>
          </Choice>
        )}
      </Field>
      {kind === 'memory' && (
        <Tick
          label="Keep the value after a restart"
          checked={point.keep ?? false}
          disabled={disabled}
          onChange={(on) => onChange({ ...point, keep: on })}
        />
      )}
    </div>
  );
}
