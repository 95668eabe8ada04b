// Which set of names the whole numbers of a value have.

import type { ComponentProps } from 'react';
import { useItems } from '../api/queries';
import { Choice } from './ui';

interface Props extends Omit<ComponentProps<'select'>, 'value' | 'onChange'> {
  value: string | null;
  onChange: (id: string | null) => void;
}

export function StatesField({ value, onChange, ...rest }: Props) {
  const sets = useItems('states').data?.items ?? [];
  return (
    <Choice {...rest} value={value ?? ''} onChange={(e) => onChange(e.target.value || null)}>
      <option value="">none</option>
      {sets.map((s) => (
        <option key={s.id} value={s.id}>
          {s.set.name}
        </option>
      ))}
    </Choice>
  );
}
