// What lies below a node that a connection offers, page by page, as far as it can be listed.

import { http, type Schemas, take } from '../../api/client';

export type Offer = Schemas['NodeView'];

/** A node of which only id and name are known; by itself the top of the server. */
export const NOTHING: Offer = {
  id: '',
  name: '',
  parts: [],
  branch: true,
  inside: false,
  of_type: '',
  about: '',
  description: '',
  writable: false,
  states: [],
  point: null,
  set: {},
  refused: '',
  readings: [],
  taken: '',
};

/** Most that is listed below one node. */
export const MOST = 20_000;
/** Most pages that are asked for: a device may give small ones, or empty ones without end. */
const MOST_PAGES = 200;

export interface Below {
  nodes: Offer[];
  /** What the parts of the nodes are called. */
  parts: string[];
  /** Whether there are more than are listed. */
  more: boolean;
}

export async function below(connection: string, node: string, most: number): Promise<Below> {
  const nodes: Offer[] = [];
  let parts: string[] = [];
  let cursor: string | null = '';
  for (let page = 0; cursor !== null && nodes.length < MOST && page < MOST_PAGES; page += 1) {
    const told: Schemas['ChildrenView'] = await take(
      http.POST('/api/connections/{id}/browse', { params: { path: { id: connection } }, body: { node, cursor, most } }),
    );
    nodes.push(...told.nodes);
    parts = told.parts;
    cursor = told.next ?? null;
  }
  return { nodes, parts, more: cursor !== null };
}
