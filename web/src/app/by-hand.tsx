// A value set by hand, in the inspector: set it with a reason and an end, see whose it is, release it.

import { Hand } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../api/client';
import { feed } from '../api/live';
import type { Item } from '../api/model';
import { queries, useHands, useMay } from '../api/queries';
import { complain, useForm } from '../parts/form';
import { useReading } from '../parts/reading';
import { moment } from '../parts/text';
import { Button, Choice, Field, FormTrouble, Input, Tick } from '../parts/ui';
import { givenValue, ValueField } from '../parts/value-field';

type HandView = Schemas['HandView'];

/** When a value set by hand ends, counted from when it is set. */
const ENDS = [
  ['900', 'in 15 minutes'],
  ['3600', 'in an hour'],
  ['28800', 'in eight hours'],
  ['86400', 'in a day'],
  ['604800', 'in a week'],
  ['at', 'at a time …'],
  ['', 'when released'],
] as const;

export function refreshHands() {
  return queries.invalidateQueries({ queryKey: ['hands'] });
}

/** Lets the source of a tag speak again. */
export async function release(tag: string) {
  try {
    await take(http.DELETE('/api/tags/{id}/by-hand', { params: { path: { id: tag } } }));
  } catch (error) {
    complain(error);
  }
  await refreshHands();
}

/** How a value set by hand ends, in words. */
export function endOf(hand: HandView): string {
  const end = hand.until ? `ends ${moment(hand.until)}` : 'until released';
  return `${end}, ${hand.keeps ? 'kept after a restart' : 'or at a restart'}`;
}

export function ByHand({ tag }: { tag: Item<'tag'> }) {
  const hand = useHands().data?.find((h) => h.tag === tag.id);
  const operator = useMay('operator');
  const [open, setOpen] = useState(false);
  if (open) return <HandForm tag={tag} hand={hand} onClose={() => setOpen(false)} />;
  if (!hand) {
    return (
      <Button disabled={!operator} title={operator ? undefined : 'Needs the role operator'} onClick={() => setOpen(true)}>
        <Hand className="size-4" /> Set by hand…
      </Button>
    );
  }
  return (
    <section aria-label="Set by hand" className="w-full rounded border border-firm bg-band p-2.5">
      <p className="font-semibold">
        ✎ Set by hand to <span className="figures">{hand.shown}</span>
      </p>
      <p>{hand.reason}</p>
      <p className="text-sm text-soft">
        {hand.owner}, {moment(hand.since)}; {endOf(hand)}. The value from the source is ignored until then.
      </p>
      {operator && (
        <div className="mt-2 flex gap-2">
          <Button kind="main" onClick={() => void release(tag.id)}>
            Release
          </Button>
          <Button onClick={() => setOpen(true)}>Change…</Button>
        </div>
      )}
    </section>
  );
}

function HandForm({ tag, hand, onClose }: { tag: Item<'tag'>; hand: HandView | undefined; onClose: () => void }) {
  const reading = useReading(tag.set, true);
  const form = useForm(
    {
      value: hand ? reading.print(hand.value) : '',
      reason: hand?.reason ?? '',
      end: '3600',
      until: '',
      keeps: hand?.keeps ?? false,
    },
    undefined,
    { draft: `by hand ${tag.id}` },
  );
  const v = form.values;
  const save = () =>
    form
      .run(async () => {
        const after = v.end === 'at' ? Date.parse(v.until) : v.end ? feed.time() + Number(v.end) * 1000 : undefined;
        const body = {
          value: givenValue(tag, v.value) as unknown as Record<string, never>,
          reason: v.reason,
          ...(after === undefined ? {} : { until: Number.isNaN(after) ? v.until : new Date(after).toISOString() }),
          keeps: v.keeps,
        };
        await take(http.PUT('/api/tags/{id}/by-hand', { params: { path: { id: tag.id } }, body }));
        await refreshHands();
      })
      .then((done) => done && onClose());
  return (
    <form
      aria-label="Set by hand"
      className="w-full space-y-2 rounded border border-teal p-2.5"
      onKeyDown={(e) => {
        if (e.key !== 'Escape') return;
        e.stopPropagation();
        onClose();
      }}
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <p className="text-sm text-soft">
        Havrel uses this value instead of the one from the source: for alarms, in history, for everybody. Nothing is written to
        the device.
      </p>
      <ValueField
        tag={tag}
        label="Value"
        value={v.value}
        onChange={(next) => form.set('value', next)}
        error={form.error('value')}
        focus
      />
      <Field label="Reason" error={form.error('reason')}>
        {(p) => <Input {...p} value={v.reason} onChange={(e) => form.set('reason', e.target.value)} />}
      </Field>
      <Field label="Ends" error={form.error('until')}>
        {(p) => (
          <Choice {...p} value={v.end} onChange={(e) => form.set('end', e.target.value)}>
            {ENDS.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      {v.end === 'at' && (
        <Input type="datetime-local" aria-label="Ends at" value={v.until} onChange={(e) => form.set('until', e.target.value)} />
      )}
      <Tick label="Keep after a restart of Havrel" checked={v.keeps} onChange={(on) => form.set('keeps', on)} />
      <FormTrouble form={form} />
      <div className="flex gap-2">
        <Button
          kind="main"
          type="submit"
          disabled={form.busy || !v.value.trim() || !v.reason.trim() || (v.end === 'at' && !v.until)}
        >
          Set by hand
        </Button>
        <Button
          kind="quiet"
          onClick={() => {
            form.discard();
            onClose();
          }}
        >
          Cancel
        </Button>
      </div>
    </form>
  );
}
