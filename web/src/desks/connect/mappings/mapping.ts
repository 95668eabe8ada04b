// Mappings as they are made on the page: from values that were chosen of one message, for every topic that fits.

import { newId, type Schemas } from '../../../api/client';
import type { Mapped, Mapping } from '../../../api/model';
import type { Place } from '../../../parts/nodes/tree';

/** The draft of a mapping of a connection, by the name under which it is kept. */
export const draftName = (connection: string) => `mapping ${connection}`;

/** A mapping that is made or changed. */
export interface Draft extends Mapping {
  /** It is one of the connection's already. */
  saved: boolean;
}

export const BLANK: Mapped = { name: '', unit: '', decimals: null, point: { member: '' } };

export const blankMapping = (): Draft => ({ id: newId(), topics: '', place: '', record: true, tags: [BLANK], saved: false });

/** What stands in braces as it is typed: the levels of a topic by their numbers. */
export const levelsOf = (topic: string) => topic.split('/').map((level, i) => ({ text: `{${i + 1}}`, level }));

/** A filter for topics like this one: levels with a digit are taken for those that differ. */
export const likeIt = (topic: string) =>
  topic
    .split('/')
    .map((level) => (/\d/.test(level) ? '+' : level))
    .join('/');

/** Whether a topic fits a filter. */
export function fits(topic: string, filter: string): boolean {
  const levels = topic.split('/');
  const wanted = filter.trim().split('/');
  for (const [i, one] of wanted.entries()) {
    if (one === '#') return true;
    const level = levels[i];
    if (level === undefined || (one !== '+' && one !== level)) return false;
  }
  return levels.length === wanted.length;
}

/** A path with its levels that differ named by their numbers: what belongs to one topic then belongs to every one. */
function general(text: string, topic: string, filter: string): string {
  const levels = topic.split('/');
  const open = filter.split('/').flatMap((one, i) => (one === '+' && levels[i] ? [i] : []));
  return open.reduce((all, i) => all.replaceAll(levels[i] ?? '', `{${i + 1}}`), text);
}

/**
 * The mapping that chosen values begin with: those of the topic of the first of them. `listened` is the filter that is listened
 * to, `place` where something like it lies.
 */
export function mappingOf(chosen: readonly Place[], listened: string): Draft {
  const topicOf = (one: Place) => String((one.offer.point as { topic?: string } | null)?.topic ?? '');
  const topic = topicOf(chosen[0] as Place);
  const own = listened.trim();
  const topics = own.includes('+') && fits(topic, own) ? own : likeIt(topic);
  const of = chosen.filter((one) => topicOf(one) === topic);
  const names = new Set<string>();
  const tags = of.map((one): Mapped => {
    const { topic: _, ...point } = one.offer.point as Record<string, unknown>;
    const set = one.offer.set as Partial<Mapped>;
    const index = /^\[(\d+)\]$/.exec(one.offer.name)?.[1];
    const inside = one.above.filter(({ inside }) => inside).map(({ name }) => name);
    const plain = index === undefined ? one.offer.name : `${inside.at(-1) ?? ''} ${index}`;
    // Of a message without members the value is called after its topic.
    const first = inside.length > 0 || one.offer.inside ? plain : general(one.offer.name, topic, topics);
    const name = names.has(first) ? `${inside.join(' ')} ${first}` : first;
    names.add(name);
    return { name: name.trim(), unit: set.unit ?? '', decimals: set.decimals ?? null, point };
  });
  const levels = topic.split('/');
  const last = topics.split('/').lastIndexOf('+');
  const above = levels.slice(0, Math.max(last, 0));
  const place = [
    ...above.map((level, i) => (topics.split('/')[i] === '+' ? `{${i + 1}}` : level)),
    ...(last >= 0 ? [`{${last + 1}}`] : []),
  ];
  return { ...blankMapping(), topics, place: place.join(' / '), tags };
}

/** What a mapping would make of a topic, as the server tells it. */
type Tried = Schemas['TriedView'];

/** The draft named after tags that read one of its topics already, where there are some and it is named otherwise. */
export function likeTags(draft: Draft, tried: readonly Tried[]): Draft | null {
  const known = tried.find((one) => one.tags.length === draft.tags.length && one.tags.every((tag) => tag.taken));
  if (!known) return null;
  const parts = known.tags.map(({ taken }) => taken.split('/'));
  const places = new Set(parts.map((part) => part.slice(0, -1).join(' / ')));
  const named = (text: string) => general(text, known.key, draft.topics.trim());
  const tags = draft.tags.map((tag, i) => ({ ...tag, name: named(parts[i]?.at(-1) ?? tag.name) }));
  const next = { ...draft, place: named([...places][0] ?? ''), tags };
  const all = places.size === 1 && next.place.includes('{');
  return all && JSON.stringify(next) !== JSON.stringify(draft) ? next : null;
}

/** What a tag takes of a message, in words. */
export function takenOf({ point }: Mapped): string {
  const { format = 'json', member = '', column } = point as { format?: string; member?: string; column?: number };
  if (format === 'line') return `field ${column ?? ''}`;
  return format === 'json' ? member || 'all of it' : format;
}
