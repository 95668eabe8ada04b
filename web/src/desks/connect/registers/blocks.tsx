// Blocks of a connection: layouts mapped at a base address, and the map of which registers are taken.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Plus } from 'lucide-react';
import { useState } from 'react';
import { http, newId, type Schemas, take } from '../../../api/client';
import type { Block, Item } from '../../../api/model';
import { commit, useItems } from '../../../api/queries';
import { useGo } from '../../../app/view';
import { numberOf, textOf, useForm } from '../../../parts/form';
import { ListField } from '../../../parts/picker';
import { counted } from '../../../parts/text';
import { Button, Field, FormTrouble, Input, Trouble } from '../../../parts/ui';
import { type Cell, mapRows, PER_ROW } from './map-rows';

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

type Tried = Schemas['TryBlock'] | null;

export function Blocks({ item, seen, disabled }: Props) {
  const go = useGo();
  const layouts = useItems('layout').data?.items ?? [];
  const [open, setOpen] = useState<string | null>(null);
  const [tried, setTried] = useState<Tried>(null);
  const { blocks } = item.set;
  const close = () => {
    setOpen(null);
    setTried(null);
  };
  const layoutName = (id: string) => layouts.find((l) => l.id === id)?.set.name ?? '';
  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <p className="flex-1 text-soft">
          A block is a layout mapped onto this device: one base address, and a stride where there are several alike.
        </p>
        <Button kind="quiet" onClick={() => go({ connection: 'layouts', part: undefined })}>
          Layouts
        </Button>
        {!disabled && open !== 'new' && (
          <Button onClick={() => setOpen('new')} disabled={layouts.length === 0}>
            <Plus className="size-4" /> Map a layout
          </Button>
        )}
      </div>
      {layouts.length === 0 && (
        <p className="mb-2 text-soft">Create a layout first: it describes the registers of one vessel, motor or meter.</p>
      )}
      {open === 'new' && <BlockForm item={item} layouts={layouts} seen={seen} onTry={setTried} onDone={close} />}
      {blocks.map((block) => (
        <div key={block.id} className="border-t border-line py-0.5">
          <div className="flex min-h-8 items-center gap-4">
            <span className="w-40 truncate font-semibold">{block.name}</span>
            <span className="text-soft">
              {layoutName(block.layout)} at <span className="figures">{block.point.address}</span>
              {block.count > 1 && `, ${block.count} times, every ${block.stride}`}
            </span>
            <span className="ml-auto" />
            <Button kind="quiet" onClick={() => go({ part: 'intake' })}>
              Create tags
            </Button>
            {!disabled && (
              <Button
                kind="quiet"
                aria-expanded={open === block.id}
                onClick={() => (open === block.id ? close() : setOpen(block.id))}
              >
                Change
              </Button>
            )}
          </div>
          {open === block.id && (
            <BlockForm key={block.id} item={item} block={block} layouts={layouts} seen={seen} onTry={setTried} onDone={close} />
          )}
        </div>
      ))}
      <RegisterMap connection={item.id} tried={tried} revision={item.revision} />
    </div>
  );
}

interface BlockProps {
  item: Item<'connection'>;
  block?: Block;
  layouts: readonly Item<'layout'>[];
  seen: number;
  onTry: (tried: Tried) => void;
  onDone: () => void;
}

function BlockForm({ item, block, layouts, seen, onTry, onDone }: BlockProps) {
  const index = block ? item.set.blocks.findIndex((b) => b.id === block.id) : item.set.blocks.length;
  const at = (field: string) => `blocks[${index}].${field}`;
  const fields = ['name', 'address', 'unit', 'count', 'stride', 'layout'].map(at);
  const form = useForm(
    {
      name: block?.name ?? 'Block 1',
      layout: block?.layout ?? layouts[0]?.id ?? '',
      address: block?.point.address ?? 'holding 0',
      unit: textOf(block?.point.unit ?? null),
      count: textOf(block?.count ?? 1),
      stride: textOf(block?.stride ?? null),
    },
    fields,
    { follow: true, draft: `block ${block?.id ?? `new in ${item.id}`}` },
  );
  const v = form.values;
  const point = { address: v.address.trim(), ...(v.unit.trim() ? { unit: numberOf(v.unit) as number } : {}) };
  const set: Block = {
    id: block?.id ?? newId(),
    name: v.name.trim(),
    layout: v.layout,
    point,
    count: numberOf(v.count) as number,
    stride: (numberOf(v.stride) ?? 0) as number,
  };
  const put = (blocks: Block[], why: string) =>
    form
      .run(() => commit(why, seen, [{ op: 'patch', kind: 'connection', id: item.id, set: { blocks } }]))
      .then((done) => done && onDone());
  const save = () =>
    put(
      block ? item.set.blocks.map((b) => (b.id === block.id ? set : b)) : [...item.set.blocks, set],
      `${block ? 'Changed' : 'Mapped'} block ${set.name} of ${item.set.name}`,
    );
  const text = (field: 'name' | 'address' | 'unit' | 'count' | 'stride', label: string, className: string, hint?: string) => (
    <Field label={label} error={form.error(at(field)) ?? form.theirs(field)} hint={hint} className={className}>
      {(p) => <Input {...p} value={v[field]} onChange={(e) => form.set(field, e.target.value)} />}
    </Field>
  );
  return (
    <form
      aria-label={block ? `Block ${block.name}` : 'New block'}
      className="mb-2 rounded border border-teal p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <div className="flex flex-wrap items-start gap-3">
        {text('name', 'Name', 'w-40')}
        <Field label="Layout" error={form.error(at('layout')) ?? form.theirs('layout')} className="w-44">
          {(p) => (
            <ListField
              label="Layout"
              from={layouts.map((l) => ({ id: l.id, title: l.set.name }))}
              field={p}
              value={v.layout}
              onChange={(layout) => form.set('layout', layout)}
            />
          )}
        </Field>
        {text('address', 'First address', 'w-36', 'as the manual writes it')}
        {text('count', 'How many', 'w-24')}
        {text('stride', 'Stride', 'w-24', 'from one to the next')}
        {text('unit', 'Unit id', 'w-20', 'if not the connection’s own')}
      </div>
      <FormTrouble form={form} className="mt-1" />
      <div className="mt-2 flex gap-2">
        <Button
          onClick={() =>
            onTry({
              layout: v.layout,
              point: point as unknown as Record<string, never>,
              count: Number(v.count) || 1,
              stride: Number(v.stride) || 0,
            })
          }
        >
          Show on the map
        </Button>
        <Button kind="main" type="submit" disabled={form.busy || (block && !form.dirty)}>
          {block ? 'Save block' : 'Add block'}
        </Button>
        <Button
          kind="quiet"
          onClick={() => {
            form.discard();
            onDone();
          }}
        >
          Cancel
        </Button>
        {block && (
          <Button
            kind="quiet"
            className="ml-auto"
            disabled={form.busy}
            onClick={() =>
              void put(
                item.set.blocks.filter((b) => b.id !== block.id),
                `Deleted block ${block.name} of ${item.set.name}`,
              )
            }
          >
            Delete block
          </Button>
        )}
      </div>
    </form>
  );
}

const MARKS: Record<string, string> = {
  tag: 'bg-teal text-raised',
  block: 'bg-tint text-ink border-teal',
  try: 'bg-raised text-ink border-dashed border-ink',
};

/** The space in which most is taken. */
function fullest(spans: readonly Schemas['SpanView'][]): string | undefined {
  const counts = new Map<string, number>();
  for (const { space } of spans) counts.set(space, (counts.get(space) ?? 0) + 1);
  return [...counts].sort((a, b) => b[1] - a[1])[0]?.[0];
}

function RegisterMap({ connection, tried, revision }: { connection: string; tried: Tried; revision: number }) {
  const go = useGo();
  const map = useQuery({
    queryKey: ['map', connection, tried, revision],
    queryFn: () =>
      take(
        http.POST('/api/connections/{id}/map', {
          params: { path: { id: connection } },
          body: { block: tried },
        }),
      ),
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const spaces = [...new Set(map.data?.spans.map((s) => s.space) ?? [])];
  const [chosen, setChosen] = useState<string | null>(null);
  const space =
    chosen && spaces.includes(chosen)
      ? chosen
      : (map.data?.spans.find((s) => s.kind === 'try')?.space ?? fullest(map.data?.spans ?? []));
  const spans = map.data?.spans.filter((s) => s.space === space) ?? [];
  const overlaps = map.data?.overlaps ?? [];
  const clash = (at: number) => overlaps.some((o) => o.space === space && at >= o.start && at < o.start + o.count);
  const open = (cell: Cell) => {
    const tag = cell.spans.find((s) => s.tag)?.tag;
    if (tag) go({ tag });
  };
  return (
    <section aria-label="Register map" className="mt-3">
      <div className="mb-1 flex flex-wrap items-center gap-x-4 gap-y-1">
        <h4 className="font-semibold">Register map</h4>
        {spaces.length > 1 && (
          <ListField
            label="Which registers"
            className="w-44"
            from={spaces.map((s) => ({ id: s, title: s }))}
            value={space ?? ''}
            onChange={setChosen}
          />
        )}
        <span className="flex items-center gap-1 text-sm text-soft">
          <i className={clsx('inline-block h-3.5 w-5 border', MARKS.tag)} /> a tag
        </span>
        <span className="flex items-center gap-1 text-sm text-soft">
          <i className={clsx('inline-block h-3.5 w-5 border', MARKS.block)} /> block without a tag
        </span>
        {tried && (
          <span className="flex items-center gap-1 text-sm text-soft">
            <i className={clsx('inline-block h-3.5 w-5 border', MARKS.try)} /> this block
          </span>
        )}
        <span className="flex items-center gap-1 text-sm text-soft">
          <b className="font-mono text-act4">2×</b> used twice
        </span>
      </div>
      <Trouble error={map.error ?? (map.data?.wrong ? new Error(map.data.wrong) : null)} />
      {overlaps.length > 0 && (
        <p className="mb-1 text-act4">
          {counted(overlaps.length, 'overlap')}: {overlaps[0]?.titles.join(' and ')} at {overlaps[0]?.space} {overlaps[0]?.start}
          {overlaps.length > 1 ? ' and others' : ''}.
        </p>
      )}
      {map.data && spans.length === 0 && <p className="text-soft">No address is in use yet.</p>}
      <div className="max-h-80 overflow-auto">
        <table className="border-separate border-spacing-x-0.5 border-spacing-y-0.5 text-xs">
          <caption className="sr-only">Addresses of {space}</caption>
          <tbody>
            {mapRows(spans).map((row) =>
              'free' in row ? (
                <tr key={`free-${row.free[0]}`}>
                  <td colSpan={PER_ROW + 1} className="figures text-soft">
                    {row.free[0]}–{row.free[1]} free
                  </td>
                </tr>
              ) : (
                <tr key={row.from}>
                  <th className="figures w-14 pr-2 text-right font-normal text-soft">{row.from}</th>
                  {row.cells.map((cell) => {
                    const kinds = cell.spans.map((s) => s.kind);
                    const kind = ['try', 'tag', 'block'].find((k) => kinds.includes(k));
                    const twice = clash(cell.at);
                    const words = cell.spans.map((s) => s.title).join(' and ') || 'free';
                    return (
                      <td key={cell.at}>
                        <button
                          type="button"
                          title={`${cell.at}: ${words}`}
                          aria-label={`${cell.at}: ${words}${twice ? ', used twice' : ''}`}
                          className={clsx(
                            'h-6 w-8 border text-center',
                            kind ? MARKS[kind] : 'border-line text-soft',
                            twice && '!bg-raised font-semibold !text-act4',
                          )}
                          onClick={() => open(cell)}
                        >
                          {twice ? '2×' : cell.at % 10}
                        </button>
                      </td>
                    );
                  })}
                </tr>
              ),
            )}
          </tbody>
        </table>
      </div>
    </section>
  );
}
