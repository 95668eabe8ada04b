// What the alarms did, newest first, as a sheet over a period and a filter: rows keep their index while new ones happen.

import { useQuery } from '@tanstack/react-query';
import { Download, X } from 'lucide-react';
import { useCallback, useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useItems } from '../../api/queries';
import { eventWords } from '../../app/alarm-events';
import { LookBackTo } from '../../app/look-back';
import { useGo, useView } from '../../app/view';
import type { Period } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { Pips } from '../../parts/pips';
import { PriorityOptions } from '../../parts/priority-options';
import { save } from '../../parts/save';
import { useSettled } from '../../parts/settled';
import { type Column, Sheet } from '../../parts/sheet';
import { counted, moment, pathEnd } from '../../parts/text';
import { Button, Choice, Empty, Input, Tick, Trouble } from '../../parts/ui';

type Event = Schemas['EventView'];

const PIPS: Record<string, 'unacknowledged' | 'returned_unacknowledged'> = {
  raised: 'unacknowledged',
  returned: 'returned_unacknowledged',
};

const COLUMNS: Column<Event>[] = [
  { key: 'time', title: 'Time', width: '12.25rem', render: (e) => <span className="figures">{moment(e.occurred_at)}</span> },
  {
    key: 'event',
    title: 'Event',
    width: '10rem',
    render: (e) => (
      <span className="flex items-center gap-2">
        <Pips priority={e.priority} state={PIPS[e.kind] ?? 'acknowledged'} quiet />
        {eventWords(e)}
      </span>
    ),
  },
  {
    key: 'place',
    title: 'Place',
    width: 'minmax(8rem,0.7fr)',
    render: (e) => (
      <span className="text-soft" title={e.place_path.replaceAll('/', ' / ')}>
        {pathEnd(e.place_path)}
      </span>
    ),
  },
  {
    key: 'what',
    title: 'What',
    width: 'minmax(14rem,2.4fr)',
    render: (e) => (
      <span title={[e.text, ...e.values.map((value) => `${value.name}: ${value.text}`)].join('\n')}>
        {e.text}
        {e.values.map((value) => (
          <span key={value.name} className="text-soft">
            {' '}
            · {value.name} {value.text}
          </span>
        ))}
      </span>
    ),
  },
  {
    key: 'who',
    title: 'Who',
    width: 'minmax(6rem,0.7fr)',
    render: (e) => (
      <>
        {e.actor}
        {e.comment && <span className="text-soft">: {e.comment}</span>}
      </>
    ),
  },
  { key: 'back', title: '', width: '6.75rem', render: (e) => <LookBackTo at={e.occurred_at} /> },
];

/** Which kinds of event are shown, in words, and how the server knows them. */
const KINDS: Record<string, { words: string; kinds: string }> = {
  '': { words: 'everything', kinds: '' },
  came: { words: 'what came', kinds: 'raised' },
  turns: { words: 'what came and returned', kinds: 'raised,returned,withdrawn' },
  people: {
    words: 'what people did',
    kinds: 'acknowledged,reset,shelved,unshelved,taken_out_of_service,put_in_service',
  },
};

interface Filter {
  under?: string;
  rule?: string;
  since?: string;
  until?: string;
  text?: string;
  priorities?: string;
  kinds?: string;
  suppressed: boolean;
}

const page = (filter: Filter, upto: number | undefined, from: number, count: number) =>
  take(
    http.GET('/api/sheets/alarms', {
      params: { query: { ...filter, ...(upto === undefined ? {} : { upto }), from, count } },
    }),
  );

export function AlarmHistory({ at }: { at: string | undefined }) {
  const go = useGo();
  const { words = '', priorities = '', state = '', of, span, end } = useView();
  const [suppressed, setSuppressed] = useState(false);
  const [since, setSince] = useState<{ span: number; from: number }>();
  // A period that ends now begins where it began when it was chosen, so that rows keep their index.
  if (span !== undefined && end === undefined && since?.span !== span) setSince({ span, from: Date.now() - span * 1000 });
  const text = useSettled(words);
  const filter: Filter = { suppressed };
  if (at) filter.under = at;
  if (of) filter.rule = of;
  if (text.trim()) filter.text = text;
  if (priorities) filter.priorities = priorities;
  const kinds = KINDS[state]?.kinds;
  if (kinds) filter.kinds = kinds;
  if (span !== undefined) {
    filter.since = new Date(end === undefined ? (since?.from ?? 0) : end - span * 1000).toISOString();
    if (end !== undefined) filter.until = new Date(end).toISOString();
  }
  const isNarrow = Object.keys(filter).some((key) => key !== 'suppressed' && key !== 'under');
  // Asked for anew whenever an alarm does something.
  const newest = useQuery({
    queryKey: ['alarms', 'newest', filter],
    placeholderData: (before) => before,
    queryFn: () => page(filter, undefined, 0, 0),
  });
  const [held, setHeld] = useState<{ upto: number; total: number } | null>(null);
  const [atTop, setAtTop] = useState(true);
  const now = newest.data;
  const asked = JSON.stringify(filter);
  const [heldFor, setHeldFor] = useState(asked);
  if (heldFor !== asked) {
    setHeldFor(asked);
    setHeld(null);
  }
  // Whoever reads further down is not moved by what happens; at the top the newest comes by itself.
  const shown = atTop || held === null ? now : held;
  const onSeen = useCallback((_: number, top: boolean) => setAtTop(top), []);
  if (shown && held?.upto !== shown.upto && !newest.isPlaceholderData) setHeld({ upto: shown.upto, total: shown.total });
  const newer = now && shown ? now.total - shown.total : 0;
  const empty = now?.total === 0 && !suppressed;
  return (
    <>
      <div className="mb-1 flex h-7 items-center gap-2">
        <span className="text-soft">{shown && `${counted(shown.total, 'event')}, newest first`}</span>
        {newer > 0 && now && <Button onClick={() => setHeld({ upto: now.upto, total: now.total })}>Show {newer} newer</Button>}
        <span className="flex-1" />
        <Files filter={filter} />
      </div>
      <div className="mb-1 flex min-h-7 flex-wrap items-center gap-2">
        <Input
          aria-label="Filter the history"
          className="w-60"
          placeholder="Words of place, text or comment…"
          value={words}
          onChange={(e) => go({ words: e.target.value || undefined })}
        />
        <Choice
          className="w-44"
          aria-label="Which events"
          value={state}
          onChange={(e) => go({ state: e.target.value || undefined })}
        >
          {Object.entries(KINDS).map(([key, kind]) => (
            <option key={key} value={key}>
              {kind.words}
            </option>
          ))}
        </Choice>
        <Choice
          className="w-32"
          aria-label="Of which priority"
          value={priorities.length > 1 ? 'several' : priorities}
          onChange={(e) => go({ priorities: e.target.value || undefined })}
        >
          <option value="">any priority</option>
          {priorities.length > 1 && <option value="several">{priorities.split('').join(' and ')}</option>}
          <PriorityOptions />
        </Choice>
        <PeriodPart
          period={period(span, end)}
          none={span === undefined ? 'All times' : undefined}
          onPick={({ span, end }) => go({ span, end })}
        >
          {periodWords(period(span, end))}
        </PeriodPart>
        <Tick label="also what was suppressed" checked={suppressed} onChange={setSuppressed} />
        {of && <OfRule rule={of} onAll={() => go({ of: undefined })} />}
        {isNarrow && (
          <Button
            kind="quiet"
            onClick={() =>
              go({ words: undefined, priorities: undefined, state: undefined, of: undefined, span: undefined, end: undefined })
            }
          >
            Clear filter
          </Button>
        )}
      </div>
      <Trouble error={newest.error} />
      {empty && isNarrow && (
        <Empty title="No alarm event fits">Take the filter back, or choose another period. What did not occur is not here.</Empty>
      )}
      {empty && !isNarrow && (
        <Empty title="No alarm events yet">Every alarm that is raised, returns or is acknowledged is listed here.</Empty>
      )}
      {shown && !empty && (
        <Sheet
          label="Alarm history"
          columns={COLUMNS}
          source={['alarms', filter, shown.upto]}
          fetch={(from, count) => page(filter, shown.upto, from, count)}
          idOf={(e) => String(e.id)}
          onOpen={(e) => e.tag && go({ alarm: e.rule, tag: undefined })}
          onSeen={onSeen}
          className="min-h-0 flex-1"
        />
      )}
    </>
  );
}

const period = (span: number | undefined, end: number | undefined): Period => ({
  span: span ?? 86_400,
  ...(end === undefined ? {} : { end }),
});

function OfRule({ rule, onAll }: { rule: string; onAll: () => void }) {
  const title = useItems('rule', { only: rule }).data?.items[0]?.title ?? 'one rule';
  return (
    <span className="inline-flex h-7 items-center gap-1 rounded border border-line pl-2">
      only {pathEnd(title)}
      <Button kind="quiet" className="h-6 px-1" aria-label="Events of all rules" onClick={onAll}>
        <X className="size-3.5" />
      </Button>
    </span>
  );
}

/** The events of the filter as files; whole, or refused with the reason. */
function Files({ filter }: { filter: Filter }) {
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const fetch = async (format: 'csv' | 'xlsx') => {
    setBusy(true);
    setError(undefined);
    try {
      const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
      const query = { ...filter, format, zone };
      const file = await take(http.GET('/api/alarms/history/file', { params: { query }, parseAs: 'blob' }));
      save(`alarm-history.${format}`, file as unknown as Blob);
    } catch (problem) {
      setError(problem);
    }
    setBusy(false);
  };
  return (
    <>
      {(['csv', 'xlsx'] as const).map((format) => (
        <Button key={format} disabled={busy} onClick={() => void fetch(format)}>
          <Download className="size-4" /> {format.toUpperCase()}
        </Button>
      ))}
      <Trouble error={error} />
    </>
  );
}
