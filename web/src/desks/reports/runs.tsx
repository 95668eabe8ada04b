// What dispatches made and sent: each run with its deliveries, what was answered, and what can be done about a failure.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Check, CircleAlert, Clock, Download, RotateCw } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import { queries, useMay } from '../../api/queries';
import { complain } from '../../parts/form';
import { bytesWords, lasting, minute, moment } from '../../parts/text';
import { Button, Tick, Trouble } from '../../parts/ui';
import { FORMATS, formatWords } from './dispatch';

type Run = Schemas['RunView'];
type Parcel = Schemas['ParcelView'];

export const RUNS = 'dispatch runs';

interface Props {
  /** Only those of this dispatch, or of this report. */
  dispatch?: string;
  report?: string;
  title: string;
}

/** The runs that are asked for, the newest first. */
export function Runs({ dispatch, report, title }: Props) {
  const [failed, setFailed] = useState(false);
  const [before, setBefore] = useState<string>();
  const query = {
    ...(dispatch ? { dispatch } : {}),
    ...(report ? { report } : {}),
    ...(before ? { before } : {}),
    ...(failed ? { failed } : {}),
  };
  const runs = useQuery({
    queryKey: [RUNS, query],
    queryFn: () => take(http.GET('/api/dispatches/runs', { params: { query } })),
    refetchInterval: 2000,
    staleTime: 0,
  });
  const all = runs.data ?? [];
  return (
    <section aria-label={title} className="flex min-h-40 flex-1 flex-col">
      <div className="mb-1 flex items-center gap-3">
        <h2 className="flex-1 font-semibold">{title}</h2>
        <Tick label="only what failed" checked={failed} onChange={setFailed} />
      </div>
      <Trouble error={runs.error} />
      {runs.data && all.length === 0 && <p className="text-soft">{failed ? 'Nothing failed.' : 'Nothing yet.'}</p>}
      {all.length > 0 && (
        <ol className="min-h-0 flex-1 overflow-auto border border-line bg-raised">
          {all.map((run) => (
            <OneRun key={run.id} run={run} named={!dispatch} />
          ))}
        </ol>
      )}
      {(all.length >= 100 || before) && (
        <div className="mt-1 flex gap-2">
          {before && (
            <Button className="h-6" onClick={() => setBefore(undefined)}>
              Newest
            </Button>
          )}
          {all.length >= 100 && (
            <Button className="h-6" onClick={() => setBefore(all.at(-1)?.at)}>
              Earlier ones
            </Button>
          )}
        </div>
      )}
    </section>
  );
}

const LINK = 'inline-flex h-6 items-center gap-1 rounded border border-line bg-raised px-1.5 text-sm hover:bg-band';

function OneRun({ run, named }: { run: Run; named: boolean }) {
  const operator = useMay('operator');
  const [busy, setBusy] = useState(false);
  const states = [run.made, ...run.deliveries.map((one) => one.state)];
  const open = states.some((state) => state === 'again' || state === 'waiting');
  const lost = states.some((state) => state === 'again' || state === 'failed');
  const act = async (what: 'again' | 'stop') => {
    setBusy(true);
    try {
      const params = { params: { path: { id: run.id } } };
      await take(
        what === 'again'
          ? http.POST('/api/dispatches/runs/{id}/again', params)
          : http.POST('/api/dispatches/runs/{id}/stop', params),
      );
      await queries.invalidateQueries({ queryKey: [RUNS] });
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <li className="border-t border-line px-2 py-1.5 first:border-t-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className="figures font-semibold">{moment(run.at)}</span>
        {named && (
          <span className="min-w-0 truncate">
            {run.name}
            {run.report_name && run.report_name !== run.name && <span className="text-soft"> · {run.report_name}</span>}
          </span>
        )}
        <span className="flex-1 text-sm text-soft">{run.by && `asked for by ${run.by}`}</span>
        {operator && lost && (
          <Button className="h-6" disabled={busy} onClick={() => void act('again')}>
            <RotateCw className="size-3.5" /> Try again now
          </Button>
        )}
        {operator && open && lost && (
          <Button kind="quiet" className="h-6" disabled={busy} onClick={() => void act('stop')}>
            Stop trying
          </Button>
        )}
      </div>
      <p className="text-sm text-soft">
        covers <span className="figures">{minute(run.from)}</span> to <span className="figures">{minute(run.to)}</span>
      </p>
      {run.made === 'done' ? (
        <span className="mt-0.5 flex flex-wrap gap-1">
          {FORMATS.map((format) => (
            <a key={format} href={`/api/editions/${run.id}/${format}`} download className={LINK}>
              <Download className="size-3" /> {format.toUpperCase()}
            </a>
          ))}
        </span>
      ) : (
        <State state={run.made} words={run.made === 'waiting' ? 'being made' : `not made: ${run.answer}`} next={run.next_at} />
      )}
      <ul>
        {run.deliveries.map((parcel) => (
          <Delivered key={parcel.id} parcel={parcel} />
        ))}
      </ul>
    </li>
  );
}

const ICONS = { done: Check, waiting: Clock, again: RotateCw, failed: CircleAlert } as const;

function State({ state, words, next }: { state: string; words: string; next: string }) {
  const now = useNow();
  const Icon = ICONS[state as keyof typeof ICONS] ?? Clock;
  const again = state === 'again' && next ? `; tried again in ${lasting(Math.max(0, Date.parse(next) - now))}` : '';
  return (
    <p className={clsx('flex gap-1.5 text-sm', state === 'failed' && 'text-act4')}>
      <Icon aria-hidden className="mt-0.5 size-3.5 shrink-0" />
      <span className="wrap-anywhere">
        {words}
        {again}
      </span>
    </p>
  );
}

/** How long a delivery took. */
const tookWords = (ms: number) => (ms < 1000 ? `${ms} ms` : `${(ms / 1000).toFixed(1)} s`);

function Delivered({ parcel }: { parcel: Parcel }) {
  const tries = parcel.attempts > 1 ? `, after ${parcel.attempts} attempts` : '';
  const words = {
    done: `sent to ${parcel.to} as ${formatWords(parcel.formats)}: ${bytesWords(parcel.bytes)} in ${tookWords(parcel.took_ms)}${tries}. ${parcel.answer}`,
    waiting: `to ${parcel.to} as ${formatWords(parcel.formats)}`,
    again: `not sent to ${parcel.to} (${parcel.attempts}×): ${parcel.answer}`,
    failed: `not sent to ${parcel.to}, and given up${tries}: ${parcel.answer}`,
  }[parcel.state as 'done'];
  return (
    <li>
      <State state={parcel.state} words={words} next={parcel.next_at} />
    </li>
  );
}
