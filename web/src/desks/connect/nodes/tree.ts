// What a device offers as a tree: the rows that are shown, and everything below a node.

import type { Below, Offer } from '../below';

/** Most values that are taken from below a node at once. */
export const MOST_TAKEN = 20_000;
/** Deepest that is gone down; deeper ones usually lead in circles. */
const DEEPEST = 30;

/** A node at its place in the tree; a node may stand at several. */
export interface Row {
  /** The ids from the top to it. */
  key: string;
  offer: Offer;
  /** The names of those above it, the uppermost first. */
  path: readonly string[];
  /** It stands above itself already. */
  again: boolean;
}

/** What is known of the children of a node. */
export type Known = Pick<Below, 'nodes' | 'more'>;

const keyOf = (above: string, id: string) => (above ? `${above}\n${id}` : id);

/** The rows that are shown, from the top down. */
export function rowsOf(known: ReadonlyMap<string, Known>, open: ReadonlySet<string>): Row[] {
  const rows: Row[] = [];
  const add = (node: string, key: string, path: readonly string[]) => {
    for (const offer of known.get(node)?.nodes ?? []) {
      const own = keyOf(key, offer.id);
      const again = key.split('\n').includes(offer.id);
      rows.push({ key: own, offer, path, again });
      if (!again && open.has(own)) add(offer.id, own, [...path, offer.name]);
    }
  };
  add('', '', []);
  return rows;
}

/** Which of what lies below a node is taken. */
export type Wanted = 'every' | 'numbers' | 'writable';

const NUMBERS = /^(SByte|Byte|U?Int(16|32|64)|Float|Double|Number|Integer|UInteger|Boolean)$/;

export function isWanted({ point, about, writable }: Offer, wanted: Wanted): boolean {
  if (!point) return false;
  return wanted === 'every' || (wanted === 'numbers' ? NUMBERS.test(about) : writable);
}

/** Something that was chosen, with where it stands. */
export interface Chosen {
  offer: Offer;
  path: readonly string[];
}

/** How far a walk has come. */
export interface Walked {
  nodes: number;
  values: number;
}

/**
 * Everything below a node, page by page, the node itself included. Each node is gone into once, so a circle ends.
 * Gives what was found, and whether that is all.
 */
export async function walk(
  from: Chosen,
  wanted: Wanted,
  children: (node: string) => Promise<Known>,
  tell: (walked: Walked) => void,
  cancelled: () => boolean,
): Promise<{ found: Chosen[]; whole: boolean }> {
  const found: Chosen[] = [];
  const seen = new Set<string>();
  const waiting: Chosen[] = [from];
  let whole = true;
  while (waiting.length > 0) {
    if (cancelled()) return { found, whole: false };
    const at = waiting.pop() as Chosen;
    if (seen.has(at.offer.id)) continue;
    seen.add(at.offer.id);
    if (isWanted(at.offer, wanted)) found.push(at);
    if (found.length >= MOST_TAKEN) return { found, whole: waiting.length === 0 };
    tell({ nodes: seen.size, values: found.length });
    if (!at.offer.branch) continue;
    if (at.path.length >= DEEPEST) {
      whole = false;
      continue;
    }
    const known = await children(at.offer.id);
    whole &&= !known.more;
    const path = [...at.path, at.offer.name];
    waiting.push(...known.nodes.toReversed().map((offer) => ({ offer, path })));
  }
  return { found, whole };
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
