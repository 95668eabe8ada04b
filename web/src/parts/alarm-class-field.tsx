// The class of a rule’s alarms.

import { useItems } from '../api/queries';
import { ListField } from './picker';
import { Field } from './ui';

interface Props {
  value: string;
  error: string | undefined;
  disabled?: boolean;
  onChange: (id: string) => void;
}

export function AlarmClassField({ value, error, disabled, onChange }: Props) {
  const classes = useItems('alarm_class').data?.items ?? [];
  return (
    <Field label="Alarm class" error={error} className="w-36">
      {(p) => (
        <ListField
          label="Alarm class"
          field={p}
          none="none"
          disabled={disabled}
          value={value}
          from={classes.map((one) => ({ id: one.id, title: one.set.name }))}
          onChange={onChange}
        />
      )}
    </Field>
  );
}
