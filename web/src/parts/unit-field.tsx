// Where an engineering unit is typed: the list is offered by symbol, code and name, and any other text is taken too.

import { type ComponentProps, useId } from 'react';
import { useWorld } from './reading';
import { Input } from './ui';

interface Props extends Omit<ComponentProps<'input'>, 'onChange' | 'value'> {
  value: string;
  onChange: (unit: string) => void;
}

export function UnitField({ value, onChange, ...rest }: Props) {
  const { units } = useWorld();
  const list = useId();
  const known = units.get(value.trim());
  return (
    <>
      <Input
        {...rest}
        list={list}
        value={value}
        title={known ? `${known.name} · UCUM ${known.ucum}` : value ? 'Not in the list of units: it cannot be converted.' : ''}
        onChange={(e) => onChange(e.target.value)}
        // What was typed as a code is the unit it stands for.
        onBlur={() => known && known.symbol !== value && onChange(known.symbol)}
      />
      <datalist id={list}>
        {[...new Set(units.values())].map((u) => (
          <option key={u.symbol} value={u.symbol}>
            {`${u.name} · ${u.ucum}`}
          </option>
        ))}
      </datalist>
    </>
  );
}
