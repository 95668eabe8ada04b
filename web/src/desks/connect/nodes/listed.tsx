// What is new or gone below the nodes that are open, since somebody marked what the device lists there as seen.

import { useQueries, useQueryClient } from '@tanstack/react-query';
import { http, type Schemas, take } from '../../../api/client';
import { complain } from '../../../parts/form';
import type { Known } from '../../../parts/nodes/tree';
import { counted, moment } from '../../../parts/text';
import { Button } from '../../../parts/ui';

/** Most nodes below one that are compared, as the server takes them. */
const MOST = 5000;

/** What a node lists, and how that differs from before. */
export interface Listed {
  node: string;
  nodes: [string, string][];
  view: Schemas['ListedView'] | undefined;
}

// What is generated for a request forgets that pairs have two parts.
const compare = (connection: string, node: string, nodes: [string, string][], seen: boolean) =>
  take(
    http.POST('/api/connections/{id}/listed', { params: { path: { id: connection } }, body: { node, nodes, note: seen } }),
  ) as Promise<Schemas['ListedView']>;

/** Id and name of each, and a number that is another one as soon as an id is; made once for a list. */
const made = new WeakMap<Known['nodes'], { nodes: [string, string][]; sum: number }>();

function listOf(all: Known['nodes']) {
  let list = made.get(all);
  if (!list) {
    const nodes = all.filter(({ inside }) => !inside).map(({ id, name }): [string, string] => [id, name]);
    let sum = nodes.length;
    for (const [id] of nodes) for (let i = 0; i < id.length; i += 1) sum = (Math.imul(sum, 31) + id.charCodeAt(i)) | 0;
    list = { nodes, sum };
    made.set(all, list);
  }
  return list;
}

/** Compares what is known of nodes, where that is all and not too much. */
export function useListed(connection: string, known: ReadonlyMap<string, Known>): Listed[] {
  const whole = [...known].filter(([, { more, nodes }]) => !more && nodes.length <= MOST);
  const all = whole.map(([node, { nodes }]) => ({ node, ...listOf(nodes) }));
  const some = all.filter(({ nodes }) => nodes.length > 0);
  const views = useQueries({
    queries: some.map(({ node, nodes, sum }) => ({
      queryKey: ['items', 'listed', connection, node, sum],
      queryFn: () => compare(connection, node, nodes, false),
      staleTime: Number.POSITIVE_INFINITY,
    })),
  });
  return some.map(({ node, nodes }, i) => ({ node, nodes, view: views[i]?.data }));
}

/** Counts the differences, and marks what is listed now as seen. */
export function Differences({ listed, connection }: { listed: readonly Listed[]; connection: string }) {
  const queries = useQueryClient();
  const others = listed.filter(({ view }) => view && view.new.length + view.gone.length > 0);
  if (others.length === 0) return null;
  const sum = (of: 'new' | 'gone') => others.reduce((count, { view }) => count + (view?.[of].length ?? 0), 0);
  const since = others.map(({ view }) => view?.since ?? '').sort()[0] ?? '';
  async function mark() {
    try {
      for (const { node, nodes } of others) await compare(connection, node, nodes, true);
    } catch (error) {
      complain(error);
    }
    await queries.invalidateQueries({ queryKey: ['items', 'listed', connection] });
  }
  return (
    <span role="status" className="ml-auto flex items-center gap-3">
      {counted(sum('new'), 'node')} new and {sum('gone').toLocaleString('en')} gone since {moment(since)}
      <Button kind="quiet" onClick={() => void mark()}>
        Mark as seen
      </Button>
    </span>
  );
}
