// Connections in trouble, told once for all that reads from them.

import { useStatus } from '../../api/live';
import { useItems } from '../../api/queries';
import { useGo } from '../../app/view';
import { clock } from '../../parts/text';
import { Button } from '../../parts/ui';
import type { Tag } from './cards';

/** By connection: what is wrong, and in how many places that is seen. */
export type TroubleMap = ReadonlyMap<string, { words: string; seen: number }>;

/** The connections in trouble that these places read from. */
export function useTroubles(places: readonly (readonly Tag[])[]): TroubleMap {
  const status = useStatus();
  const troubles = new Map<string, { words: string; seen: number }>();
  for (const tags of places) {
    for (const id of new Set(tags.map((t) => t.set.connection))) {
      const health = id ? status?.connections[id] : undefined;
      if (!id || health?.state !== 'trouble') continue;
      const words = `No data since ${clock(health.since)} · ${health.message}`;
      troubles.set(id, { words, seen: (troubles.get(id)?.seen ?? 0) + 1 });
    }
  }
  return troubles;
}

/** Those that are seen in at least so many places, each with its words and the way to its connection. */
export function Troubles({ troubles, least }: { troubles: TroubleMap; least: number }) {
  const go = useGo();
  const connections = useItems('connection', {}, troubles.size > 0).data?.items ?? [];
  const names = new Map(connections.map((c) => [c.id, c.set.name]));
  return [...troubles].map(
    ([id, { words, seen }]) =>
      seen >= least && (
        <p key={id} className="mb-2 flex items-baseline gap-2 rounded border border-line bg-raised px-3 py-1 text-act4">
          <span className="min-w-0 flex-1">
            ⨯ {names.get(id)}: {words}
          </span>
          <Button kind="quiet" onClick={() => go({ connection: id }, '/connect')}>
            Show the connection
          </Button>
        </p>
      ),
  );
}
