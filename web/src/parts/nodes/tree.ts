// What a device offers as a tree: the rows that are shown, and everything below a node.

import type { Schemas } from '../../api/client';
import { type Below, NOTHING, type Offer } from './below';

/** Most values that are taken from below a node at once. */
export const MOST_TAKEN = 20_000;
/** Deepest that is gone down; deeper ones usually lead in circles. */
const DEEPEST = 30;

/** A node with those above it, the uppermost first. */
export interface Place {
  offer: Offer;
  above: readonly Offer[];
}

/** Levels of a topic from which names are made by example. */
const MOST_LEVELS = 10;

/** What the parts are called of which names are made by example: of nodes, or of topics. */
export const PARTS = {
  nodes: ['path', 'parent', 'node'],
  topics: [...Array.from({ length: MOST_LEVELS }, (_, i) => `level ${i + 1}`), 'member'],
};

/** The parts of a value: each level of its topic and its member in the message, or what stands above a node. */
export function partsOf(place: Place): string[] {
  const { topic } = (place.offer.point ?? {}) as { topic?: string };
  const path = pathOf(place);
  // What stands above the last two levels is seldom part of a name.
  if (topic === undefined) return [path.slice(0, -1).join(' / '), path.at(-1) ?? '', place.offer.name];
  const levels = topic.split('/').slice(0, MOST_LEVELS);
  const inside = [...place.above, place.offer].filter((one) => one.inside).map((one) => one.name);
  return [...levels, ...Array<string>(MOST_LEVELS - levels.length).fill(''), inside.join(' ')];
}

/** The names of those above a node. */
export const pathOf = ({ above }: Pick<Place, 'above'>) => above.map((offer) => offer.name);

/** A node at its place in the tree; a node may stand at several. */
export interface Row extends Place {
  /** The ids from the top to it. */
  key: string;
  /** It stands above itself already. */
  again: boolean;
  /** How it differs from what was listed before. */
  mark?: 'new' | 'gone' | undefined;
}

/** What is known of the children of a node. */
export type Known = Pick<Below, 'nodes' | 'more'>;

const keyOf = (above: string, id: string) => (above ? `${above}\n${id}` : id);

/** What is new or gone below each node since somebody marked what is listed there as seen. */
export type Marks = ReadonlyMap<string, Pick<Schemas['ListedView'], 'new' | 'gone'>>;

/** The rows that are shown, from the top down; the node at the top is not one of them. */
export function rowsOf(known: ReadonlyMap<string, Known>, open: ReadonlySet<string>, marks: Marks = new Map(), top = ''): Row[] {
  const rows: Row[] = [];
  const add = (node: string, key: string, above: readonly Offer[]) => {
    const fresh = new Set(marks.get(node)?.new);
    for (const offer of known.get(node)?.nodes ?? []) {
      const own = keyOf(key, offer.id);
      const again = key.split('\n').includes(offer.id);
      rows.push({ key: own, offer, above, again, mark: fresh.has(offer.id) ? 'new' : undefined });
      if (!again && open.has(own)) add(offer.id, own, [...above, offer]);
    }
    for (const [id, name] of marks.get(node)?.gone ?? []) {
      const offer = { ...NOTHING, id, name, branch: false };
      rows.push({ key: keyOf(key, id), offer, above, again: false, mark: 'gone' });
    }
  };
  add(top, '', []);
  return rows;
}

/** The same for nodes that were found: each stands alone. */
export const rowsFound = (found: readonly Place[]): Row[] =>
  found.map(({ offer, above }) => ({ key: [...above, offer].map((o) => o.id).join('\n'), offer, above, again: false }));

/** Which of what lies below a node is taken. */
export type Wanted = 'every' | 'numbers' | 'writable';

const NUMBERS = /^(SByte|Byte|U?Int(16|32|64)|Float|Double|Number|Integer|UInteger|Boolean|number|switch)$/;

export function isWanted({ point, about, writable }: Offer, wanted: Wanted): boolean {
  if (!point) return false;
  // A method is taken where it is chosen by hand.
  if ('method' in point) return wanted === 'writable' && writable;
  return wanted === 'every' || (wanted === 'numbers' ? NUMBERS.test(about) : writable);
}

/** Whether a node is found by words: each in its name, its description or its node id. */
export function isFound({ name, description, id, inside }: Offer, words: string): boolean {
  // What names a topic in its id is not part of it.
  const own = id.replace(/^(filter=[^;]*;)?(topic=)?/, '');
  const text = `${name} ${description} ${own}`.toLowerCase();
  return (
    !inside &&
    words
      .toLowerCase()
      .split(/\s+/)
      .filter(Boolean)
      .every((word) => text.includes(word))
  );
}

/** How far a walk has come. */
export interface Walked {
  nodes: number;
  found: number;
}

/** What a walk looks for, and where it goes. */
export interface Walk {
  keep: (offer: Offer) => boolean;
  /** Whether it goes into a node; without it, into every one. */
  into?: (offer: Offer) => boolean;
  /** It goes into values too: their elements and members are what is looked for. */
  inside?: boolean;
  /** Most that is found. */
  most?: number;
  children: (node: string) => Promise<Known>;
  tell: (walked: Walked) => void;
  cancelled: () => boolean;
}

/** Most nodes that may fail to answer, after which a walk fails as a whole. */
const MOST_FAILURES = 20;

/** How many nodes are asked for ahead, as many as a connection serves at once. */
const AHEAD = 4;

/**
 * Everything below a node, page by page, the node itself included. Each node is gone into once, so a circle ends. Elements and
 * members are gone into where the walk begins at their value. A node that does not answer is left out. Gives what was found, and
 * whether that is all.
 */
export async function walk(
  from: Place,
  { keep, into = () => true, inside = false, most = MOST_TAKEN, children, tell, cancelled }: Walk,
): Promise<{ found: Place[]; whole: boolean }> {
  const found: Place[] = [];
  const seen = new Set<string>();
  const waiting: Place[] = [from];
  let whole = true;
  let failures = 0;
  while (waiting.length > 0) {
    if (cancelled()) return { found, whole: false };
    const at = waiting.pop() as Place;
    if (seen.has(at.offer.id)) continue;
    seen.add(at.offer.id);
    if (keep(at.offer)) found.push(at);
    if (found.length >= most) return { found, whole: waiting.length === 0 };
    tell({ nodes: seen.size, found: found.length });
    if (!at.offer.branch || !into(at.offer)) continue;
    if (at.above.length >= DEEPEST) {
      whole = false;
      continue;
    }
    // Only the next few are looked at: a folder may hold thousands.
    for (const next of waiting.slice(-AHEAD).filter(({ offer }) => offer.branch && into(offer))) {
      // Whatever fails here fails again when its turn comes, and is told then.
      children(next.offer.id).catch(() => {});
    }
    let known: Known;
    try {
      known = await children(at.offer.id);
    } catch (error) {
      failures += 1;
      if (at === from || failures > MOST_FAILURES) throw error;
      whole = false;
      continue;
    }
    whole &&= !known.more;
    const above = [...at.above, at.offer];
    const taken = known.nodes.filter((offer) => inside || !offer.inside || at.offer.inside || at.offer.id === from.offer.id);
    waiting.push(...taken.toReversed().map((offer) => ({ offer, above })));
  }
  return { found, whole };
}

/** Objects of a type, and which of the values below them somebody chose: by the names that lead there. */
export interface Alike {
  type: string;
  name: string;
  paths: string[][];
}

/** The types of the objects right above what was chosen, with what was chosen below them. */
export function alikeOf(chosen: Iterable<Place>): Alike[] {
  const all = new Map<string, Alike>();
  for (const { offer, above } of chosen) {
    const depth = above.findLastIndex((object) => object.of_type !== '');
    const object = above[depth];
    if (!object) continue;
    const known = all.get(object.of_type) ?? { type: object.of_type, name: object.about, paths: [] };
    all.set(object.of_type, known);
    const path = [...above.slice(depth + 1), offer].map((o) => o.name);
    if (!known.paths.some((other) => other.join('\n') === path.join('\n'))) known.paths.push(path);
  }
  return [...all.values()];
}

/** What stands below an object at these names; those that are missing are left out. */
export async function resolved(
  object: Place,
  paths: readonly (readonly string[])[],
  children: (node: string) => Promise<Known>,
): Promise<Place[]> {
  const found: Place[] = [];
  for (const path of paths) {
    let at: Place | undefined = object;
    for (const name of path) {
      if (!at) break;
      const above: readonly Offer[] = [...at.above, at.offer];
      const next: Offer | undefined = (await children(at.offer.id)).nodes.find((offer) => offer.name === name);
      at = next && { offer: next, above };
    }
    if (at?.offer.point) found.push(at);
  }
  return found;
}

/** Where a node would stand in the plant: a place that is there already and ends as its path does, else its path. */
export function placeOf(path: readonly string[], places: readonly string[]): string {
  const own = path.join('/');
  if (!own) return '';
  const ends = places.filter((place) => place === own || place.endsWith(`/${own}`));
  if (ends.length === 1) return ends[0] as string;
  const roots = places.filter((place) => !place.includes('/'));
  return roots.length === 1 && ends.length === 0 ? `${roots[0]}/${own}` : own;
}
