// Where chosen registers become tags: names, types, units, the place; all of them in one undoable change.

import { X } from 'lucide-react';
import { toast } from 'sonner';
import type { Item } from '../../api/model';
import { commit, useItems } from '../../api/queries';
import { useGo } from '../../app/router';
import { TYPES, usePointCheck } from '../../app/tag-settings';
import { useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Field, Input } from '../../parts/ui';
import { type Candidate, placeEdits, tagEdits } from './candidates';

interface Props {
  connection: Item<'connection'>;
  seen: number;
  rows: Candidate[];
  onChange: (rows: Candidate[]) => void;
  disabled: boolean;
}

export function Intake({ connection, seen, rows, onChange, disabled }: Props) {
  const go = useGo();
  const places = useItems('place');
  const form = useForm({ place: '' }, ['place']);
  const made = placeEdits(form.values.place, places.data?.items ?? []);
  const existing = made.edits.length === 0 && made.place ? made.place : undefined;
  const tags = useItems('tag', { under: existing }, existing !== undefined);
  const here = existing ? (tags.data?.items ?? []).filter((t) => t.set.place === existing) : [];
  const unnamed = rows.filter((r) => !r.name.trim()).length;
  const names = rows.map((r) => r.name.trim()).filter(Boolean);
  const taken = new Set(here.map((t) => t.set.name));
  const clash = names.find((n, i) => taken.has(n) || names.indexOf(n) !== i);
  // The places to make come first among the edits.
  const wrong = (index: number) => form.problems.find((p) => p.edit === index + made.edits.length && p.field !== 'place');
  const set = (index: number, change: Partial<Candidate>) =>
    onChange(rows.map((r, i) => (i === index ? { ...r, ...change } : r)));

  async function create() {
    const done = await form.run(async () => {
      const order = Math.max(0, ...here.map((t) => t.set.order + 1));
      await commit(`Created ${counted(rows.length, 'tag')} at ${form.values.place}`, seen, [
        ...made.edits,
        ...tagEdits(rows, made.place, connection.id, order),
      ]);
    });
    if (!done) return;
    toast.success(`Created ${counted(rows.length, 'tag')} at ${form.values.place}.`);
    onChange([]);
    go({ at: made.place }, '/board');
  }

  const hint =
    made.edits.length > 0 ? `new: ${made.edits.map((e) => (e.op === 'create' ? e.set.name : '')).join(' / ')}` : 'existing place';
  const reason =
    unnamed > 0
      ? `${counted(unnamed, 'row')} without a name`
      : clash
        ? `the name “${clash}” is taken or used twice`
        : !made.place
          ? 'no place chosen'
          : '';
  return (
    <form
      aria-label="Tags to be"
      className="mb-3 rounded border border-teal bg-raised p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void create();
      }}
    >
      <div className="mb-2 flex flex-wrap items-start gap-3">
        <h3 className="flex-1 text-[1rem] font-semibold">{counted(rows.length, 'tag')} to be</h3>
        <Field
          label="Place"
          error={form.error('place')}
          hint={form.values.place ? hint : 'path, such as Works / Extraction / EX-1'}
          className="w-80"
        >
          {(p) => (
            <>
              <Input {...p} list="places" value={form.values.place} onChange={(e) => form.set('place', e.target.value)} />
              <datalist id="places">
                {places.data?.items.map((place) => (
                  <option key={place.id} value={place.title.replaceAll('/', ' / ')} />
                ))}
              </datalist>
            </>
          )}
        </Field>
        <Button kind="main" type="submit" className="mt-5" disabled={disabled || form.busy || Boolean(reason)}>
          Create {counted(rows.length, 'tag')}
        </Button>
      </div>
      <p aria-live="polite" className="mb-1 text-sm text-soft">
        {reason && `Not yet: ${reason}.`}
      </p>
      {form.other && !rows.some((_, i) => wrong(i)) && (
        <p role="alert" className="mb-2 text-act4">
          {form.other}
        </p>
      )}
      <div className="max-h-72 overflow-auto border border-line">
        <table className="w-full text-left">
          <thead className="sticky top-0 z-10 bg-band text-sm">
            <tr className="h-7">
              <th className="px-2 font-semibold">Address</th>
              <th className="px-1 font-semibold">On the wire</th>
              <th className="w-24 px-1 font-semibold">Type</th>
              <th className="px-1 font-semibold">Name</th>
              <th className="w-20 px-1 font-semibold">Unit</th>
              <th className="w-20 px-1 font-semibold">Factor</th>
              <th className="w-8" aria-label="Leave out" />
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => (
              <tr key={`${row.address}-${row.type}`} className="border-t border-line">
                <td className="figures px-2">{row.address}</td>
                <td className="px-1">
                  <Wire connection={connection.id} row={row} />
                </td>
                <td className="px-1 py-0.5">
                  <Choice
                    aria-label={`Type of ${row.address}`}
                    value={row.type}
                    onChange={(e) => set(i, { type: e.target.value })}
                  >
                    {TYPES.map((t) => (
                      <option key={t}>{t}</option>
                    ))}
                  </Choice>
                </td>
                <td className="px-1">
                  <Input
                    aria-label={`Name of ${row.address}`}
                    value={row.name}
                    aria-invalid={Boolean(wrong(i))}
                    onChange={(e) => set(i, { name: e.target.value })}
                  />
                  {wrong(i) && <p className="text-sm text-act4">{wrong(i)?.message}</p>}
                </td>
                <td className="px-1">
                  <Input
                    aria-label={`Unit of ${row.address}`}
                    value={row.unit}
                    onChange={(e) => set(i, { unit: e.target.value })}
                  />
                </td>
                <td className="px-1">
                  <Input
                    aria-label={`Factor of ${row.address}`}
                    className="figures text-right"
                    placeholder="1"
                    value={row.factor}
                    onChange={(e) => set(i, { factor: e.target.value.replace(',', '.') })}
                  />
                </td>
                <td>
                  <button
                    type="button"
                    className="rounded p-1 hover:bg-band"
                    aria-label={`Leave out ${row.address}`}
                    onClick={() => onChange(rows.filter((_, n) => n !== i))}
                  >
                    <X className="size-3.5" />
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </form>
  );
}

function Wire({ connection, row }: { connection: string; row: Candidate }) {
  const check = usePointCheck(connection, {
    address: row.address,
    type: row.type,
    ...(row.type === 'text' ? { length: row.length } : {}),
  });
  const wrong = check.data?.wrong[0]?.[1];
  return wrong ? (
    <span className="text-sm text-act4">{wrong}</span>
  ) : (
    <span className="figures text-soft">{check.data?.shown.split(',')[0] ?? ''}</span>
  );
}
