// When a dispatch makes its report.

import type { Form } from '../../parts/form';
import { TriggerField } from '../../parts/trigger-field';
import { Choice, Field, Input, Tick } from '../../parts/ui';
import { type Way, WayField } from '../../parts/way-field';
import { cronOf, DAYS, type DispatchValues, type Preset, presetOf } from './dispatch';

const WAYS: readonly Way<DispatchValues['on']>[] = [
  {
    on: 'schedule',
    title: 'by the clock',
    words:
      'By the time zone of the report. A time that the clocks leave out comes when they go on; one that they show twice counts once.',
  },
  { on: 'shift', title: 'when a shift ends', words: 'At the end of each shift that somebody works, by the shift pattern.' },
  {
    on: 'event',
    title: 'at an event',
    words:
      'Each time the condition turns: one report for each, with the values of that instant, also of tags that are not recorded.',
  },
  { on: 'hand', title: 'when somebody says so', words: 'When somebody presses Send now, or a program asks for it.' },
];

const EVERY: readonly { every: Preset['every']; title: string }[] = [
  { every: 'hour', title: 'hour' },
  { every: 'day', title: 'day' },
  { every: 'week', title: 'week' },
  { every: 'month', title: 'month' },
  { every: 'cron', title: 'line of cron' },
];

interface Props {
  form: Form<DispatchValues>;
  disabled: boolean;
  /** What a line of cron says, as the server reads it. */
  words: string;
  problem: (field: string) => string | undefined;
}

export function WhenPart({ form, disabled, words, problem }: Props) {
  const v = form.values;
  return (
    <div className="space-y-2">
      <WayField label="It makes the report" ways={WAYS} value={v.on} onPick={(on) => form.set('on', on)} />
      {v.on === 'schedule' && <Clock form={form} words={words} problem={problem} />}
      {(v.on === 'schedule' || v.on === 'shift') && (
        <Field label="What was due while Havrel did not run" className="w-72">
          {(p) => (
            <Choice {...p} value={v.missed} onChange={(e) => form.set('missed', e.target.value as DispatchValues['missed'])}>
              <option value="all">is made afterwards, up to 100</option>
              <option value="last">only the last one is made</option>
              <option value="none">is left out</option>
            </Choice>
          )}
        </Field>
      )}
      {v.on === 'event' && (
        <TriggerField
          text={v.trigger}
          edge={v.edge}
          onText={(text) => form.set('trigger', text)}
          onEdge={(edge) => form.set('edge', edge)}
          disabled={disabled}
          error={form.error('trigger', 'trigger.text') ?? (v.trigger.trim() ? undefined : problem('trigger'))}
        />
      )}
    </div>
  );
}

function Clock({ form, words, problem }: Omit<Props, 'disabled'>) {
  const { cron } = form.values;
  const preset = presetOf(cron);
  const choose = (next: Preset) => {
    const line = cronOf(next);
    if (line) form.set('cron', line);
  };
  const time = 'time' in preset ? preset.time : '06:00';
  const at = (time: string) => choose({ ...preset, time } as Preset);
  // What nobody can choose is written as a line; what is chosen can be written on as one.
  const first: Record<Preset['every'], () => void> = {
    hour: () => choose({ every: 'hour', minute: 0 }),
    day: () => choose({ every: 'day', time }),
    week: () => choose({ every: 'week', time, days: [1] }),
    month: () => choose({ every: 'month', time, day: 1 }),
    cron: () => form.set('cron', '*/15 6-18 * * 1-5'),
  };
  return (
    <div className="space-y-2">
      <div className="flex flex-wrap items-start gap-3">
        <Field label="Every" className="w-36">
          {(p) => (
            <Choice {...p} value={preset.every} onChange={(e) => first[e.target.value as Preset['every']]()}>
              {EVERY.map(({ every, title }) => (
                <option key={every} value={every}>
                  {title}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        {preset.every === 'hour' && (
          <Field label="At minute" className="w-24">
            {(p) => (
              <Input
                {...p}
                type="number"
                min={0}
                max={59}
                className="figures text-right"
                value={preset.minute}
                onChange={(e) => choose({ every: 'hour', minute: Math.min(59, Math.max(0, Number(e.target.value) || 0)) })}
              />
            )}
          </Field>
        )}
        {preset.every === 'month' && (
          <Field label="On day" className="w-20">
            {(p) => (
              <Input
                {...p}
                type="number"
                min={1}
                max={31}
                className="figures text-right"
                value={preset.day}
                onChange={(e) => choose({ ...preset, day: Math.min(31, Math.max(1, Number(e.target.value) || 1)) })}
              />
            )}
          </Field>
        )}
        {'time' in preset && (
          <div className="flex items-end gap-1">
            <Part label="At" name="Hour" most={24} value={time.slice(0, 2)} onPick={(hour) => at(`${hour}:${time.slice(3)}`)} />
            <span aria-hidden className="pb-1">
              :
            </span>
            <Part name="Minute" most={60} value={time.slice(3)} onPick={(minute) => at(`${time.slice(0, 2)}:${minute}`)} />
          </div>
        )}
        <Field
          label="Line of cron"
          error={problem('when.cron')}
          hint={preset.every === 'cron' ? words : undefined}
          className="w-56"
        >
          {(p) => <Input {...p} className="figures" value={cron} onChange={(e) => form.set('cron', e.target.value)} />}
        </Field>
      </div>
      {preset.every === 'week' && (
        <fieldset>
          <legend className="mb-0.5 text-sm text-soft">On</legend>
          <div className="flex flex-wrap gap-x-4">
            {DAYS.map((name, i) => (
              <Tick
                key={name}
                label={name}
                checked={preset.days.includes(i + 1)}
                disabled={preset.days.length === 1 && preset.days[0] === i + 1}
                onChange={(on) =>
                  choose({ ...preset, days: on ? [...preset.days, i + 1] : preset.days.filter((day) => day !== i + 1) })
                }
              />
            ))}
          </div>
        </fieldset>
      )}
    </div>
  );
}

/** The hour or the minute of a time. */
function Part({
  label = '\u00a0',
  name,
  most,
  value,
  onPick,
}: {
  label?: string;
  name: string;
  most: number;
  value: string;
  onPick: (value: string) => void;
}) {
  return (
    <div>
      <span aria-hidden className="mb-0.5 block text-sm text-soft">
        {label}
      </span>
      <Choice aria-label={name} className="figures w-16" value={value} onChange={(e) => onPick(e.target.value)}>
        {Array.from({ length: most }, (_, n) => String(n).padStart(2, '0')).map((one) => (
          <option key={one}>{one}</option>
        ))}
      </Choice>
    </div>
  );
}
