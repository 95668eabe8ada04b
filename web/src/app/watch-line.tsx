// The watch line: the most urgent alarm with its acknowledge, counts, connections, spool, plant time.

import { useQuery } from '@tanstack/react-query';
import { Link } from '@tanstack/react-router';
import clsx from 'clsx';
import { TriangleAlert } from 'lucide-react';
import { useState } from 'react';
import { toast } from 'sonner';
import { waits } from '../api/alarm-state';
import { take as answer, http } from '../api/client';
import { useLink, useNow, useStatus } from '../api/live';
import { actOnAlarms, useAlarms, useItems, useMay } from '../api/queries';
import { usePast } from '../api/shown';
import { mostUrgent, Pips } from '../parts/pips';
import { ALL_STORED, clock, counted, stored } from '../parts/text';
import { Button } from '../parts/ui';
import { SoundPart } from './attention';
import { JobLine } from './job-line';
import { InstantPart } from './look-back';
import { useGo, useView } from './view';

/** How many alarm rules cannot work at present; counted once a minute, for everybody alike. */
function CannotWork() {
  const view = useView();
  const moment = Math.floor(useNow() / 60_000);
  const total = useQuery({
    queryKey: ['sheet', 'cannot work', moment],
    placeholderData: (before) => before,
    queryFn: () => answer(http.GET('/api/sheets/rules', { params: { query: { faulty: true, moment, count: 0 } } })),
  }).data?.total;
  if (!total) return null;
  return (
    <Link
      to="/alarms"
      search={{ at: view.at, part: 'rules', finding: 'faulty' } as never}
      className="shrink-0 rounded px-1.5 py-0.5 font-semibold hover:bg-band"
      title="Alarm rules that cannot work at present, each with its reason"
    >
      <TriangleAlert aria-hidden className="mr-1 inline size-3.5 align-[-0.15em]" />
      {counted(total, 'rule')} cannot work
    </Link>
  );
}

export function WatchLine() {
  const alarms = useAlarms().data?.alarms ?? [];
  const status = useStatus();
  const link = useLink();
  // There is room for one; the others follow when it is done.
  const [first, ...others] = status?.jobs ?? [];
  const now = useNow();
  const connections = useItems('connection').data?.items ?? [];
  const mayAcknowledge = useMay('operator');
  const view = useView();
  const go = useGo();
  const isPast = usePast();
  const [busy, setBusy] = useState(false);
  const waiting = alarms.filter((a) => waits(a.state));
  const urgent = mostUrgent(waiting);
  const running = connections.filter((c) => status?.connections[c.id]?.state === 'running').length;
  const wanted = connections.filter((c) => c.set.enabled).length;

  const words = status ? stored(status, now) : '';

  async function take(rule: string) {
    setBusy(true);
    try {
      await actOnAlarms({ action: 'acknowledge', rules: [rule] });
    } catch (error) {
      toast.error(error instanceof Error ? error.message : String(error));
    } finally {
      setBusy(false);
    }
  }

  return (
    <footer className="col-span-3 row-start-4 flex items-center gap-3 border-t border-line px-3.5">
      <div className="alarm-text flex min-w-0 flex-1 items-center gap-3">
        {urgent ? (
          <>
            <Pips priority={urgent.priority} state={urgent.state} />
            <button
              type="button"
              className="min-w-0 truncate text-left font-semibold hover:text-teal"
              onClick={() => go({ alarm: urgent.rule, tag: undefined })}
            >
              {urgent.place_name} · {urgent.text}
            </button>
            {urgent.returned_at && <span className="shrink-0 text-soft">returned {clock(urgent.returned_at)}</span>}
            {urgent.action && <span className="hidden min-w-0 truncate text-soft 2xl:inline">{urgent.action}</span>}
            {mayAcknowledge && (
              <Button className="h-6.5" disabled={busy} onClick={() => void take(urgent.rule)}>
                Acknowledge
              </Button>
            )}
          </>
        ) : (
          <span className="truncate text-soft">No unacknowledged alarms</span>
        )}
      </div>
      {first && <JobLine key={first.id} job={first} />}
      {others.length > 0 && (
        <span className="shrink-0 text-soft" title={others.map((job) => job.title).join('\n')}>
          and {others.length} more {others.length === 1 ? 'job' : 'jobs'}
        </span>
      )}
      {!isPast && <SoundPart />}
      <Link
        to="/alarms"
        search={{ at: view.at, instant: view.instant } as never}
        className="flex shrink-0 items-center gap-2.5 rounded px-1.5 py-0.5 hover:bg-band"
        aria-label="Alarms by priority"
      >
        {[4, 3, 2, 1].map((priority) => (
          <span key={priority} className="flex items-center gap-1">
            <Pips priority={priority} state="unacknowledged" quiet />
            <span className="figures min-w-[1ch] text-sm">
              <span className="sr-only">priority {priority}: </span>
              {alarms.filter((a) => a.priority === priority).length}
            </span>
          </span>
        ))}
      </Link>
      {!isPast && (status?.by_hand.count ?? 0) > 0 && (
        <Link
          to="/alarms"
          search={{ at: view.at, instant: view.instant, part: 'by-hand' } as never}
          className="shrink-0 rounded px-1.5 py-0.5 font-semibold hover:bg-band"
        >
          ✎ {status?.by_hand.count} set by hand
        </Link>
      )}
      {!isPast && <CannotWork />}
      {/* The text of an alarm comes first: what says that all is well gives way to it. */}
      <Link
        to="/connect"
        search={{ at: view.at, instant: view.instant } as never}
        className={clsx(
          'shrink-0 rounded px-1.5 py-0.5 text-soft hover:bg-band',
          urgent && running === wanted && 'hidden 2xl:block',
        )}
      >
        {isPast ? 'as it stood' : `${running} of ${wanted} connections`}
      </Link>
      <span className={clsx('shrink-0 text-soft', urgent && words === ALL_STORED && 'hidden 2xl:block')}>{words}</span>
      <InstantPart instant={view.instant}>
        <span className="figures shrink-0" role="timer" aria-label="Plant time">
          {link === 'open' ? clock(now) : 'no server'}
        </span>
      </InstantPart>
    </footer>
  );
}
