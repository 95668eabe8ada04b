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

const words = (field: string) => field.replaceAll('_', ' ');

export function OfClass({ tag, seen, disabled }: { tag: Item<'tag'>; seen: number; disabled: boolean }) {
  const go = useGo();
  const place = useItems('place', { only: tag.set.place }).data?.items[0];
  const own = overrides(tag);
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
      {own.map((field) => (
        <p key={field} className="flex items-center gap-2">
          <span className="flex-1">{words(field)} is an override</span>
          <Button kind="quiet" disabled={disabled} aria-label={`Put back ${words(field)}`} onClick={() => void back([field])}>
            Put back
          </Button>
        </p>
      ))}
    </section>
  );
}

/** Leaves the property of a tag out on its equipment; the tag goes. */
export async function leaveOut(tag: Item<'tag'>): Promise<void> {
  const { items, revision } = await itemsNow('place', { only: tag.set.place });
  const without = [...(items[0]?.set.without ?? []), tag.set.property ?? ''];
  await commit(`Left out ${tag.title}`, revision, [{ op: 'patch', kind: 'place', id: tag.set.place, set: { without } }]);
}
