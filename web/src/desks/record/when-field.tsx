// When a recorder records.

import type { Form } from '../../parts/form';
import { TriggerField } from '../../parts/trigger-field';
import { Choice, Field, Input, Tick } from '../../parts/ui';
import { type Way, WayField } from '../../parts/way-field';
import { type RecorderValues, type SpanUnit, TRACKS } from './recorder';

const WAYS: readonly Way<RecorderValues['on']>[] = [
  {
    on: 'interval',
    title: 'in a rhythm',
    words:
      'Aligned to the clock: every minute means at the full minute. What it keeps of a span is worked out from every value that came.',
  },
  { on: 'change', title: 'when a value changes', words: 'Each value that differs from the one stored last, with its own time.' },
  { on: 'event', title: 'at an event', words: 'A row of all its values as of that instant, each time the condition turns.' },
  {
    on: 'hand',
    title: 'when somebody says so',
    words: 'A row of all its values, when somebody presses Take row or a program asks for it.',
  },
];

export function WhenField({ form, disabled }: { form: Form<RecorderValues>; disabled: boolean }) {
  const v = form.values;
  return (
    <div className="space-y-2">
      <WayField label="It records" ways={WAYS} value={v.on} onPick={(on) => form.set('on', on)} />
      {v.on === 'interval' && <Rhythm form={form} />}
      {v.on === 'change' && <Deadband form={form} />}
      {v.on === 'event' && (
        <TriggerField
          text={v.trigger}
          edge={v.edge}
          onText={(text) => form.set('trigger', text)}
          onEdge={(edge) => form.set('edge', edge)}
          disabled={disabled}
          error={form.error('trigger', 'trigger.text')}
        />
      )}
    </div>
  );
}

function Span({
  form,
  label,
  field,
  unit,
  error,
}: {
  form: Form<RecorderValues>;
  label: string;
  field: 'every' | 'offset';
  unit: 'everyUnit' | 'offsetUnit';
  error: string | undefined;
}) {
  return (
    <Field label={label} error={error} className="w-44">
      {(p) => (
        <span className="flex gap-1">
          <Input
            {...p}
            className="figures w-20 text-right"
            inputMode="decimal"
            value={form.values[field]}
            onChange={(e) => form.set(field, e.target.value)}
          />
          <Choice
            aria-label={`Unit of ${label.toLowerCase()}`}
            className="w-20"
            value={form.values[unit]}
            onChange={(e) => form.set(unit, e.target.value as SpanUnit)}
          >
            {(['ms', 's', 'min', 'h'] as const).map((one) => (
              <option key={one}>{one}</option>
            ))}
          </Choice>
        </span>
      )}
    </Field>
  );
}

function Rhythm({ form }: { form: Form<RecorderValues> }) {
  const { keep } = form.values;
  return (
    <>
      <div className="flex flex-wrap items-start gap-4">
        <Span form={form} label="Every" field="every" unit="everyUnit" error={form.error('when.every_ms')} />
        <Span form={form} label="After the full span" field="offset" unit="offsetUnit" error={form.error('when.offset_ms')} />
      </div>
      <fieldset>
        <legend className="mb-0.5 text-sm text-soft">It keeps of each span</legend>
        <div className="flex flex-wrap gap-x-4 gap-y-1">
          {TRACKS.map(({ track, title, hint }) => (
            <span key={track} title={hint}>
              <Tick
                label={title}
                checked={keep.includes(track)}
                onChange={(on) => form.set('keep', on ? [...keep, track] : keep.filter((one) => one !== track))}
              />
            </span>
          ))}
        </div>
        {form.error('when.keep') && <p className="text-sm text-act4">{form.error('when.keep')}</p>}
      </fieldset>
    </>
  );
}

function Deadband({ form }: { form: Form<RecorderValues> }) {
  return (
    <div className="flex flex-wrap items-start gap-3">
      <Field label="By more than" error={form.error('when.deadband')} className="w-28">
        {(p) => (
          <Input
            {...p}
            className="figures text-right"
            inputMode="decimal"
            value={form.values.deadband}
            onChange={(e) => form.set('deadband', e.target.value)}
          />
        )}
      </Field>
      <Field label="in" className="w-48">
        {(p) => (
          <Choice
            {...p}
            value={form.values.percent ? 'percent' : 'unit'}
            onChange={(e) => form.set('percent', e.target.value === 'percent')}
          >
            <option value="unit">the unit of each tag</option>
            <option value="percent">% of the range of each tag</option>
          </Choice>
        )}
      </Field>
    </div>
  );
}
