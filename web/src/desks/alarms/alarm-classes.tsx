// Classes of alarms: what alarms of one sort have in common.

import { Plus } from 'lucide-react';
import { useState } from 'react';
import { newId } from '../../api/client';
import type { AlarmClassSet, Item } from '../../api/model';
import { commit, useItems, useMay } from '../../api/queries';
import { complain, numberOf, textOf, useForm } from '../../parts/form';
import { Button, Confirm, Field, FormTrouble, Input, Tick } from '../../parts/ui';

export function AlarmClasses() {
  const classes = useItems('alarm_class');
  const engineer = useMay('engineer');
  const [adding, setAdding] = useState(false);
  const items = classes.data?.items ?? [];
  return (
    <section aria-label="Alarm classes" className="rounded border border-teal bg-raised p-3">
      <h2 className="text-[1rem] font-semibold">Alarm classes</h2>
      <p className="mb-2 text-soft">
        A class says what alarms of one sort have in common. Rules name it; a call-out plan can be for some classes only.
      </p>
      {items.map((item) => (
        <ClassForm key={item.id} item={item} seen={classes.data?.revision ?? 0} disabled={!engineer} />
      ))}
      {adding && (
        <ClassForm item={undefined} seen={classes.data?.revision ?? 0} disabled={!engineer} onDone={() => setAdding(false)} />
      )}
      {engineer && !adding && (
        <Button className="mt-2" onClick={() => setAdding(true)}>
          <Plus className="size-4" /> Alarm class
        </Button>
      )}
    </section>
  );
}

interface Props {
  item: Item<'alarm_class'> | undefined;
  seen: number;
  disabled: boolean;
  onDone?: () => void;
}

function ClassForm({ item, seen, disabled, onDone }: Props) {
  const set = item?.set;
  const start = {
    name: set?.name ?? '',
    note: set?.note ?? '',
    acknowledge: set?.acknowledge ?? true,
    sound: set?.sound ?? true,
    keep_days: textOf(set?.keep_days),
  };
  const form = useForm(start, undefined, { follow: true, draft: `alarm class ${item?.id ?? 'new'}` });
  const [removing, setRemoving] = useState(false);
  const v = form.values;
  const save = async () => {
    const next: Partial<AlarmClassSet> = {
      ...v,
      name: v.name.trim(),
      keep_days: v.keep_days.trim() === '' ? null : (numberOf(v.keep_days) ?? 0),
    };
    const edit = item
      ? ({ op: 'patch', kind: 'alarm_class', id: item.id, set: next } as const)
      : ({ op: 'create', kind: 'alarm_class', id: newId(), set: next } as const);
    const done = await form.run(() => commit(`${item ? 'Changed' : 'Added'} alarm class ${next.name}`, seen, [edit]));
    if (done) onDone?.();
  };
  return (
    <form
      aria-label={item ? `Alarm class ${item.set.name}` : 'New alarm class'}
      className="border-t border-line py-2"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <fieldset disabled={disabled} className="flex flex-wrap items-start gap-3">
        <Field label="Name" error={form.error('name')} className="w-32">
          {(p) => <Input {...p} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
        </Field>
        <Field label="What it is for" error={form.error('note')} className="min-w-40 flex-1">
          {(p) => <Input {...p} value={v.note} onChange={(e) => form.set('note', e.target.value)} />}
        </Field>
        <Field label="Events kept, days" error={form.error('keep_days')} className="w-28">
          {(p) => (
            <Input
              {...p}
              className="figures text-right"
              inputMode="numeric"
              placeholder="always"
              value={v.keep_days}
              onChange={(e) => form.set('keep_days', e.target.value)}
            />
          )}
        </Field>
        <div className="mt-3.5 flex flex-col gap-0.5">
          <Tick label="To be acknowledged" checked={v.acknowledge} onChange={(on) => form.set('acknowledge', on)} />
          <Tick label="Sounds" checked={v.sound} onChange={(on) => form.set('sound', on)} />
        </div>
        <div className="mt-5 flex gap-1">
          <Button kind="main" type="submit" disabled={form.busy || !form.dirty}>
            Save
          </Button>
          {item ? (
            <>
              <Button disabled={!form.dirty || form.busy} onClick={form.discard}>
                Discard
              </Button>
              <Button kind="quiet" onClick={() => setRemoving(true)}>
                Delete…
              </Button>
            </>
          ) : (
            <Button onClick={onDone}>Cancel</Button>
          )}
        </div>
      </fieldset>
      <FormTrouble form={form} />
      {item && (
        <Confirm
          open={removing}
          title={`Delete the alarm class “${item.set.name}”?`}
          action="Delete"
          onClose={() => setRemoving(false)}
          onConfirm={() => {
            setRemoving(false);
            commit(`Deleted alarm class ${item.set.name}`, seen, [{ op: 'delete', kind: 'alarm_class', id: item.id }]).catch(
              complain,
            );
          }}
        >
          <p>A class that rules or call-out plans name stays until they name another one.</p>
        </Confirm>
      )}
    </form>
  );
}
