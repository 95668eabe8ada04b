// A place: its settings, what refers to it, and the places under it.

import { ArrowDown, ArrowUp, Plus } from 'lucide-react';
import { useMemo, useState } from 'react';
import { newId } from '../../api/client';
import type { Item, Level } from '../../api/model';
import { childrenOf, type Spot } from '../../api/places';
import { commit, useItems } from '../../api/queries';
import { type PlantTree, pathOf } from '../../api/tree';
import { DeletePlaces } from '../../app/delete-places';
import { levelBelow, usePlantActs } from '../../app/plant-acts';
import { liesUnder, nestingWords } from '../../app/tree';
import { Uses } from '../../app/uses';
import { useGo } from '../../app/view';
import { complain, numberOf, textOf, useForm } from '../../parts/form';
import { ListField } from '../../parts/picker';
import { counted } from '../../parts/text';
import { Button, Choice, Field, FormTrouble, Input } from '../../parts/ui';
import { Equipment, GiveClass } from './classes/equipment';

const LEVELS: Level[] = ['site', 'area', 'line', 'unit', 'equipment', 'device'];
const MANY: Record<Level, string> = {
  site: 'sites',
  area: 'areas',
  line: 'lines',
  unit: 'units',
  equipment: 'pieces of equipment',
  device: 'devices',
};
type Place = Item<'place'>;
type PlacePatch = { [F in keyof Place['set']]?: Place['set'][F] | null };

export function PlacePage({ tree, place, disabled }: { tree: PlantTree; place: Place | undefined; disabled: boolean }) {
  return (
    <div className="max-w-4xl space-y-5">
      {place && <PlaceForm key={place.id} tree={tree} place={place} disabled={disabled} />}
      {place?.set.class && <Equipment key={`of ${place.id}`} place={place} disabled={disabled} />}
      {place && !place.set.class && <GiveClass key={`of ${place.id}`} place={place} disabled={disabled} />}
      <Children key={`under ${place?.id ?? ''}`} tree={tree} place={place} disabled={disabled} />
      <Levels tree={tree} place={place} disabled={disabled} />
      {place && (
        <section aria-label="Where used">
          <h2 className="mb-1 font-semibold">Where it is used</h2>
          <Uses kind="place" id={place.id} />
        </section>
      )}
    </div>
  );
}

function PlaceForm({ tree, place, disabled }: { tree: PlantTree; place: Place; disabled: boolean }) {
  const { name, level, counts, note, operator_area, shift_pattern } = place.set;
  const start = {
    name,
    level,
    counts,
    note,
    operator_area,
    shift_pattern,
    latitude: textOf(place.set.latitude),
    longitude: textOf(place.set.longitude),
  };
  const form = useForm(start, undefined, { follow: true, draft: `place ${place.id}` });
  const patterns = useItems('shift_pattern').data?.items ?? [];
  const [deleting, setDeleting] = useState(false);
  const acts = usePlantActs(tree, () => undefined);
  const v = form.values;
  const above = place.set.parent ? tree.byId.get(place.set.parent) : undefined;
  const idle = !place.set.in_service;
  return (
    <form
      aria-label="Place"
      className="grid grid-cols-[2fr_1fr_1.4fr_3fr] items-start gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        const why = v.name === name ? `Changed ${place.title}` : `Renamed ${place.title} to ${v.name}`;
        // Only what was changed here: what somebody else changed beside it stays.
        void form.run(() => {
          const { latitude, longitude, ...set } = form.changed();
          const degrees = (text: string | undefined) => (text === undefined ? undefined : numberOf(text));
          const at = { latitude: degrees(latitude), longitude: degrees(longitude) };
          return commit(why, tree.revision, [{ op: 'patch', kind: 'place', id: place.id, set: { ...set, ...at } as PlacePatch }]);
        });
      }}
    >
      <Field label="Name" error={form.error('name') ?? form.theirs('name')}>
        {(p) => <Input {...p} disabled={disabled} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <Field label="Level" error={form.error('level')} hint={nestingWords(v.level, above?.level)}>
        {(p) => (
          <Choice {...p} disabled={disabled} value={v.level} onChange={(e) => form.set('level', e.target.value as Level)}>
            {LEVELS.map((l) => (
              <option key={l}>{l}</option>
            ))}
          </Choice>
        )}
      </Field>
      <Field label="Trouble counts above" error={form.error('counts')}>
        {(p) => (
          <Choice
            {...p}
            disabled={disabled}
            value={v.counts ?? ''}
            onChange={(e) => form.set('counts', (e.target.value || null) as 'each' | 'one' | null)}
          >
            <option value="">as its level does</option>
            <option value="each">each by itself</option>
            <option value="one">as one</option>
          </Choice>
        )}
      </Field>
      <Field label="Note" error={form.error('note') ?? form.theirs('note')}>
        {(p) => <Input {...p} disabled={disabled} value={v.note} onChange={(e) => form.set('note', e.target.value)} />}
      </Field>
      <div className="col-span-4 flex items-start gap-3">
        <Field
          label="Operator area, who watches its alarms"
          error={form.error('operator_area') ?? form.theirs('operator_area')}
          className="w-64"
        >
          {(p) => (
            <Input
              {...p}
              placeholder="as the place above"
              disabled={disabled}
              value={v.operator_area}
              onChange={(e) => form.set('operator_area', e.target.value)}
            />
          )}
        </Field>
        <Field label="Shift pattern" error={form.error('shift_pattern') ?? form.theirs('shift_pattern')} className="w-48">
          {(p) => (
            <ListField
              label="Shift pattern"
              field={p}
              none="as the place above"
              disabled={disabled}
              value={v.shift_pattern ?? ''}
              from={patterns.map((one) => ({ id: one.id, title: one.set.name }))}
              onChange={(id) => form.set('shift_pattern', id || null)}
            />
          )}
        </Field>
        {(['latitude', 'longitude'] as const).map((field) => (
          <Field
            key={field}
            label={field === 'latitude' ? 'Latitude, ° north' : 'Longitude, ° east'}
            error={form.error(field) ?? form.theirs(field)}
            className="w-36"
          >
            {(p) => (
              <Input
                {...p}
                className="figures text-right"
                disabled={disabled}
                value={v[field]}
                onChange={(e) => form.set(field, e.target.value)}
              />
            )}
          </Field>
        ))}
        {place.set.latitude !== null && place.set.longitude !== null && (
          <a className="mt-6 text-teal hover:underline" href={`geo:${place.set.latitude},${place.set.longitude}`}>
            Open in a map
          </a>
        )}
      </div>
      <FormTrouble form={form} className="col-span-4" />
      <div className="col-span-4 flex flex-wrap gap-2">
        <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy}>
          Save place
        </Button>
        <Button disabled={disabled} onClick={() => acts.shift([place.id], 'up')}>
          <ArrowUp className="size-4" /> Move up
        </Button>
        <Button disabled={disabled} onClick={() => acts.shift([place.id], 'down')}>
          <ArrowDown className="size-4" /> Move down
        </Button>
        <Button disabled={disabled} onClick={() => acts.service([place.id], idle)}>
          {idle ? 'Put into service' : 'Take out of service'}
        </Button>
        <Button kind="quiet" disabled={disabled} onClick={() => setDeleting(true)}>
          Delete place…
        </Button>
      </div>
      {deleting && <DeletePlaces tree={tree} ids={[place.id]} onClose={() => setDeleting(false)} />}
    </form>
  );
}

/** How trouble counts above, for all places of a level at once: for the whole plant, or under one place. */
function Levels({ tree, place, disabled }: { tree: PlantTree; place: Place | undefined; disabled: boolean }) {
  const top = place?.id;
  // A large plant has tens of thousands of places: looked through once for each tree.
  const rows = useMemo(() => {
    const inside = [...tree.byId.values()].filter((p) => !top || (p.id !== top && liesUnder(tree.byId, p.id, top)));
    const byLevel = Map.groupBy(inside, (p) => p.level as Level);
    return LEVELS.flatMap((level) => {
      const spots = byLevel.get(level);
      return spots ? [{ level, spots, ones: spots.filter((p) => p.one).length }] : [];
    });
  }, [tree, top]);
  if (rows.length === 0) return null;
  async function set(level: Level, spots: readonly Spot[], counts: 'each' | 'one' | null) {
    const edits = spots.map(({ id }) => ({ op: 'patch' as const, kind: 'place' as const, id, set: { counts } }));
    const where = place ? ` under ${place.title}` : '';
    const how = counts === null ? 'as its level does' : counts === 'one' ? 'as one' : 'each by itself';
    try {
      await commit(`Trouble of every ${level}${where} counts above ${how}`, tree.revision, edits);
    } catch (error) {
      complain(error);
    }
  }
  return (
    <section aria-label="Trouble by level">
      <h2 className="mb-1 font-semibold">How trouble counts above, by level</h2>
      <table className="border border-line bg-raised text-left">
        <tbody>
          {rows.map(({ level, spots, ones }) => (
            <tr key={level} className="h-8 border-t border-line first:border-t-0">
              <td className="w-56 px-2">
                {counted(spots.length, level === 'equipment' ? 'piece of equipment' : level, MANY[level])}
              </td>
              <td className="w-60 text-soft">
                {ones === 0
                  ? 'each alarm and bad tag by itself'
                  : ones === spots.length
                    ? 'as one each'
                    : `${ones} of them as one`}
              </td>
              <td className="w-56 pr-2">
                <Choice
                  aria-label={`How trouble of every ${level} counts above`}
                  disabled={disabled}
                  value=""
                  onChange={(e) => void set(level, spots, e.target.value === 'usual' ? null : (e.target.value as 'each' | 'one'))}
                >
                  <option value="">set for all of them …</option>
                  <option value="one">as one each</option>
                  <option value="each">each by itself</option>
                  <option value="usual">as the level usually does</option>
                </Choice>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Children({ tree, place, disabled }: { tree: PlantTree; place: Place | undefined; disabled: boolean }) {
  const go = useGo();
  const at = place?.id ?? null;
  const children = childrenOf(tree, at);
  const form = useForm({ name: '', level: levelBelow(place?.set.level) }, undefined, { draft: `place under ${at ?? 'all'}` });
  return (
    <section aria-label="Places under it">
      <h2 className="mb-1 font-semibold">{place ? 'Places under it' : 'Sites'}</h2>
      {children.length > 0 && (
        <ul className="mb-2 border border-line bg-raised">
          {children.map((child) => (
            <li key={child.id} className="flex h-7 items-center gap-3 border-t border-line px-2 first:border-t-0 hover:bg-band">
              <button
                type="button"
                className="min-w-0 flex-1 truncate text-left hover:text-teal"
                onClick={() => go({ at: child.id })}
              >
                {child.name}
              </button>
              {nestingWords(child.level, place?.set.level) && (
                <span className="text-sm text-soft">{nestingWords(child.level, place?.set.level)}</span>
              )}
              {!child.in_service && <span className="text-soft">out of service</span>}
              <span className="w-20 text-right text-soft">{child.level}</span>
            </li>
          ))}
        </ul>
      )}
      <form
        className="flex items-start gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          const order = (children.at(-1)?.order ?? -1) + 1;
          const set = { ...form.values, order, ...(at ? { parent: at } : {}) };
          void form
            .run(() =>
              commit(`Added ${form.values.level} ${form.values.name}`, tree.revision, [
                { op: 'create', kind: 'place', id: newId(), set },
              ]),
            )
            .then((done) => done && form.reset({ name: '', level: form.values.level }));
        }}
      >
        <Field
          label={place ? `New place under ${pathOf(tree, place.id).split('/').at(-1)}` : 'New site'}
          error={form.error('name') ?? form.other}
          className="flex-1"
        >
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
        <Field
          label="Level"
          error={form.error('level')}
          className="w-32"
          hint={nestingWords(form.values.level, place?.set.level)}
        >
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
