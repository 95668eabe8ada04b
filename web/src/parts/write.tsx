// Writing a value to the device: range check, confirm, read-back.

import { useState } from 'react';
import { http, take } from '../api/client';
import { useValue } from '../api/live';
import type { ConnectionSet, Item } from '../api/model';
import { useMay } from '../api/queries';
import { blockedBy, CallRow } from './call';
import { useForm } from './form';
import { useWriting } from './kinds';
import { numberIn, useReading } from './reading';
import { Button, Confirm } from './ui';
import { givenValue, isSwitch, ValueField } from './value-field';

/** What is wrong with a value before it goes anywhere, in words. */
export function outOfRange(value: unknown, { set, holds }: Pick<Item<'tag'>, 'set' | 'holds'>): string | undefined {
  if (holds === 'text') return undefined;
  // The name of a state: the server knows its number.
  if (typeof value === 'string' && set.states) return undefined;
  const number = numberIn(value);
  if (number === undefined) return 'Type a number.';
  const [low, high] = [set.write_low ?? set.range_low, set.write_high ?? set.range_high];
  if ((low !== null && number < low) || (high !== null && number > high)) {
    return `It must lie between ${low ?? '–∞'} and ${high ?? '∞'} ${set.unit}.`;
  }
  return undefined;
}

/** The same for a tag of a connection; a tag whose writing calls a method asks for what the method takes. */
export function WriteTo({ tag, connection }: { tag: Item<'tag'>; connection: ConnectionSet | undefined }) {
  const writing = useWriting(connection);
  return tag.set.point.method ? <CallRow tag={tag} writing={writing} /> : <WriteRow tag={tag} writing={writing} />;
}

export function WriteRow({ tag, writing }: { tag: Item<'tag'>; writing: boolean | undefined }) {
  const operator = useMay('operator');
  const now = useValue(tag.no);
  const form = useForm({ value: '' }, ['value']);
  const [asked, setAsked] = useState<number | boolean | string | null>(null);
  const [held, setHeld] = useState<string | null>(null);
  const [wrong, setWrong] = useState<string | undefined>();
  const reading = useReading(tag.set, true);
  const plainSwitch = isSwitch(tag) && !reading.names;
  // What is asked for and what the device holds are shown with every digit, never rounded.
  const print = (value: unknown) => {
    const usual = reading.print(value);
    const exact = typeof value !== 'number' || reading.names?.has(value) || Number(usual) === value;
    return `${exact ? usual : value} ${tag.set.unit}`.trim();
  };
  const question = (value: unknown) =>
    typeof value === 'boolean' ? `Switch ${tag.set.name} ${value ? 'on' : 'off'}?` : `Write ${print(value)} to ${tag.set.name}?`;

  function ask() {
    const value = givenValue(tag, form.values.value);
    const problem = outOfRange(value, tag);
    setWrong(problem);
    setHeld(null);
    if (!problem) setAsked(value);
  }

  async function write() {
    const done = await form.run(async () => {
      const body = { value: asked as unknown as Record<string, never> };
      const answer = await take(http.POST('/api/tags/{id}/write', { params: { path: { id: tag.id } }, body }));
      setHeld(print(answer.value));
    });
    setAsked(null);
    if (done) form.reset({ value: '' });
  }

  const blocked = blockedBy(operator, writing);
  return (
    <div>
      {plainSwitch ? (
        <div className="flex items-center gap-2">
          <span className="text-soft">Switch</span>
          <Button disabled={Boolean(blocked)} onClick={() => setAsked(true)}>
            On
          </Button>
          <Button disabled={Boolean(blocked)} onClick={() => setAsked(false)}>
            Off
          </Button>
          {(form.error('value') ?? form.other) && <span className="text-sm text-act4">{form.error('value') ?? form.other}</span>}
        </div>
      ) : (
        <form
          className="flex items-end gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            ask();
          }}
        >
          <ValueField
            tag={tag}
            label="New value"
            value={form.values.value}
            onChange={(next) => form.set('value', next)}
            error={wrong ?? form.error('value') ?? form.other}
            disabled={Boolean(blocked)}
            className="flex-1"
          />
          <Button type="submit" className="mb-0.5" disabled={Boolean(blocked) || !form.values.value.trim()}>
            Write…
          </Button>
        </form>
      )}
      {blocked && <p className="mt-0.5 text-sm text-soft">{blocked}</p>}
      {held && (
        <p role="status" className="mt-0.5 text-sm text-teal">
          Written; the device now holds {held}.
        </p>
      )}
      <Confirm
        open={asked !== null}
        title={question(asked)}
        action={typeof asked === 'boolean' ? `Switch ${asked ? 'on' : 'off'}` : `Write ${print(asked)}`}
        grave={false}
        disabled={form.busy}
        onConfirm={() => void write()}
        onClose={() => setAsked(null)}
      >
        <p>
          {tag.title} is now <b className="figures">{print(now?.value)}</b>. The value goes to the device at once and is read
          back.
        </p>
      </Confirm>
    </div>
  );
}
