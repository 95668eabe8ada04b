// The plant tree: build it, name it, put it in order; and the tags of a place.

import { useQuery } from '@tanstack/react-query';
import { ArrowDown, ArrowUp, Plus } from 'lucide-react';
import { useState } from 'react';
import { http, newId, take } from '../../api/client';
import type { Item, Level } from '../../api/model';
import { commit, useItems, useMay } from '../../api/queries';
import { useGo, useView } from '../../app/router';
import { orderBetween } from '../../app/tree';
import { complain, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Confirm, DeskHead, Field, FormTrouble, Input, Trouble } from '../../parts/ui';
import { TagsHere } from './tags';

const LEVELS: Level[] = ['site', 'area', 'line', 'unit', 'equipment', 'device'];
type Place = Item<'place'>;

export function Model() {
  const { at } = useView();
  const places = useItems('place');
  const engineer = useMay('engineer');
  if (places.error) return <Trouble error={places.error} />;
  if (!places.data) return null;
  const place = places.data.items.find((p) => p.id === at);
  const siblings = (parent: string | null) =>
    places.data.items
      .filter((p) => p.set.parent === parent)
      .sort((a, b) => a.set.order - b.set.order || a.set.name.localeCompare(b.set.name));
  const seen = places.data.revision;
  return (
    <>
      <DeskHead
        path={place ? place.title.split('/').slice(0, -1).join(' / ') : ''}
        title={place?.set.name ?? 'Whole plant'}
        note={place ? place.set.level : counted(places.data.total, 'place')}
      />
      <div className="space-y-5">
        {place && (
          <PlaceForm
            key={`${place.id}/${place.revision}`}
            place={place}
            siblings={siblings(place.set.parent)}
            seen={seen}
            disabled={!engineer}
          />
        )}
        <Children
          key={`under ${place?.id ?? ''}`}
          at={place?.id ?? null}
          level={place?.set.level}
          children_={siblings(place?.id ?? null)}
          seen={seen}
          disabled={!engineer}
        />
        <TagsHere
          key={place?.id ?? ''}
          place={place}
          leaf={place !== undefined && siblings(place.id).length === 0}
          disabled={!engineer}
          seen={seen}
        />
      </div>
    </>
  );
}

interface PlaceFormProps {
  place: Place;
  siblings: Place[];
  seen: number;
  disabled: boolean;
}

function PlaceForm({ place, siblings, seen, disabled }: PlaceFormProps) {
  const form = useForm({ name: place.set.name, level: place.set.level, note: place.set.note });
  const [deleting, setDeleting] = useState(false);
  const [moving, setMoving] = useState(false);
  const index = siblings.findIndex((s) => s.id === place.id);
  const v = form.values;

  function move(by: -1 | 1) {
    const others = siblings.filter((s) => s.id !== place.id);
    const to = index + by;
    const order = orderBetween(others[to - 1]?.set.order, others[to]?.set.order);
    setMoving(true);
    commit(`Moved ${place.title} ${by < 0 ? 'up' : 'down'}`, seen, [{ op: 'patch', kind: 'place', id: place.id, set: { order } }])
      .catch(complain)
      .finally(() => setMoving(false));
  }

  return (
    <form
      aria-label="Place"
      className="grid max-w-3xl grid-cols-[2fr_1fr_3fr] items-start gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        const why = v.name === place.set.name ? `Changed ${place.title}` : `Renamed ${place.title} to ${v.name}`;
        void form.run((set) => commit(why, seen, [{ op: 'patch', kind: 'place', id: place.id, set }]));
      }}
    >
      <Field label="Name" error={form.error('name')}>
        {(p) => <Input {...p} disabled={disabled} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <Field label="Level" error={form.error('level')}>
        {(p) => (
          <Choice {...p} disabled={disabled} value={v.level} onChange={(e) => form.set('level', e.target.value as Level)}>
            {LEVELS.map((l) => (
              <option key={l}>{l}</option>
            ))}
          </Choice>
        )}
      </Field>
      <Field label="Note" error={form.error('note')}>
        {(p) => <Input {...p} disabled={disabled} value={v.note} onChange={(e) => form.set('note', e.target.value)} />}
      </Field>
      <FormTrouble form={form} className="col-span-3" />
      <div className="col-span-3 flex flex-wrap gap-2">
        <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy}>
          Save place
        </Button>
        <Button disabled={disabled || moving || index <= 0} onClick={() => move(-1)}>
          <ArrowUp className="size-4" /> Move up
        </Button>
        <Button disabled={disabled || moving || index === siblings.length - 1} onClick={() => move(1)}>
          <ArrowDown className="size-4" /> Move down
        </Button>
        <Button kind="quiet" disabled={disabled} onClick={() => setDeleting(true)}>
          Delete place…
        </Button>
      </div>
      {deleting && <DeletePlace place={place} seen={seen} onClose={() => setDeleting(false)} />}
    </form>
  );
}

function DeletePlace({ place, seen, onClose }: { place: Place; seen: number; onClose: () => void }) {
  const go = useGo();
  const form = useForm({}, []);
  const uses = useQuery({
    queryKey: ['uses', 'place', place.id],
    queryFn: () => take(http.GET('/api/items/{kind}/{id}/uses', { params: { path: { kind: 'place', id: place.id } } })),
    staleTime: 0,
  });
  const contents = uses.data?.contents ?? {};
  const counts = (['place', 'tag', 'rule'] as const)
    .filter((k) => contents[k])
    .map((k) => counted(contents[k] ?? 0, k === 'rule' ? 'alarm rule' : k));
  const held = uses.data?.referrers ?? [];
  const remove = () =>
    form
      .run(() => commit(`Deleted ${place.title}`, seen, [{ op: 'delete', kind: 'place', id: place.id, contents: true }]))
      .then((done) => {
        if (!done) return;
        onClose();
        go({ at: place.set.parent ?? undefined, tag: undefined });
      });
  return (
    <Confirm
      open
      title={`Delete ${place.set.name}?`}
      action={counts.length > 0 ? 'Delete it and what hangs on it' : 'Delete place'}
      disabled={!uses.data || held.length > 0 || form.busy}
      onConfirm={() => void remove()}
      onClose={onClose}
    >
      {counts.length > 0 ? (
        <>
          <p>{counts.join(', ')} hang on it and go with it. What was recorded stays in the database.</p>
          <ul className="max-h-40 overflow-auto text-sm text-soft">
            {uses.data?.names.map((name) => (
              <li key={name}>{name.replaceAll('/', ' / ')}</li>
            ))}
          </ul>
        </>
      ) : (
        <p>Nothing hangs on it.</p>
      )}
      {held.length > 0 && <p className="text-act4">It cannot go yet: {held.join('; ')}.</p>}
      {form.other && <p className="text-act4">{form.other}</p>}
    </Confirm>
  );
}

interface ChildrenProps {
  at: string | null;
  level: Level | undefined;
  children_: Place[];
  seen: number;
  disabled: boolean;
}

function Children({ at, level, children_, seen, disabled }: ChildrenProps) {
  const go = useGo();
  const next = LEVELS[Math.min(level ? LEVELS.indexOf(level) + 1 : 0, LEVELS.length - 1)] ?? 'unit';
  const form = useForm({ name: '', level: next });
  return (
    <section aria-label="Places under it">
      <h2 className="mb-1 font-semibold">{at ? 'Places under it' : 'Sites'}</h2>
      {children_.length > 0 && (
        <ul className="mb-2 max-w-3xl border border-line bg-raised">
          {children_.map((child) => (
            <li key={child.id} className="flex h-7 items-center border-t border-line px-2 first:border-t-0 hover:bg-band">
              <button
                type="button"
                className="min-w-0 flex-1 truncate text-left hover:text-teal"
                onClick={() => go({ at: child.id })}
              >
                {child.set.name}
              </button>
              <span className="text-soft">{child.set.level}</span>
            </li>
          ))}
        </ul>
      )}
      <form
        className="flex max-w-3xl items-start gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          const order = orderBetween(children_.at(-1)?.set.order, undefined);
          const set = { ...form.values, order, ...(at ? { parent: at } : {}) };
          void form
            .run(() =>
              commit(`Added ${form.values.level} ${form.values.name}`, seen, [{ op: 'create', kind: 'place', id: newId(), set }]),
            )
            .then((done) => done && form.reset({ name: '', level: form.values.level }));
        }}
      >
        <Field label="New place" error={form.error('name') ?? form.other} className="flex-1">
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
        <Field label="Level" error={form.error('level')} className="w-32">
          {(p) => (
            <Choice
              {...p}
              disabled={disabled}
              value={form.values.level}
              onChange={(e) => form.set('level', e.target.value as Level)}
            >
              {LEVELS.map((l) => (
                <option key={l}>{l}</option>
              ))}
            </Choice>
          )}
        </Field>
        <Button type="submit" className="mt-5" disabled={disabled || form.busy || !form.values.name.trim()}>
          <Plus className="size-4" /> Add place
        </Button>
      </form>
    </section>
  );
}
