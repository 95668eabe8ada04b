// What the alarms did, newest first.

import { useInfiniteQuery } from '@tanstack/react-query';
import { http, take } from '../../api/client';
import { useGo } from '../../app/router';
import { Pips } from '../../parts/pips';
import { moment } from '../../parts/text';
import { Button, Empty, Trouble } from '../../parts/ui';

const PAGE = 100;
const WORDS: Record<string, string> = {
  raised: 'came',
  returned: 'returned',
  acknowledged: 'acknowledged',
  withdrawn: 'withdrawn',
};

export function AlarmHistory({ at }: { at: string | undefined }) {
  const go = useGo();
  const events = useInfiniteQuery({
    queryKey: ['alarms', 'events', at],
    initialPageParam: undefined as number | undefined,
    queryFn: ({ pageParam }) =>
      take(
        http.GET('/api/alarms/events', {
          params: { query: { limit: PAGE, ...(at ? { under: at } : {}), ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => (last.length === PAGE ? last.at(-1)?.id : undefined),
  });
  const rows = events.data?.pages.flat() ?? [];
  if (events.error) return <Trouble error={events.error} />;
  if (events.data && rows.length === 0)
    return <Empty title="Nothing has happened yet">Every alarm that comes, returns or is acknowledged is kept here.</Empty>;
  return (
    <>
      <table className="w-full border border-line bg-raised text-left">
        <thead className="bg-band text-sm">
          <tr className="h-8">
            <th className="w-40 px-2 font-semibold">Time</th>
            <th className="w-36 font-semibold">Event</th>
            <th className="w-72 font-semibold">Place</th>
            <th className="font-semibold">What</th>
            <th className="w-40 font-semibold">Who</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((e) => (
            <tr key={e.id} className="h-7 border-t border-line hover:bg-band">
              <td className="figures px-2">{moment(e.occurred_at)}</td>
              <td>
                <span className="flex items-center gap-2">
                  <Pips
                    priority={e.priority}
                    state={
                      e.kind === 'raised' ? 'unacknowledged' : e.kind === 'returned' ? 'returned_unacknowledged' : 'acknowledged'
                    }
                    quiet
                  />
                  {WORDS[e.kind] ?? e.kind}
                </span>
              </td>
              <td className="truncate text-soft">{e.place_path.replaceAll('/', ' / ')}</td>
              <td>
                {e.tag ? (
                  <button type="button" className="text-left hover:text-teal" onClick={() => go({ tag: e.tag ?? undefined })}>
                    {e.text}
                  </button>
                ) : (
                  e.text
                )}
              </td>
              <td>
                {e.actor}
                {e.comment && <span className="text-soft">: {e.comment}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {events.hasNextPage && (
        <Button className="mt-3" disabled={events.isFetchingNextPage} onClick={() => void events.fetchNextPage()}>
          Show older
        </Button>
      )}
    </>
  );
}
