// Sets of state names: made once, used by any number of tags.

import { useQuery } from '@tanstack/react-query';
import { Plus, X } from 'lucide-react';
import { useState } from 'react';
import { newId } from '../../api/client';
import type { Item } from '../../api/model';
import { commit, useItems } from '../../api/queries';
import { Uses, usesOf } from '../../app/uses';
import { numberOf, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, ChangedElsewhere, Empty, Field, FormTrouble, INPUT, Input, Trouble } from '../../parts/ui';
import { fresh, nextValue, pasted, type Row, rowsOf } from './state-rows';

export function StateSets({ disabled }: { disabled: boolean }) {
  const sets = useItems('states');
  const [open, setOpen] = useState<string | null>(null);
  if (sets.error) return <Trouble error={sets.error} />;
  if (!sets.data) return null;
  const { items, revision } = sets.data;
  const start = (
    <Button kind="main" onClick={() => setOpen('new')}>
      <Plus className="size-4" /> New set
    </Button>
  );
  if (items.length === 0 && open !== 'new') {
    return (
      <Empty title="No state names yet" action={disabled ? undefined : start}>
        A set gives names to the numbers of a value: 0 Stopped, 1 Running. Create it once and choose it for every tag with these
        states; they are then shown, written and set by name.
      </Empty>
    );
  }
  return (
    <div className="max-w-3xl">
      <div className="mb-2 flex items-start gap-3">
        <p className="flex-1 text-soft">Names for the numbers of a value. Tags choose a set in their settings or in the sheet.</p>
        {!disabled && open !== 'new' && start}
      </div>
      {open === 'new' && <SetForm seen={revision} disabled={disabled} onDone={() => setOpen(null)} />}
      <ul aria-label="Sets of state names">
        {items.map((item) => (
          <li key={item.id} className="border-t border-line py-1">
            <button
              type="button"
              aria-expanded={open === item.id}
              className="flex h-7 w-full items-center gap-4 text-left hover:text-teal"
              onClick={() => setOpen(open === item.id ? null : item.id)}
            >
              <span className="w-48 truncate font-semibold">{item.set.name}</span>
              <span className="min-w-0 flex-1 truncate text-soft">
                {item.set.states.map((s) => `${s.value} ${s.name}`).join(' · ')}
              </span>
            </button>
            {open === item.id && (
              <SetForm key={item.id} item={item} seen={revision} disabled={disabled} onDone={() => setOpen(null)} />
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

interface FormProps {
  item?: Item<'states'>;
  seen: number;
  disabled: boolean;
  onDone: () => void;
}

function SetForm({ item, seen, disabled, onDone }: FormProps) {
  const form = useForm({ name: item?.set.name ?? '', rows: rowsOf(item?.set.states) }, ['name', 'states'], {
    follow: true,
    draft: `states ${item?.id ?? 'new'}`,
  });
  const uses = useQuery({ ...usesOf('states', item?.id ?? ''), enabled: item !== undefined });
  const users = uses.data?.referrers ?? [];
  const { name, rows } = form.values;
  const change = (key: string, part: Partial<Row>) =>
    form.set(
      'rows',
      rows.map((r) => (r.key === key ? { ...r, ...part } : r)),
    );
  const wrong = (i: number) => form.problems.find((p) => p.field.startsWith(`states[${i}].`))?.message;
  const known = (field: string) => field === 'name' || field.startsWith('states');
  const save = () =>
    form
      .run((values) => {
        const states = values.rows.map((r) => ({ value: numberOf(r.value) as number, name: r.name.trim() }));
        const set = { name: values.name.trim(), states };
        const id = item?.id ?? newId();
        const why = item ? `Changed state names ${set.name}` : `Created state names ${set.name}`;
        return commit(why, seen, [item ? { op: 'patch', kind: 'states', id, set } : { op: 'create', kind: 'states', id, set }]);
      })
      .then((done) => done && !item && onDone());
  const remove = () =>
    item &&
    form
      .run(() => commit(`Deleted state names ${item.set.name}`, seen, [{ op: 'delete', kind: 'states', id: item.id }]))
      .then((done) => done && onDone());
  return (
    <form
      aria-label={item ? `States of ${item.set.name}` : 'New set of state names'}
      className="my-2 rounded border border-teal bg-raised p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <Field label="Name of the set" error={form.error('name') ?? form.theirs('name')} className="mb-2 w-64">
        {(p) => <Input {...p} disabled={disabled} value={name} onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <table className="text-left">
        <thead className="text-sm text-soft">
          <tr>
            <th className="w-24 px-1 font-normal">Number</th>
            <th className="w-64 px-1 font-normal">Name</th>
            <th aria-label="Remove" />
          </tr>
        </thead>
        <tbody>
          {rows.map((row, i) => (
            <tr key={row.key}>
              <td className="px-0.5 py-0.5">
                <input
                  className={`${INPUT} figures text-right`}
                  aria-label={`Number of state ${i + 1}`}
                  inputMode="numeric"
                  disabled={disabled}
                  value={row.value}
                  onChange={(e) => change(row.key, { value: e.target.value })}
                />
              </td>
              <td className="px-0.5">
                <input
                  className={INPUT}
                  aria-label={`Name of state ${i + 1}`}
                  aria-invalid={Boolean(wrong(i))}
                  disabled={disabled}
                  value={row.name}
                  onChange={(e) => change(row.key, { name: e.target.value })}
                  onPaste={(e) => {
                    const text = e.clipboardData.getData('text/plain');
                    if (!/[\n\t]/.test(text.trim())) return;
                    e.preventDefault();
                    form.set(
                      'rows',
                      pasted(
                        text,
                        rows.filter((r) => r.name.trim()),
                      ),
                    );
                  }}
                />
              </td>
              <td className="pl-1">
                {!disabled && rows.length > 1 && (
                  <Button
                    kind="quiet"
                    aria-label={`Remove state ${i + 1}`}
                    onClick={() =>
                      form.set(
                        'rows',
                        rows.filter((r) => r.key !== row.key),
                      )
                    }
                  >
                    <X className="size-3.5" />
                  </Button>
                )}
              </td>
              <td className="text-sm text-act4">{wrong(i)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <ChangedElsewhere form={form} field="rows" what="the states" />
      {form.error('states') && <p className="text-sm text-act4">{form.error('states')}</p>}
      {form.problems.every((p) => known(p.field)) ? null : <FormTrouble form={form} className="mt-1" />}
      {item && (
        <details className="mt-2">
          <summary className="cursor-pointer text-soft">Where used: {counted(users.length, 'tag')}</summary>
          <div className="mt-1 max-h-40 overflow-auto text-sm">
            <Uses kind="states" id={item.id} />
          </div>
        </details>
      )}
      <div className="mt-2 flex gap-2">
        {!disabled && (
          <>
            <Button onClick={() => form.set('rows', [...rows, fresh(nextValue(rows))])}>
              <Plus className="size-4" /> State
            </Button>
            <Button kind="main" type="submit" disabled={form.busy || !form.dirty || !name.trim()}>
              {item ? 'Save names' : 'Create set'}
            </Button>
          </>
        )}
        <Button kind="quiet" onClick={onDone}>
          Close
        </Button>
        {item && !disabled && (
          <Button
            kind="quiet"
            className="ml-auto"
            disabled={form.busy || users.length > 0}
            title={users.length > 0 ? 'Tags use it' : undefined}
            onClick={() => void remove()}
          >
            Delete set
          </Button>
        )}
      </div>
      {!disabled && <p className="mt-1 text-sm text-soft">Rows of a spreadsheet, number and name, can be pasted into a name.</p>}
    </form>
  );
}
