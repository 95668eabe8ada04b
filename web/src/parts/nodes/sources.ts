// Everything that a connection offers and a tag could read, whatever its kind: nodes of a tree, members of blocks, figures.

import type { Item } from '../../api/model';
import { queries } from '../../api/queries';
import type { KindView } from '../kinds';
import { below, NOTHING, type Offer } from './below';
import { isFound, pathOf, type Walked, walk } from './tree';

/** Something that a tag could read. */
export interface Found {
  /** Tells it apart from others. */
  key: string;
  connection: string;
  /** The names of what stands above it. */
  path: readonly string[];
  name: string;
  offer: Offer;
}

/** What was looked through a minute ago is not asked for again. */
const FRESH = 60_000;
const PAGE = 1000;

interface Looking {
  keep: (found: Pick<Found, 'path' | 'name' | 'offer'>) => boolean;
  most?: number;
  tell: (walked: Walked) => void;
  cancelled: () => boolean;
}

/** Whether anything of a kind of connection can be found by looking. */
export const canLook = ({ can }: KindView) => can.browse && !can.serves && !can.metrics;

/** What a node holds, as far as its type says. */
export function holdsOf({ about, readings }: Pick<Offer, 'about' | 'readings'>): 'number' | 'switch' | 'text' | 'unknown' {
  const own = (readings[0]?.point ?? {}) as { type?: string };
  const type = `${about} ${own.type ?? ''}`.trim();
  if (/^(Boolean|switch|bool)\b/.test(type)) return 'switch';
  if (/^(SByte|Byte|U?Int(16|32|64)|Float|Double|Number|Integer|UInteger|number|[uif](16|32|64)|bcd)\b/.test(type))
    return 'number';
  return /^(String|LocalizedText|text)\b/.test(type) ? 'text' : 'unknown';
}

/** Whether something is found by words: each in its path or name, or in what the device says of it. */
export function hasWords({ path, name, offer }: Pick<Found, 'path' | 'name' | 'offer'>, words: string): boolean {
  const text = [...path, name].join(' ').toLowerCase();
  const rest = words
    .toLowerCase()
    .split(/[\s/]+/)
    .filter((word) => word && !text.includes(word));
  return rest.length === 0 || isFound(offer, rest.join(' '));
}

/** Walks through what a connection offers, or what lists it offers where it has no tree, and gives what is wanted of it. */
export async function sourcesOf(
  connection: Item<'connection'>,
  { can }: KindView,
  { keep, most, tell, cancelled }: Looking,
): Promise<{ found: Found[]; whole: boolean }> {
  const children = (node: string) =>
    queries.fetchQuery({
      queryKey: ['items', 'nodes', connection.id, node],
      queryFn: () => below(connection.id, node, PAGE),
      staleTime: FRESH,
    });
  const found = (offer: Offer, path: readonly string[], name: string): Found => ({
    key: `${connection.id} ${JSON.stringify(offer.point)}`,
    connection: connection.id,
    path,
    name,
    offer,
  });
  if (can.tree) {
    const top = can.listens ? 'filter=#;' : '';
    const root = { offer: { ...NOTHING, id: top }, above: [] };
    const walked = await walk(root, {
      keep: (offer) => offer.point !== null,
      // Where a kind tells nothing of its nodes, they are messages and answers, and what is wanted stands inside.
      inside: !can.tells,
      children,
      tell,
      cancelled,
    });
    const all = walked.found.map((place) => found(place.offer, pathOf(place).filter(Boolean), place.offer.name)).filter(keep);
    return { found: all.slice(0, most), whole: walked.whole && all.length <= (most ?? all.length) };
  }
  const told = await children(can.spaces ? 'blocks' : '');
  tell({ nodes: told.nodes.length, found: told.nodes.length });
  // Of a member of a block the address stands last; it is called by its member.
  const last = told.parts.includes('member') ? told.parts.indexOf('member') : told.parts.length - 1;
  const all = told.nodes
    .filter((offer) => offer.point !== null)
    .map((offer) => found(offer, offer.parts.slice(0, last), offer.parts[last] ?? offer.name))
    .filter(keep);
  return { found: all.slice(0, most), whole: !told.more && all.length <= (most ?? all.length) };
}
