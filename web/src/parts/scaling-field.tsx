// How raw counts become a value.

import type { Scaling } from '../api/model';
import { numberOf } from './form';
import { Choice, Field, Input, Tick } from './ui';

export function ScalingField({
  value,
  onChange,
  disabled,
  error,
}: {
  value: Scaling | null;
  onChange: (s: Scaling | null) => void;
  disabled: boolean;
  error?: string | undefined;
}) {
  const fields = [
    ['raw_low', 'Raw'],
    ['low', 'reads'],
    ['raw_high', 'Raw'],
    ['high', 'reads'],
  ] as const;
  return (
    <div>
      <Tick
        label="Scale from raw counts"
        checked={value !== null}
        disabled={disabled}
        onChange={(on) => onChange(on ? { raw_low: 0, raw_high: 1000, low: 0, high: 100 } : null)}
      />
      {value && (
        <Choice
          aria-label="Curve"
          className="mt-1"
          disabled={disabled}
          value={value.curve ?? 'linear'}
          onChange={(e) => onChange({ ...value, curve: e.target.value as 'linear' | 'root' })}
        >
          <option value="linear">straight line</option>
          <option value="root">square root, as flow from pressure</option>
        </Choice>
      )}
      {value && (
        <Tick
          label="Clamp to these ends and mark uncertain"
          checked={value.clamp ?? false}
          disabled={disabled}
          onChange={(on) => onChange({ ...value, clamp: on })}
        />
      )}
      {value && (
        <div className="mt-1 grid grid-cols-4 gap-2">
          {fields.map(([field, label], i) => (
            <Field key={field} label={label}>
              {(p) => (
                <Input
                  {...p}
                  aria-label={`${label} ${i < 2 ? 'low' : 'high'}`}
                  disabled={disabled}
                  defaultValue={value[field]}
                  onChange={(e) => onChange({ ...value, [field]: numberOf(e.target.value) as number })}
                />
              )}
            </Field>
          ))}
        </div>
      )}
      {error && <p className="text-sm text-act4">{error}</p>}
    </div>
  );
}
