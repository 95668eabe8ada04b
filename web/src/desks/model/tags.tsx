// The tags of a place, or of the whole plant, as a sheet.

import { useCallback, useState } from 'react';
import { http, newId, type Schemas, take } from '../../api/client';
import type { Item } from '../../api/model';
import { commit } from '../../api/queries';
import { useGo, useView } from '../../app/router';
import { useForm } from '../../parts/form';
import { type Column, type Order, Sheet } from '../../parts/sheet';
import { counted, pathEnd } from '../../parts/text';
import { Button, Empty, Field, Input } from '../../parts/ui';
import { Value } from '../../parts/value';

type Row = Schemas['TagRow'];
const RECORDED: Record<string, string> = { on_change: 'on change', each_poll: 'each value' };

function columnsUnder(top: string, leaf: boolean): Column<Row>[] {
  const below = (path: string) => pathEnd(top ? path.slice(top.length + 1) : path);
  const columns: Column<Row>[] = [
    {
      key: 'place',
      title: 'Place',
      width: 'minmax(9rem,1.2fr)',
      sort: true,
      render: (tag) => <Soft>{below(tag.place_path) || 'here'}</Soft>,
    },
    { key: 'name', title: 'Tag', width: 'minmax(9rem,1fr)', sort: true, render: (tag) => tag.name },
    { key: 'now', title: 'Now', width: '9rem', right: true, render: (tag) => <Value no={tag.no} set={tag} /> },
    {
      key: 'source',
      title: 'Source',
      width: 'minmax(10rem,1.3fr)',
      sort: true,
      render: (tag) => <Soft>{tag.source || 'unbound'}</Soft>,
    },
    {
      key: 'recorded',
      title: 'Recorded',
      width: '6rem',
      sort: true,
      render: (tag) => <Soft>{RECORDED[tag.recorded ?? ''] ?? 'no'}</Soft>,
    },
    { key: 'limits', title: 'Limits', width: '10rem', render: (tag) => <Soft>{tag.limits || 'none'}</Soft> },
  ];
  // A place with nothing under it says nothing about its tags.
  return leaf ? columns.slice(1) : columns;
}

function Soft({ children }: { children: string }) {
  return (
    <span className="text-soft" title={children}>
      {children}
    </span>
  );
}

interface Props {
  place: Item<'place'> | undefined;
  /** Whether no place lies under it. */
  leaf: boolean;
  seen: number;
  disabled: boolean;
}

export function TagsHere({ place, leaf, seen, disabled }: Props) {
  const go = useGo();
  const view = useView();
  const [text, setText] = useState('');
  const [order, setOrder] = useState<Order>();
  const [total, setTotal] = useState<number>();
  const under = place?.id;
  const top = place?.title ?? '';
  const fetch = (from: number, count: number) => {
    const sort = order ? { sort: order.key, down: order.down } : {};
    const query = { ...(under ? { under } : {}), ...(text ? { text } : {}), ...sort, from, count };
    return take(http.GET('/api/sheets/tags', { params: { query } }));
  };
  const onSeen = useCallback((count: number) => setTotal(count), []);
  return (
    <section aria-label="Tags">
      <div className="mb-1 flex items-end gap-3">
        <h2 className="flex-1 font-semibold">{total === undefined ? 'Tags' : counted(total, 'tag')}</h2>
        {order && <Button onClick={() => setOrder(undefined)}>Plant order</Button>}
        <Input
          aria-label="Filter tags"
          placeholder="Filter…"
          className="w-48"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </div>
      {total === 0 && !text && (
        <Empty title="No tags here">Tags come from registers on the desk Connect, or one by one here.</Empty>
      )}
      {total === 0 && text && <p className="text-soft">No tag here has “{text}” in its path.</p>}
      <Sheet
        label="Tags"
        columns={columnsUnder(top, leaf)}
        source={['tags', under, text, order]}
        fetch={fetch}
        idOf={(tag) => tag.id}
        open={view.tag}
        onOpen={(tag) => go({ tag: tag.id })}
        order={order}
        onOrder={setOrder}
        onSeen={onSeen}
        className={total === 0 ? 'hidden' : 'h-[50vh]'}
      />
      {place && <NewTag place={place} seen={seen} disabled={disabled} />}
    </section>
  );
}

function NewTag({ place, seen, disabled }: { place: Item<'place'>; seen: number; disabled: boolean }) {
  const go = useGo();
  const form = useForm({ name: '' });
  return (
    <form
      className="mt-2 flex max-w-3xl items-start gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        const id = newId();
        void form
          .run(({ name }) =>
            // Behind all others: identities rise with time, and so does this.
            commit(`Added tag ${place.title}/${name}`, seen, [
              { op: 'create', kind: 'tag', id, set: { name, place: place.id, order: Date.now() } },
            ]),
          )
          .then((done) => {
            if (!done) return;
            form.reset({ name: '' });
            go({ tag: id });
          });
      }}
    >
      <Field label="New tag" error={form.error('name') ?? form.other} className="flex-1">
        {(p) => (
          <Input
            {...p}
            disabled={disabled}
            value={form.values.name}
            placeholder="Name"
            onChange={(e) => form.set('name', e.target.value)}
          />
        )}
      </Field>
      <Button type="submit" className="mt-5" disabled={disabled || form.busy || !form.values.name.trim()}>
        Add tag
      </Button>
    </form>
  );
}
