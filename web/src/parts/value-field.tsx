// Where somebody gives a tag a value: by the name of a state, as on or off, or typed in the tag's own unit.

import { useEffect, useRef } from 'react';
import type { Item } from '../api/model';
import { numberOf } from './form';
import { ListField } from './picker';
import { isLarge, useReading } from './reading';
import { Field, Input } from './ui';

type Tag = Pick<Item<'tag'>, 'set' | 'holds'>;

export const isSwitch = (tag: Tag) => tag.holds === 'bool' || tag.holds === 'switch';

/** What a text in the field stands for; names of states are left to the server, which knows them best. */
export function givenValue(tag: Tag, text: string): number | string | boolean | null {
  if (tag.holds === 'text') return text;
  if (isSwitch(tag) && (text === 'on' || text === 'off')) return text === 'on';
  // A number of more digits than JavaScript holds travels as it was typed.
  return isLarge(text.trim()) ? text.trim() : numberOf(text);
}

interface Props {
  tag: Tag;
  label: string;
  value: string;
  onChange: (value: string) => void;
  error?: string | undefined;
  disabled?: boolean;
  focus?: boolean;
  className?: string;
}

export function ValueField({ tag, label, value, onChange, error, disabled, focus, className }: Props) {
  const { names } = useReading(tag.set, true);
  const words = names ? [...names.values()] : isSwitch(tag) ? ['off', 'on'] : undefined;
  const unit = tag.set.unit && !words ? `, ${tag.set.unit}` : '';
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (focus) input.current?.focus();
  }, [focus]);
  return (
    <Field label={`${label}${unit}`} error={error} {...(className ? { className } : {})}>
      {(p) =>
        words ? (
          <ListField
            label={label}
            from={words.map((word) => ({ id: word, title: word }))}
            none="choose …"
            field={p}
            focus={focus}
            disabled={disabled}
            value={value}
            onChange={onChange}
          />
        ) : (
          <Input
            {...p}
            ref={input}
            className="figures text-right"
            inputMode={tag.holds === 'text' ? 'text' : 'decimal'}
            disabled={disabled}
            value={value}
            onChange={(e) => onChange(e.target.value)}
          />
        )
      }
    </Field>
  );
}
