// Which set of names the whole numbers of a value have.

import { useItems } from '../api/queries';
import { ListField } from './picker';

interface Props {
  id: string;
  'aria-describedby'?: string | undefined;
  'aria-invalid'?: boolean | undefined;
  disabled?: boolean | undefined;
  value: string | null;
  onChange: (id: string | null) => void;
}

export function StatesField({ value, onChange, disabled, ...field }: Props) {
  const sets = useItems('states').data?.items ?? [];
  return (
    <ListField
      label="State names"
      from={sets.map((s) => ({ id: s.id, title: s.set.name }))}
      none="none"
      field={field}
      disabled={disabled}
      value={value ?? ''}
      onChange={(id) => onChange(id || null)}
    />
  );
}
