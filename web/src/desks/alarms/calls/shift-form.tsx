// A shift pattern: shifts, crews with their people, the rotation day by day, and days on which nobody works.

import { Plus, X } from 'lucide-react';
import { useRef, useState } from 'react';
import { toast } from 'sonner';
import { newId } from '../../../api/client';
import type { Item, ShiftPatternSet } from '../../../api/model';
import { commit, useMay } from '../../../api/queries';
import { useContacts } from '../../../parts/contacts';
import { complain, useForm } from '../../../parts/form';
import { FormEnd } from '../../../parts/form-end';
import { ownZone } from '../../../parts/hours';
import { counted } from '../../../parts/text';
import { Button, Choice, Field, Input } from '../../../parts/ui';
import { daysOffOf } from './days-off';

type Values = Omit<ShiftPatternSet, 'order'>;

/** A new pattern begins with three shifts of one crew each. */
function first(): Values {
  const crews = ['A', 'B', 'C'].map((name) => ({ id: newId(), name: `Crew ${name}`, people: [] as string[] }));
  return {
    name: '',
    zone: ownZone(),
    begins: new Date().toISOString().slice(0, 10),
    shifts: [
      { name: 'Early', from: '06:00', to: '14:00' },
      { name: 'Late', from: '14:00', to: '22:00' },
      { name: 'Night', from: '22:00', to: '06:00' },
    ],
    crews,
    rotation: Array.from({ length: 7 }, () => crews.map((crew) => crew.id)),
    off: [],
  };
}

const FIELDS = ['name', 'zone', 'begins', 'shifts', 'crews', 'rotation', 'off'];

interface Props {
  pattern: Item<'shift_pattern'> | undefined;
  seen: number;
  count: number;
  onClose: () => void;
}

export function ShiftForm({ pattern, seen, count, onClose }: Props) {
  const engineer = useMay('engineer');
  const [start] = useState(first);
  const { order: _, ...own } = pattern?.set ?? { ...start, order: 0 };
  const form = useForm<Values>(own, FIELDS, { follow: true, draft: `shift pattern ${pattern?.id ?? 'new'}` });
  const v = form.values;
  const problem = (field: string) => form.problems.find((p) => p.field === field)?.message;
  const save = async () => {
    const set = { ...v, name: v.name.trim(), ...(pattern ? {} : { order: count }) };
    const edit = pattern
      ? ({ op: 'patch', kind: 'shift_pattern', id: pattern.id, set } as const)
      : ({ op: 'create', kind: 'shift_pattern', id: newId(), set } as const);
    const done = await form.run(() => commit(`${pattern ? 'Changed' : 'Added'} shift pattern ${set.name}`, seen, [edit]));
    if (done) onClose();
  };
  const loose = form.problems.filter((p) => !FIELDS.includes(p.field) && !/^(shifts|crews|rotation)\[/.test(p.field));
  return (
    <form
      aria-label={pattern ? `Shift pattern ${pattern.set.name}` : 'New shift pattern'}
      className="min-h-0 flex-1 overflow-y-auto pr-1"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <fieldset disabled={!engineer} className="grid grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] gap-x-8">
        <div className="space-y-4">
          <div className="flex flex-wrap items-start gap-3">
            <Field label="Name" error={form.error('name')} className="w-60">
              {(p) => <Input {...p} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
            </Field>
            <Field label="Time zone" error={form.error('zone')} className="w-44">
              {(p) => <Input {...p} value={v.zone} onChange={(e) => form.set('zone', e.target.value)} />}
            </Field>
          </div>
          <Shifts form={form} problem={problem} />
          <Crews form={form} problem={problem} />
        </div>
        <div className="space-y-4">
          <Rotation form={form} problem={problem} />
          <DaysOff form={form} problem={problem} />
        </div>
      </fieldset>
      {loose.map((p) => (
        <p key={p.field} className="text-act4">
          {p.message}
        </p>
      ))}
      <FormEnd
        form={form}
        noun="shift pattern"
        title={pattern ? `shift pattern “${pattern.set.name}”` : undefined}
        deleted="A pattern by which a place works stays until the place names another one."
        disabled={!engineer}
        onClose={onClose}
        onDelete={() => {
          if (!pattern) return;
          commit(`Deleted shift pattern ${pattern.set.name}`, seen, [{ op: 'delete', kind: 'shift_pattern', id: pattern.id }])
            .then(onClose)
            .catch(complain);
        }}
      />
    </form>
  );
}

interface PartProps {
  form: ReturnType<typeof useForm<Values>>;
  problem: (field: string) => string | undefined;
}

function Shifts({ form, problem }: PartProps) {
  const { shifts, rotation } = form.values;
  const change = (i: number, part: Partial<Values['shifts'][number]>) =>
    form.set(
      'shifts',
      shifts.map((shift, n) => (n === i ? { ...shift, ...part } : shift)),
    );
  const set = (next: Values['shifts'], days: Values['rotation']) => {
    form.set('shifts', next);
    form.set('rotation', days);
  };
  return (
    <fieldset>
      <legend className="mb-1 font-semibold">Shifts</legend>
      {shifts.map((shift, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: shifts have no identity but their place
        <div key={i} className="mb-1.5 flex items-start gap-2">
          <Field label="Shift" error={problem(`shifts[${i}].name`)} className="w-40">
            {(p) => <Input {...p} value={shift.name} onChange={(e) => change(i, { name: e.target.value })} />}
          </Field>
          {(['from', 'to'] as const).map((end) => (
            <Field key={end} label={end} error={problem(`shifts[${i}].${end}`)} className="w-20">
              {(p) => (
                <Input
                  {...p}
                  className="figures"
                  placeholder="06:00"
                  value={shift[end]}
                  onChange={(e) => change(i, { [end]: e.target.value })}
                />
              )}
            </Field>
          ))}
          <Button
            kind="quiet"
            className="mt-5"
            aria-label={`Delete shift ${shift.name}`}
            onClick={() =>
              set(
                shifts.filter((_, n) => n !== i),
                rotation.map((day) => day.filter((_, n) => n !== i)),
              )
            }
          >
            <X className="size-3.5" />
          </Button>
        </div>
      ))}
      {form.error('shifts') && <p className="text-sm text-act4">{form.error('shifts')}</p>}
      <Button
        kind="quiet"
        onClick={() =>
          set(
            [...shifts, { name: `Shift ${shifts.length + 1}`, from: '06:00', to: '18:00' }],
            rotation.map((day) => [...day, null]),
          )
        }
      >
        <Plus className="size-4" /> Shift
      </Button>
    </fieldset>
  );
}

function Crews({ form, problem }: PartProps) {
  const contacts = useContacts();
  const { crews, rotation } = form.values;
  const change = (i: number, part: Partial<Values['crews'][number]>) =>
    form.set(
      'crews',
      crews.map((crew, n) => (n === i ? { ...crew, ...part } : crew)),
    );
  const nameOf = (id: string) => contacts.find((one) => one.account === id)?.name ?? 'an account that is gone';
  return (
    <fieldset>
      <legend className="mb-1 font-semibold">Crews, in the order in which their people are called</legend>
      {crews.map((crew, i) => (
        <div key={crew.id} className="mb-2 flex items-start gap-2">
          <Field label="Crew" error={problem(`crews[${i}].name`)} className="w-32">
            {(p) => <Input {...p} value={crew.name} onChange={(e) => change(i, { name: e.target.value })} />}
          </Field>
          <div className="mt-5 flex min-w-0 flex-1 flex-wrap items-center gap-1">
            {crew.people.map((id) => (
              <span key={id} className="flex h-7 items-center rounded border border-line bg-band pl-2">
                {nameOf(id)}
                <Button
                  kind="quiet"
                  className="h-6"
                  aria-label={`Take ${nameOf(id)} out of ${crew.name}`}
                  onClick={() => change(i, { people: crew.people.filter((one) => one !== id) })}
                >
                  <X className="size-3" />
                </Button>
              </span>
            ))}
            <Choice
              className="w-44"
              aria-label={`Add somebody to ${crew.name}`}
              value=""
              onChange={(e) => e.target.value && change(i, { people: [...crew.people, e.target.value] })}
            >
              <option value="">add somebody…</option>
              {contacts
                .filter((one) => !crew.people.includes(one.account))
                .map((one) => (
                  <option key={one.account} value={one.account}>
                    {one.reachable ? one.name : `${one.name} (no address)`}
                  </option>
                ))}
            </Choice>
          </div>
          <Button
            kind="quiet"
            className="mt-5"
            aria-label={`Delete ${crew.name}`}
            onClick={() => {
              form.set(
                'crews',
                crews.filter((one) => one.id !== crew.id),
              );
              form.set(
                'rotation',
                rotation.map((day) => day.map((id) => (id === crew.id ? null : id))),
              );
            }}
          >
            <X className="size-3.5" />
          </Button>
        </div>
      ))}
      {form.error('crews') && <p className="text-sm text-act4">{form.error('crews')}</p>}
      <Button
        kind="quiet"
        onClick={() =>
          form.set('crews', [...crews, { id: newId(), name: `Crew ${String.fromCharCode(65 + crews.length)}`, people: [] }])
        }
      >
        <Plus className="size-4" /> Crew
      </Button>
    </fieldset>
  );
}

/** The day of a date that follows so many days later, in a few letters. */
function dayOf(begins: string, later: number): string {
  const at = Date.parse(`${begins}T12:00:00Z`) + later * 86_400_000;
  return Number.isNaN(at) ? '' : new Date(at).toLocaleDateString('en', { weekday: 'short', timeZone: 'UTC' });
}

function Rotation({ form, problem }: PartProps) {
  const { shifts, crews, rotation, begins } = form.values;
  const wrong = rotation.map((_, i) => problem(`rotation[${i}]`)).find(Boolean) ?? form.error('rotation');
  return (
    <fieldset>
      <legend className="mb-1 font-semibold">Rotation</legend>
      <div className="mb-2 flex items-start gap-3">
        <Field label="Begins on" error={form.error('begins')} className="w-40">
          {(p) => (
            <Input
              {...p}
              className="figures"
              placeholder="2026-01-05"
              value={begins}
              onChange={(e) => form.set('begins', e.target.value)}
            />
          )}
        </Field>
        <Field label="Days, then it begins again" className="w-48">
          {(p) => (
            <Input
              {...p}
              type="number"
              min={1}
              max={364}
              className="figures w-20 text-right"
              value={rotation.length}
              onChange={(e) => {
                const count = Math.min(364, Math.max(1, Math.trunc(Number(e.target.value)) || 1));
                const empty = () => shifts.map(() => null);
                form.set(
                  'rotation',
                  Array.from({ length: count }, (_, i) => rotation[i] ?? rotation[i % rotation.length] ?? empty()),
                );
              }}
            />
          )}
        </Field>
      </div>
      <div className="max-h-80 overflow-y-auto border border-line bg-raised">
        <table aria-label="Rotation" className="w-full">
          <thead className="sticky top-0 bg-band text-left text-sm">
            <tr>
              <th className="w-20 px-2 font-semibold">Day</th>
              {shifts.map((shift, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: shifts have no identity but their place
                <th key={i} className="px-1 font-semibold">
                  {shift.name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rotation.map((day, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: days have no identity but their place
              <tr key={i} className="border-t border-line">
                <td className="figures px-2 text-soft">
                  {i + 1} {rotation.length % 7 === 0 && dayOf(begins, i)}
                </td>
                {shifts.map((shift, n) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: shifts have no identity but their place
                  <td key={n} className="px-1 py-0.5">
                    <Choice
                      className="w-full"
                      aria-label={`Day ${i + 1}, ${shift.name}`}
                      value={day[n] ?? ''}
                      onChange={(e) =>
                        form.set(
                          'rotation',
                          rotation.map((old, row) =>
                            row === i
                              ? shifts.map((_, column) => (column === n ? e.target.value || null : (old[column] ?? null)))
                              : old,
                          ),
                        )
                      }
                    >
                      <option value="">nobody</option>
                      {crews.map((crew) => (
                        <option key={crew.id} value={crew.id}>
                          {crew.name}
                        </option>
                      ))}
                    </Choice>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {wrong && <p className="text-sm text-act4">{wrong}</p>}
    </fieldset>
  );
}

function DaysOff({ form, problem }: PartProps) {
  const input = useRef<HTMLInputElement>(null);
  const { off } = form.values;
  const take = async (file: File) => {
    try {
      const found = await daysOffOf(await file.text());
      const known = new Set(off.map((day) => day.date));
      const fresh = found.filter((day) => !known.has(day.date));
      form.set(
        'off',
        [...off, ...fresh].sort((a, b) => a.date.localeCompare(b.date)),
      );
      toast.success(
        `${counted(fresh.length, 'day')} of ${file.name} added${found.length > fresh.length ? ', the others were there' : ''}.`,
      );
    } catch (error) {
      toast.error(`${file.name} could not be read: ${error instanceof Error ? error.message : String(error)}`);
    }
  };
  const change = (i: number, part: Partial<Values['off'][number]>) =>
    form.set(
      'off',
      off.map((day, n) => (n === i ? { ...day, ...part } : day)),
    );
  return (
    <fieldset>
      <legend className="mb-1 font-semibold">Days on which nobody works</legend>
      <div className="max-h-56 overflow-y-auto">
        {off.map((day, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: days off have no identity but their place
          <div key={i} className="mb-1 flex items-start gap-2">
            <Field label="Day" error={problem(`off[${i}].date`)} className="w-40">
              {(p) => (
                <Input
                  {...p}
                  className="figures"
                  placeholder="2026-12-25"
                  value={day.date}
                  onChange={(e) => change(i, { date: e.target.value })}
                />
              )}
            </Field>
            <Field label="What it is" className="flex-1">
              {(p) => <Input {...p} value={day.name} onChange={(e) => change(i, { name: e.target.value })} />}
            </Field>
            <Button
              kind="quiet"
              className="mt-5"
              aria-label={`Delete ${day.date}`}
              onClick={() =>
                form.set(
                  'off',
                  off.filter((_, n) => n !== i),
                )
              }
            >
              <X className="size-3.5" />
            </Button>
          </div>
        ))}
      </div>
      {form.error('off') && <p className="text-sm text-act4">{form.error('off')}</p>}
      <Button kind="quiet" onClick={() => form.set('off', [...off, { date: '', name: '' }])}>
        <Plus className="size-4" /> Day
      </Button>
      <Button kind="quiet" onClick={() => input.current?.click()}>
        From a calendar file (ICS)…
      </Button>
      <input
        ref={input}
        type="file"
        accept=".ics,text/calendar"
        aria-label="Calendar file"
        className="hidden"
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = '';
          if (file) void take(file);
        }}
      />
    </fieldset>
  );
}
