// What a member of a layout seldom needs, under its row.

import { ScalingField } from '../../../parts/scaling-field';
import { StatesField } from '../../../parts/states-field';
import { Field, Input } from '../../../parts/ui';
import { factorOf, type Row } from './layout-rows';

interface Props {
  row: Row;
  disabled: boolean;
  onChange: (part: Partial<Row>) => void;
}

export function MemberMore({ row, disabled, onChange }: Props) {
  const text = (field: 'bits' | 'low' | 'high', label: string, hint?: string) => (
    <Field label={label} hint={hint}>
      {(p) => (
        <Input
          {...p}
          className="figures"
          disabled={disabled}
          value={row[field]}
          onChange={(e) => onChange({ [field]: e.target.value })}
        />
      )}
    </Field>
  );
  return (
    <section
      aria-label={`More of ${row.name || 'the new member'}`}
      className="mb-2 ml-1 grid grid-cols-[26rem_1fr] gap-x-8 gap-y-2 border-l-2 border-teal py-1 pl-3"
    >
      <ScalingField
        value={row.scaling}
        disabled={disabled}
        onChange={(scaling) => onChange({ scaling, factor: factorOf(scaling) })}
      />
      <div className="grid max-w-lg grid-cols-3 gap-2 self-start">
        {text('low', 'Range from')}
        {text('high', 'to')}
        {['u16', 'u32', 'u64'].includes(row.type) && text('bits', 'Number of bits', 'from its bit on')}
        <Field label="State names" className="col-span-2">
          {(p) => <StatesField {...p} disabled={disabled} value={row.states} onChange={(states) => onChange({ states })} />}
        </Field>
      </div>
    </section>
  );
}
