// What the alarms did, newest first, as a sheet: rows keep their index while new ones happen.

import { useQuery } from '@tanstack/react-query';
import { useCallback, useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { EVENT_WORDS } from '../../app/alarm-events';
import { LookBackTo } from '../../app/look-back';
import { useGo } from '../../app/view';
import { Pips } from '../../parts/pips';
import { type Column, Sheet } from '../../parts/sheet';
import { counted, moment, pathEnd } from '../../parts/text';
import { Button, Empty, Tick, Trouble } from '../../parts/ui';

type Event = Schemas['EventView'];

const PIPS: Record<string, 'unacknowledged' | 'returned_unacknowledged'> = {
  raised: 'unacknowledged',
  returned: 'returned_unacknowledged',
};

const COLUMNS: Column<Event>[] = [
  { key: 'time', title: 'Time', width: '11rem', render: (e) => <span className="figures">{moment(e.occurred_at)}</span> },
  {
    key: 'event',
    title: 'Event',
    width: '9rem',
    render: (e) => (
      <span className="flex items-center gap-2">
        <Pips priority={e.priority} state={PIPS[e.kind] ?? 'acknowledged'} quiet />
        {EVENT_WORDS[e.kind] ?? e.kind}
      </span>
    ),
  },
  {
    key: 'place',
    title: 'Place',
    width: 'minmax(12rem,1fr)',
    render: (e) => (
      <span className="text-soft" title={e.place_path.replaceAll('/', ' / ')}>
        {pathEnd(e.place_path)}
      </span>
    ),
  },
  { key: 'what', title: 'What', width: 'minmax(14rem,1.4fr)', render: (e) => e.text },
  {
    key: 'who',
    title: 'Who',
    width: 'minmax(8rem,0.8fr)',
    render: (e) => (
      <>
        {e.actor}
        {e.comment && <span className="text-soft">: {e.comment}</span>}
      </>
    ),
  },
  { key: 'back', title: '', width: '6rem', render: (e) => <LookBackTo at={e.occurred_at} /> },
];

const page = (at: string | undefined, suppressed: boolean, upto: number | undefined, from: number, count: number) =>
  take(
    http.GET('/api/sheets/alarms', {
      params: { query: { ...(at ? { under: at } : {}), ...(upto === undefined ? {} : { upto }), suppressed, from, count } },
    }),
  );

export function AlarmHistory({ at }: { at: string | undefined }) {
  const go = useGo();
  const [suppressed, setSuppressed] = useState(false);
  // Asked for anew whenever an alarm does something.
  const newest = useQuery({
    queryKey: ['alarms', 'newest', at, suppressed],
    placeholderData: (before) => before,
    queryFn: () => page(at, suppressed, undefined, 0, 0),
  });
  const [held, setHeld] = useState<{ upto: number; total: number } | null>(null);
  const [atTop, setAtTop] = useState(true);
  const now = newest.data;
  // Whoever reads further down is not moved by what happens; at the top the newest comes by itself.
  const shown = atTop || held === null ? now : held;
  const onSeen = useCallback((_: number, top: boolean) => setAtTop(top), []);
  if (shown && held?.upto !== shown.upto) setHeld({ upto: shown.upto, total: shown.total });
  if (newest.error) return <Trouble error={newest.error} />;
  if (!now || !shown) return null;
  if (now.total === 0 && !suppressed)
    return <Empty title="No alarm events yet">Every alarm that is raised, returns or is acknowledged is listed here.</Empty>;
  const newer = now.total - shown.total;
  return (
    <>
      <div className="mb-1 flex h-7 items-center gap-3">
        <span className="text-soft">{counted(shown.total, 'event')}, newest first</span>
        <Tick
          label="also what was suppressed"
          checked={suppressed}
          onChange={(on) => {
            setSuppressed(on);
            setHeld(null);
          }}
        />
        {newer > 0 && <Button onClick={() => setHeld({ upto: now.upto, total: now.total })}>Show {newer} newer</Button>}
      </div>
      <Sheet
        label="Alarm history"
        columns={COLUMNS}
        source={['alarms', at, suppressed, shown.upto]}
        fetch={(from, count) => page(at, suppressed, shown.upto, from, count)}
        idOf={(e) => String(e.id)}
        onOpen={(e) => e.tag && go({ alarm: e.rule, tag: undefined })}
        onSeen={onSeen}
        className="min-h-0 flex-1"
      />
    </>
  );
}
