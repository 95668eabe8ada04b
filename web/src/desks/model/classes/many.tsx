// Many pieces of equipment at once: a row for each, filled from patterns or a spreadsheet, tried before they are made.

import { useVirtualizer } from '@tanstack/react-virtual';
import { X } from 'lucide-react';
import { useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import { made, useItems } from '../../../api/queries';
import { type PlantTree, pathOf } from '../../../api/tree';
import { useView } from '../../../app/view';
import { useForm } from '../../../parts/form';
import { ListField } from '../../../parts/picker';
import { counted } from '../../../parts/text';
import { Button, Field, FormTrouble, INPUT, Input } from '../../../parts/ui';
import { filled, type Row } from './many-rows';
import { useClasses } from './use-classes';

type Made = Schemas['EquipmentMade'];

interface Props {
  tree: PlantTree;
  disabled: boolean;
  onDone: () => void;
}

const HEIGHT = 30;

export function Many({ tree, disabled, onDone }: Props) {
  const { at } = useView();
  const classes = useClasses().data?.classes ?? [];
  const above = at ? pathOf(tree, at) : '';
  const start = { class: classes[0]?.id ?? '', name: '', place: above, cells: {} as Record<string, string>, rows: [] as Row[] };
  const form = useForm(start, ['name', 'place', 'class'], { draft: 'equipment of a class' });
  const [told, setTold] = useState<Made>();
  const v = form.values;
  const one = useItems('class', { only: v.class }, v.class !== '').data?.items[0];
  const parameters = Object.entries(one?.set.parameters ?? {}).sort(([, a], [, b]) => a.order - b.order);
  const columns = [
    { key: 'name', title: 'Name', width: '1.4fr' },
    { key: 'place', title: 'Under', width: '1.6fr' },
    ...parameters.map(([key, p]) => ({ key, title: p.name, width: '1fr' })),
  ];
  const put = (part: Partial<typeof v>) => {
    setTold(undefined);
    for (const [field, value] of Object.entries(part)) form.set(field as keyof typeof v, value as never);
  };
  const fill = () =>
    form.probe(async () => {
      const body = { name: v.name, place: v.place, class: v.class, cells: v.cells };
      const rows = await take(http.POST('/api/equipment/rows', { body }));
      put({ rows: [...v.rows, ...rows.map((r) => ({ ...r.cells, name: r.name, place: r.place ?? '' }))] });
    });
  const send = (only: boolean) => {
    const rows = v.rows.map(({ name = '', place = '', ...cells }) => ({ name, place, class: v.class, cells }));
    return take(http.POST('/api/equipment', { body: { rows, try: only } }));
  };
  const look = () => form.probe(async () => setTold(await send(true)));
  async function create() {
    const done = await form.run(async () => {
      const answer = await send(false);
      toast(`Created ${counted(answer.places, 'place')} with ${counted(answer.tags, 'tag')}`);
      await made(answer.revision);
    });
    if (!done) return;
    form.reset(start);
    onDone();
  }
  return (
    <form
      aria-label="Equipment of a class"
      className="flex h-full flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        void (v.rows.length === 0 ? fill() : told ? create() : look());
      }}
    >
      <div className="flex flex-wrap items-start gap-2">
        <Field label="Class" className="w-44">
          {(p) => (
            <ListField
              field={p}
              label="Class"
              from={classes.map((c) => ({ id: c.id, title: c.name }))}
              disabled={disabled}
              value={v.class}
              onChange={(id) => put({ class: id, cells: {} })}
            />
          )}
        </Field>
        <Field label="Names" className="w-44" error={v.rows.length === 0 ? form.error('name') : undefined}>
          {(p) => (
            <Input
              {...p}
              disabled={disabled}
              placeholder="Vessel {1..8}"
              value={v.name}
              onChange={(e) => put({ name: e.target.value })}
            />
          )}
        </Field>
        <Field label="Under" className="w-56" error={v.rows.length === 0 ? form.error('place') : undefined}>
          {(p) => (
            <Input
              {...p}
              disabled={disabled}
              placeholder="Brackmere/Extraction"
              value={v.place}
              onChange={(e) => put({ place: e.target.value })}
            />
          )}
        </Field>
        {parameters.map(([id, parameter]) => (
          <Field key={id} label={parameter.name} className="w-40" error={v.rows.length === 0 ? form.error(id) : undefined}>
            {(p) => (
              <Input
                {...p}
                disabled={disabled}
                placeholder={parameter.kind === 'number' ? '{100 by 40}' : parameter.kind === 'connection' ? 'its name' : ''}
                value={v.cells[id] ?? ''}
                onChange={(e) => put({ cells: { ...v.cells, [id]: e.target.value } })}
              />
            )}
          </Field>
        ))}
        <Button className="mt-5" disabled={disabled || !v.name.trim() || !v.class || form.busy} onClick={() => void fill()}>
          Add rows
        </Button>
      </div>
      <p className="text-sm text-soft">
        {
          '{1..8}, {A..D} and {01..12} count out names; {100 by 40} counts along with them. Rows of a spreadsheet can be pasted below.'
        }
      </p>
      <Rows rows={v.rows} columns={columns} problems={form.problems} disabled={disabled} onChange={(rows) => put({ rows })} />
      {v.rows.length > 0 && <Troubles problems={form.problems} columns={columns} />}
      {v.rows.length > 0 && form.problems.length === 0 && <FormTrouble form={form} />}
      {told && <Preview told={told} under={[...new Set(v.rows.map((row) => row.place ?? ''))]} />}
      <div className="flex gap-2">
        <Button kind="main" type="submit" disabled={disabled || v.rows.length === 0 || form.busy}>
          {told ? `Create ${counted(v.rows.length, 'instance')}` : 'Preview'}
        </Button>
        <Button disabled={!form.dirty || form.busy} onClick={form.discard}>
          Discard rows
        </Button>
        <Button kind="quiet" onClick={onDone}>
          Close
        </Button>
      </div>
    </form>
  );
}

interface RowsProps {
  rows: readonly Row[];
  columns: readonly { key: string; title: string; width: string }[];
  problems: readonly { edit: number; field: string; message: string }[];
  disabled: boolean;
  onChange: (rows: Row[]) => void;
}

function Rows({ rows, columns, problems, disabled, onChange }: RowsProps) {
  const pane = useRef<HTMLDivElement>(null);
  // One empty row stands behind, to type or paste into.
  const count = rows.length + 1;
  const window = useVirtualizer({ count, getScrollElement: () => pane.current, estimateSize: () => HEIGHT, overscan: 8 });
  const wrong = new Map(problems.map((p) => [`${p.edit} ${p.field}`, p.message]));
  const grid = { gridTemplateColumns: `3rem ${columns.map((c) => `minmax(7rem, ${c.width})`).join(' ')} 2.5rem` };
  const goTo = (index: number, key: string) => {
    if (index < 0 || index >= count) return;
    window.scrollToIndex(index);
    requestAnimationFrame(() => pane.current?.querySelector<HTMLInputElement>(`[data-cell="${index} ${key}"]`)?.focus());
  };
  const set = (index: number, key: string, text: string) => onChange(filled(rows, columns, index, key, [[text]]));
  return (
    <div ref={pane} className="max-h-72 min-h-24 overflow-auto border border-line bg-raised">
      <div className="sticky top-0 z-10 grid gap-1 bg-raised px-1 text-sm text-soft" style={grid}>
        <span />
        {columns.map((c) => (
          <span key={c.key} className="px-1">
            {c.title}
          </span>
        ))}
      </div>
      <div className="relative" style={{ height: window.getTotalSize() }}>
        {window.getVirtualItems().map(({ index, start }) => (
          <div
            key={index}
            className="absolute grid w-full items-center gap-1 px-1"
            style={{ ...grid, height: HEIGHT, transform: `translateY(${start}px)` }}
          >
            <span className="figures text-right text-sm text-soft">{index < rows.length ? index + 1 : ''}</span>
            {columns.map((c) => {
              const trouble = wrong.get(`${index} ${c.key}`);
              return (
                <input
                  key={c.key}
                  className={INPUT}
                  data-cell={`${index} ${c.key}`}
                  aria-label={`${c.title} of row ${index + 1}`}
                  aria-invalid={Boolean(trouble)}
                  title={trouble}
                  disabled={disabled}
                  value={rows[index]?.[c.key] ?? ''}
                  onChange={(e) => set(index, c.key, e.target.value)}
                  onKeyDown={(e) => {
                    const by = e.key === 'ArrowUp' ? -1 : e.key === 'ArrowDown' || e.key === 'Enter' ? 1 : 0;
                    if (by === 0) return;
                    // Enter goes on here, and does not send the form.
                    e.preventDefault();
                    goTo(index + by, c.key);
                  }}
                  onPaste={(e) => {
                    const text = e.clipboardData.getData('text/plain');
                    if (!/[\n\t]/.test(text.trim())) return;
                    e.preventDefault();
                    const block = text.replace(/\r?\n$/, '').split(/\r?\n/);
                    onChange(
                      filled(
                        rows,
                        columns,
                        index,
                        c.key,
                        block.map((line) => line.split('\t').map((cell) => cell.trim())),
                      ),
                    );
                  }}
                />
              );
            })}
            {index < rows.length && (
              <Button
                kind="quiet"
                className="px-1"
                disabled={disabled}
                aria-label={`Remove row ${index + 1}`}
                onClick={() => onChange(rows.filter((_, other) => other !== index))}
              >
                <X className="size-3.5" />
              </Button>
            )}
          </div>
        ))}
      </div>
    </div>
  );
}

/** What is wrong, by row and column; each is marked in its cell too. */
function Troubles({ problems, columns }: Pick<RowsProps, 'problems' | 'columns'>) {
  const title = (key: string) => columns.find((c) => c.key === key)?.title ?? '';
  const shown = problems.slice(0, 5);
  return (
    <div role="alert" className="text-sm text-act4">
      {shown.map((p) => (
        <p key={`${p.edit} ${p.field}`}>
          Row {p.edit + 1}
          {title(p.field) && `, ${title(p.field)}`}: {p.message}
        </p>
      ))}
      {problems.length > shown.length && <p>{problems.length - shown.length} more cells need correction.</p>}
    </div>
  );
}

/** A path without that of the place under which the equipment is made. */
const below = (path: string, under: readonly string[]) => {
  const place = under.find((place) => place !== '' && path.startsWith(`${place}/`));
  return (place ? path.slice(place.length + 1) : path).replaceAll('/', ' / ');
};

function Preview({ told, under }: { told: Made; under: readonly string[] }) {
  return (
    <section aria-label="What is created" className="rounded border border-teal bg-raised p-2">
      <p>
        {counted(told.places, 'place')}, {counted(told.tags, 'tag')}, {counted(told.rules, 'alarm rule')}
        {told.unbound > 0 && ` · ${counted(told.unbound, 'tag')} not bound to a source yet`}
      </p>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
      <div tabIndex={0} className="mt-1 max-h-40 overflow-auto">
        <table className="w-full table-fixed text-left">
          <tbody>
            {told.shown.map((tag) => (
              <tr key={tag.path} className="h-6">
                <td className="w-2/5 truncate pr-2" title={tag.path.replaceAll('/', ' / ')}>
                  {below(tag.path, under)}
                </td>
                <td className="figures w-24 truncate pr-1 text-right">{tag.now}</td>
                <td className="w-16 truncate pr-3 text-soft">{tag.unit}</td>
                <td className="truncate text-sm text-soft">{tag.source || 'not bound'}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {told.tags > told.shown.length && (
        <p className="text-sm text-soft">{(told.tags - told.shown.length).toLocaleString('en')} more are not shown.</p>
      )}
    </section>
  );
}
