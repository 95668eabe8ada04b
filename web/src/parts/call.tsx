// Calling the method behind a tag: a field for each argument, a question, and what the method gave.

import { useState } from 'react';
import { http, take } from '../api/client';
import type { Item } from '../api/model';
import { useMay } from '../api/queries';
import { numberOf, useForm } from './form';
import { isLarge } from './reading';
import { Button, Choice, Confirm, Field, Input } from './ui';

/** Why somebody cannot write. */
export const blockedBy = (operator: boolean, writing: boolean | undefined) =>
  !operator ? 'Writing needs the role operator.' : !writing ? 'Writing is switched off for this connection.' : undefined;

/** What a method takes. */
export interface Argument {
  name: string;
  type: string;
}

/** Reads arguments in words, as the driver writes them: `From: UInt32, Name: String`. */
export const argumentsOf = (words: string | undefined): Argument[] =>
  (words ?? '')
    .split(',')
    .filter((one) => one.trim())
    .map((one) => {
      const [name = '', type = ''] = one.split(':');
      return { name: name.trim(), type: type.trim() };
    });

const TEXTS = /^(String|LocalizedText|DateTime|Guid|XmlElement)$/;
const NUMBERS = /^(SByte|Byte|U?Int(16|32|64)|Float|Double|Number|Integer|UInteger|Duration)$/;

/** The value of an argument, or what is wrong with it. */
export function argumentValue({ type }: Argument, text: string): { value: number | boolean | string } | { wrong: string } {
  if (type === 'Boolean') return text ? { value: text === 'on' } : { wrong: 'Choose on or off.' };
  if (TEXTS.test(type)) return { value: text };
  // A number of more digits than JavaScript holds travels as it was typed.
  if (isLarge(text.trim())) return { value: text.trim() };
  const number = numberOf(text);
  if (typeof number === 'number' && Number.isFinite(number)) return { value: number };
  // What a type of the device's own takes, the device knows.
  return NUMBERS.test(type) ? { wrong: 'Type a number.' } : { value: text };
}

/** What is sent for all arguments together: nothing that counts, the one value, or a list. */
export const sentFor = (values: readonly (number | boolean | string)[]) =>
  values.length === 0 ? true : values.length === 1 ? (values[0] as number | boolean | string) : JSON.stringify(values);

export function CallRow({ tag, writing }: { tag: Item<'tag'>; writing: boolean | undefined }) {
  const operator = useMay('operator');
  const taken = argumentsOf(tag.set.point.arguments);
  const empty = Object.fromEntries(taken.map((_, i) => [i, '']));
  const form = useForm<Record<string, string>>(empty, ['value']);
  const [wrong, setWrong] = useState<ReadonlyMap<number, string>>(new Map());
  const [asked, setAsked] = useState<number | boolean | string | null>(null);
  const [gave, setGave] = useState<string | null>(null);
  const blocked = blockedBy(operator, writing);

  function ask() {
    const all = taken.map((argument, i) => argumentValue(argument, form.values[i] ?? ''));
    setWrong(new Map(all.flatMap((one, i) => ('wrong' in one ? [[i, one.wrong] as const] : []))));
    setGave(null);
    const values = all.flatMap((one) => ('value' in one ? [one.value] : []));
    if (values.length === all.length) setAsked(sentFor(values));
  }

  async function call() {
    const done = await form.run(async () => {
      const body = { value: asked as unknown as Record<string, never> };
      const answer = await take(http.POST('/api/tags/{id}/write', { params: { path: { id: tag.id } }, body }));
      setGave(String(answer.value));
    });
    setAsked(null);
    if (done) form.reset(empty);
  }

  const given = taken.map(({ name }, i) => `${name} ${form.values[i] ?? ''}`.trim()).join(', ');
  return (
    <div>
      <form
        className="flex flex-wrap items-end gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          ask();
        }}
      >
        {taken.map((argument, i) => (
          <Field key={argument.name} label={`${argument.name} (${argument.type})`} error={wrong.get(i)} className="flex-1">
            {(p) =>
              argument.type === 'Boolean' ? (
                <Choice
                  {...p}
                  disabled={Boolean(blocked)}
                  value={form.values[i] ?? ''}
                  onChange={(e) => form.set(String(i), e.target.value)}
                >
                  <option value="">choose …</option>
                  <option value="on">on</option>
                  <option value="off">off</option>
                </Choice>
              ) : (
                <Input
                  {...p}
                  disabled={Boolean(blocked)}
                  value={form.values[i] ?? ''}
                  onChange={(e) => form.set(String(i), e.target.value)}
                />
              )
            }
          </Field>
        ))}
        <Button type="submit" className="mb-0.5" disabled={Boolean(blocked)}>
          Call…
        </Button>
      </form>
      {(form.error('value') ?? form.other) && <p className="mt-0.5 text-sm text-act4">{form.error('value') ?? form.other}</p>}
      {blocked && <p className="mt-0.5 text-sm text-soft">{blocked}</p>}
      {gave !== null && (
        <p role="status" className="mt-0.5 text-sm text-teal">
          Called; the answer is <span className="figures">{gave}</span>.
        </p>
      )}
      <Confirm
        open={asked !== null}
        title={`Call ${tag.set.name}${given ? ` with ${given}` : ''}?`}
        action="Call it"
        grave={false}
        disabled={form.busy}
        onConfirm={() => void call()}
        onClose={() => setAsked(null)}
      >
        <p>{tag.title}: the device does it at once. The call is not repeated by itself if no answer comes.</p>
      </Confirm>
    </div>
  );
}
