// Times of the week: rows of days with a beginning and an end, by the clocks of a zone.

import { Plus, X } from 'lucide-react';
import type { Hours } from '../api/model';
import { DAYS } from './hours';
import { Button, Field, Input } from './ui';

interface Props {
  /** What they are the times of. */
  label: string;
  hours: Hours;
  onChange: (hours: Hours) => void;
  /** The server’s sentence for a field below `hours`. */
  error: (field: string) => string | undefined;
  disabled?: boolean | undefined;
}

export function HoursField({ label, hours, onChange, error, disabled }: Props) {
  const change = (i: number, part: Partial<Hours['windows'][number]>) =>
    onChange({ ...hours, windows: hours.windows.map((w, n) => (n === i ? { ...w, ...part } : w)) });
  return (
    <fieldset disabled={disabled} className="min-w-0">
      <legend className="mb-0.5 text-sm text-soft">{label}</legend>
      {hours.windows.length === 0 && <p className="mb-1">Always</p>}
      {hours.windows.map((window, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: times have no identity but their place
        <div key={i} className="mb-1.5">
          <div className="flex flex-wrap items-center gap-1">
            {DAYS.map((day) => {
              const on = window.days.includes(day);
              return (
                <button
                  key={day}
                  type="button"
                  aria-pressed={on}
                  aria-label={day}
                  className={`h-7 w-9 rounded border text-sm ${on ? 'border-teal bg-tint font-semibold' : 'border-line bg-raised text-soft'}`}
                  onClick={() => change(i, { days: on ? window.days.filter((d) => d !== day) : [...window.days, day] })}
                >
                  {day.slice(0, 1).toUpperCase() + day.slice(1, 2)}
                </button>
              );
            })}
            {(['from', 'to'] as const).map((end) => (
              <span key={end} className="ml-1 flex items-center gap-1 text-soft">
                {end}
                <Input
                  placeholder="06:00"
                  aria-label={`${end}, time ${i + 1}`}
                  className="figures w-18 text-center"
                  aria-invalid={Boolean(error(`windows[${i}].${end}`))}
                  value={window[end]}
                  onChange={(e) => change(i, { [end]: e.target.value })}
                />
              </span>
            ))}
            <Button
              kind="quiet"
              aria-label={`Delete time ${i + 1}`}
              onClick={() => onChange({ ...hours, windows: hours.windows.filter((_, n) => n !== i) })}
            >
              <X className="size-3.5" />
            </Button>
            {window.to <= window.from && window.to !== '' && <span className="text-sm text-soft">ends on the next day</span>}
          </div>
          {['days', 'from', 'to'].map((field) => {
            const words = error(`windows[${i}].${field}`);
            return (
              words && (
                <p key={field} className="text-sm text-act4">
                  {words}
                </p>
              )
            );
          })}
        </div>
      ))}
      <div className="flex items-end gap-3">
        <Button
          kind="quiet"
          onClick={() => onChange({ ...hours, windows: [...hours.windows, { days: [...DAYS], from: '22:00', to: '06:00' }] })}
        >
          <Plus className="size-4" /> {hours.windows.length === 0 ? 'Only at certain times' : 'Further time'}
        </Button>
        {hours.windows.length > 0 && (
          <Field label="Time zone" error={error('zone')} className="w-48">
            {(p) => <Input {...p} value={hours.zone} onChange={(e) => onChange({ ...hours, zone: e.target.value })} />}
          </Field>
        )}
      </div>
    </fieldset>
  );
}
