// Layouts: what a block of registers holds, described once and used wherever it stands.

import { Plus, SlidersHorizontal, X } from 'lucide-react';
import { Fragment, useState } from 'react';
import { newId } from '../../../api/client';
import type { Item, LayoutSet } from '../../../api/model';
import { commit, useItems } from '../../../api/queries';
import { useForm } from '../../../parts/form';
import { ListField } from '../../../parts/picker';
import { counted } from '../../../parts/text';
import { Button, ChangedElsewhere, Choice, Field, FormTrouble, INPUT, Input } from '../../../parts/ui';
import { fresh, memberOf, type Row, rowOf, scalingOf } from './layout-rows';
import { nextOffset } from './map-rows';
import { MemberMore } from './member-more';
import { ordersOf, TYPES } from './types';

export function Layouts({ seen, disabled }: { seen: number; disabled: boolean }) {
  const layouts = useItems('layout');
  const [open, setOpen] = useState<string | null>(null);
  const items = layouts.data?.items ?? [];
  return (
    <section aria-label="Layouts" className="mb-3 rounded-md border border-line bg-raised p-3">
      <div className="mb-2 flex items-start gap-3">
        <div className="flex-1">
          <h2 className="text-[1rem] font-semibold">Layouts</h2>
          <p className="max-w-prose text-soft">
            A layout describes a block of registers once. A connection maps it at a base address, once or many times.
          </p>
        </div>
        {!disabled && open !== 'new' && (
          <Button kind="main" onClick={() => setOpen('new')}>
            <Plus className="size-4" /> New layout
          </Button>
        )}
      </div>
      {open === 'new' && <LayoutForm seen={seen} layouts={items} disabled={disabled} onDone={() => setOpen(null)} />}
      <ul>
        {items.map((item) => (
          <li key={item.id} className="border-t border-line py-1">
            <button
              type="button"
              aria-expanded={open === item.id}
              className="flex h-7 w-full items-center gap-4 text-left hover:text-teal"
              onClick={() => setOpen(open === item.id ? null : item.id)}
            >
              <span className="w-56 truncate font-semibold">{item.set.name}</span>
              <span className="text-soft">{counted(item.set.members.length, 'member')}</span>
              <span className="min-w-0 flex-1 truncate text-soft">{item.set.members.map((m) => m.name).join(', ')}</span>
            </button>
            {open === item.id && (
              <LayoutForm
                key={item.id}
                item={item}
                seen={seen}
                layouts={items}
                disabled={disabled}
                onDone={() => setOpen(null)}
              />
            )}
          </li>
        ))}
      </ul>
      {items.length === 0 && open !== 'new' && <p className="text-soft">No layouts yet.</p>}
    </section>
  );
}

interface FormProps {
  item?: Item<'layout'>;
  layouts: readonly Item<'layout'>[];
  seen: number;
  disabled: boolean;
  onDone: () => void;
}

function LayoutForm({ item, layouts, seen, disabled, onDone }: FormProps) {
  const form = useForm({ name: item?.set.name ?? '', rows: (item?.set.members ?? []).map(rowOf) }, ['name'], {
    follow: true,
    draft: `layout ${item?.id ?? 'new'}`,
  });
  const { name, rows } = form.values;
  const [opened, setOpened] = useState<string | null>(null);
  const isLayout = (type: string) => layouts.some((l) => l.id === type);
  const change = (id: string, part: Partial<Row>) =>
    form.set(
      'rows',
      rows.map((r) => (r.id === id ? { ...r, ...part } : r)),
    );
  const wrong = (i: number) => form.problems.find((p) => p.field.startsWith(`members[${i}].`))?.message;
  async function save() {
    const done = await form.run((values) => {
      const set = {
        name: values.name.trim(),
        members: values.rows.map((r) => memberOf(r, isLayout(r.type))),
      } satisfies Partial<LayoutSet>;
      const id = item?.id ?? newId();
      const why = item ? `Changed layout ${set.name}` : `Created layout ${set.name}`;
      return commit(why, seen, [item ? { op: 'patch', kind: 'layout', id, set } : { op: 'create', kind: 'layout', id, set }]);
    });
    if (done && !item) onDone();
  }
  const remove = () =>
    item &&
    form
      .run(() => commit(`Deleted layout ${item.set.name}`, seen, [{ op: 'delete', kind: 'layout', id: item.id }]))
      .then((done) => done && onDone());
  const cell = (row: Row, field: keyof Row, label: string, right = true, off = false) => (
    <td className="px-0.5">
      <input
        className={`${INPUT} ${right ? 'figures text-right' : ''}`}
        aria-label={`${label} of ${row.name || 'the new member'}`}
        disabled={disabled || off}
        value={row[field] as string}
        onChange={(e) => change(row.id, { [field]: e.target.value })}
      />
    </td>
  );
  return (
    <form
      className="my-2 rounded border border-teal p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <Field label="Name of the layout" error={form.error('name') ?? form.theirs('name')} className="mb-2 w-64">
        {(p) => <Input {...p} disabled={disabled} value={name} onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <div className="overflow-auto">
        <table className="w-full min-w-[56rem] text-left">
          <thead className="text-sm text-soft">
            <tr>
              {[
                ['Member', 'w-44'],
                ['Offset', 'w-18'],
                ['Holds', 'w-32'],
                ['Length', 'w-16'],
                ['How many', 'w-20'],
                ['Stride', 'w-18'],
                ['Order', 'w-22'],
                ['Bit', 'w-14'],
                ['Unit', 'w-18'],
                ['Decimals', 'w-18'],
                ['Factor', 'w-18'],
              ].map(([title, width]) => (
                <th key={title} className={`px-1 font-normal ${width}`}>
                  {title}
                </th>
              ))}
              <th className="w-8" aria-label="More" />
              <th className="w-8" aria-label="Remove" />
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => (
              <Fragment key={row.id}>
                <tr>
                  {cell(row, 'name', 'Name', false)}
                  {cell(row, 'offset', 'Offset')}
                  <td className="px-0.5">
                    <ListField
                      label={`Type of ${row.name || 'the new member'}`}
                      from={[
                        ...TYPES.map((t) => ({ id: t, title: t })),
                        ...layouts.filter((l) => l.id !== item?.id).map((l) => ({ id: l.id, title: l.set.name })),
                      ]}
                      disabled={disabled}
                      value={row.type}
                      onChange={(type) => change(row.id, { type })}
                    />
                  </td>
                  {cell(row, 'length', 'Length', true, row.type !== 'text' && row.type !== 'bcd')}
                  {cell(row, 'count', 'Number')}
                  {cell(row, 'stride', 'Stride', true, row.count.trim() === '' || row.count.trim() === '1')}
                  <td className="px-0.5">
                    <Choice
                      aria-label={`Order of ${row.name || 'the new member'}`}
                      disabled={disabled || isLayout(row.type)}
                      value={row.order}
                      onChange={(e) => change(row.id, { order: e.target.value })}
                    >
                      <option value="">as set</option>
                      {ordersOf(row.type, row.order).map((o) => (
                        <option key={o}>{o}</option>
                      ))}
                    </Choice>
                  </td>
                  {cell(row, 'bit', 'Bit', true, isLayout(row.type))}
                  {cell(row, 'unit', 'Unit', false, isLayout(row.type))}
                  {cell(row, 'decimals', 'Decimals', true, isLayout(row.type))}
                  <td className="px-0.5">
                    <input
                      className={`${INPUT} figures text-right placeholder:text-xs`}
                      aria-label={`Factor of ${row.name || 'the new member'}`}
                      placeholder={row.scaling && row.factor === '' ? 'scaled' : ''}
                      disabled={disabled || isLayout(row.type)}
                      value={row.factor}
                      onChange={(e) => change(row.id, { factor: e.target.value, scaling: scalingOf(e.target.value) })}
                    />
                  </td>
                  <td>
                    {!isLayout(row.type) && (
                      <Button
                        kind="quiet"
                        aria-expanded={opened === row.id}
                        aria-label={`More of ${row.name || 'the new member'}`}
                        onClick={() => setOpened(opened === row.id ? null : row.id)}
                      >
                        <SlidersHorizontal className="size-3.5" />
                      </Button>
                    )}
                  </td>
                  <td>
                    {!disabled && (
                      <Button
                        kind="quiet"
                        aria-label={`Remove ${row.name || 'the new member'}`}
                        onClick={() =>
                          form.set(
                            'rows',
                            rows.filter((r) => r.id !== row.id),
                          )
                        }
                      >
                        <X className="size-3.5" />
                      </Button>
                    )}
                  </td>
                </tr>
                {wrong(i) && (
                  <tr>
                    <td colSpan={13} className="px-1 text-sm text-act4">
                      {wrong(i)}
                    </td>
                  </tr>
                )}
                {opened === row.id && !isLayout(row.type) && (
                  <tr>
                    <td colSpan={13}>
                      <MemberMore row={row} disabled={disabled} onChange={(part) => change(row.id, part)} />
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </table>
      </div>
      <ChangedElsewhere form={form} field="rows" what="the members" />
      <FormTrouble form={form} className="mt-1" />
      <div className="mt-2 flex gap-2">
        {!disabled && (
          <>
            <Button onClick={() => form.set('rows', [...rows, fresh(nextOffset(rows))])}>
              <Plus className="size-4" /> Member
            </Button>
            <Button kind="main" type="submit" disabled={form.busy || !form.dirty || rows.length === 0}>
              {item ? 'Save layout' : 'Create layout'}
            </Button>
          </>
        )}
        <Button kind="quiet" onClick={onDone}>
          Close
        </Button>
        {item && !disabled && (
          <Button kind="quiet" className="ml-auto" disabled={form.busy} onClick={() => void remove()}>
            Delete layout
          </Button>
        )}
      </div>
    </form>
  );
}
