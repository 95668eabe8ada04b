// What a tag has of its equipment class, and what it says itself.

import type { Item } from '../api/model';
import { commit, itemsNow, useItems } from '../api/queries';
import { complain } from '../parts/form';
import { Button } from '../parts/ui';
import { useGo } from './view';

/** Fields that say what a tag stands for, and nothing over its class. */
const KNOWN = ['place', 'property'];

/** Settings that a tag says over its class. */
export const overrides = (tag: Item<'tag'>) =>
  Object.entries(tag.own ?? {}).flatMap(([field, value]) => (KNOWN.includes(field) || value === null ? [] : [field]));

/** What says where a value comes from: a point without its connection, or with another one, is seldom a point at all. */
const SOURCE = ['connection', 'group', 'point'];

/** Overrides that are put back together with this one. */
export const together = (field: string, own: readonly string[]) =>
  field === 'connection' ? SOURCE.filter((f) => own.includes(f)) : [field];

const words = (field: string) => field.replaceAll('_', ' ');

export function OfClass({ tag, seen, disabled }: { tag: Item<'tag'>; seen: number; disabled: boolean }) {
  const go = useGo();
  const place = useItems('place', { only: tag.set.place }).data?.items[0];
  const own = overrides(tag);
  // What goes back with another one has no line of its own.
  const along = own.includes('connection') ? ['group', 'point'] : [];
  const lines = own.filter((field) => !along.includes(field)).map((field) => together(field, own));
  const back = (fields: string[]) =>
    commit(`Put back ${fields.map(words).join(', ')} of ${tag.title}`, seen, [
      { op: 'patch', kind: 'tag', id: tag.id, set: Object.fromEntries(fields.map((field) => [field, null])) },
    ]).catch(complain);
  return (
    <section aria-label="Equipment class" className="rounded border border-line bg-paper p-2">
      <p className="flex items-center gap-1">
        <span className="flex-1 text-soft">Follows the class of its equipment.</span>
        {place?.set.class && (
          <Button kind="quiet" onClick={() => go({ part: 'classes', class: place.set.class ?? undefined }, '/model')}>
            Open class
          </Button>
        )}
      </p>
      {lines.map((fields) => {
        const said = fields.map(words).join(' and ');
        return (
          <p key={said} className="flex items-center gap-2">
            <span className="flex-1">
              {said} {fields.length > 1 ? 'are overrides' : 'is an override'}
            </span>
            <Button kind="quiet" disabled={disabled} aria-label={`Put back ${said}`} onClick={() => void back(fields)}>
              Put back
            </Button>
          </p>
        );
      })}
    </section>
  );
}

/** Leaves the property of a tag out on its equipment; the tag goes. */
export async function leaveOut(tag: Item<'tag'>): Promise<void> {
  const { items, revision } = await itemsNow('place', { only: tag.set.place });
  const without = [...(items[0]?.set.without ?? []), tag.set.property ?? ''];
  await commit(`Left out ${tag.title}`, revision, [{ op: 'patch', kind: 'place', id: tag.set.place, set: { without } }]);
}
