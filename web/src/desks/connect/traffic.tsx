// What passes between Havrel and a device, decoded, as it passes. Nothing is kept while nobody looks.

import clsx from 'clsx';
import { Download, Pause, Play } from 'lucide-react';
import { useEffect, useRef, useState } from 'react';
import type { Schemas } from '../../api/client';
import type { Item } from '../../api/model';
import { stream } from '../../api/stream';
import { complain } from '../../parts/form';
import { save } from '../../parts/save';
import { counted } from '../../parts/text';
import { Button, Field, Input, Tick } from '../../parts/ui';

type Exchange = Schemas['ExchangeView'] & { n: number };

/** Exchanges that are kept while the page is open. */
const KEPT = 2000;
/** Those that are drawn. */
const SHOWN = 200;

/** Whether an exchange holds all the words of a filter. */
export function fits(exchange: Pick<Exchange, 'asked' | 'answered' | 'unit' | 'passed'>, text: string, failed: boolean): boolean {
  if (failed && exchange.passed) return false;
  const hay = `unit ${exchange.unit} ${exchange.asked} ${exchange.answered}`.toLowerCase();
  return text
    .toLowerCase()
    .split(/\s+/)
    .every((word) => hay.includes(word));
}

/** Time of day to the millisecond. */
const fine = (at: string) => {
  const time = new Date(at);
  return `${time.toLocaleTimeString('en-GB')}.${String(time.getMilliseconds()).padStart(3, '0')}`;
};

/** Requests with their answers; of what is only heard, topics with their messages. */
export function Traffic({ item, listens }: { item: Item<'connection'>; listens: boolean }) {
  const kept = useRef<Exchange[]>([]);
  const paused = useRef(false);
  const [rows, setRows] = useState<Exchange[]>([]);
  const [still, setStill] = useState(false);
  const [text, setText] = useState('');
  const [failed, setFailed] = useState(false);
  const [open, setOpen] = useState<number | null>(null);
  useEffect(() => {
    const controller = new AbortController();
    let n = 0;
    const read = async () => {
      const exchanges = stream<Schemas['ExchangeView']>(`/api/connections/${item.id}/traffic`, { signal: controller.signal });
      for await (const exchange of exchanges) {
        n += 1;
        if (!paused.current) kept.current = [{ ...exchange, n }, ...kept.current].slice(0, KEPT);
      }
    };
    read().catch((error) => controller.signal.aborted || complain(error));
    // Many come in a second; the eye wants a few pictures of them.
    const draw = setInterval(() => setRows(kept.current), 250);
    return () => {
      controller.abort();
      clearInterval(draw);
    };
  }, [item.id]);
  const found = rows.filter((row) => fits(row, text, failed));
  const pause = () => {
    paused.current = !paused.current;
    setStill(paused.current);
  };
  const out = () => {
    const lines = found.map(({ n: _, ...exchange }) => JSON.stringify(exchange)).reverse();
    save(`traffic-${item.set.name}.ndjson`, new Blob([`${lines.join('\n')}\n`], { type: 'application/x-ndjson' }));
  };
  return (
    <div>
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <Field label="Filter" className="w-64">
          {(p) => (
            <Input
              {...p}
              placeholder={listens ? 'words of topic or message' : 'unit 3, write, refused …'}
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
          )}
        </Field>
        <span className="pb-1">
          <Tick label="Failed only" checked={failed} onChange={setFailed} />
        </span>
        <Button aria-pressed={still} onClick={pause}>
          {still ? <Play className="size-4" /> : <Pause className="size-4" />} {still ? 'Resume the log' : 'Pause the log'}
        </Button>
        <Button disabled={found.length === 0} onClick={out}>
          <Download className="size-4" /> Save {counted(found.length, listens ? 'message' : 'exchange')}
        </Button>
        <span className="ml-auto pb-1 text-sm text-soft">
          {still ? 'paused' : 'newest first'}
          {found.length < rows.length && ` · ${counted(rows.length - found.length, 'other')} hidden`}
        </span>
      </div>
      <div className="h-80 overflow-auto border border-line" role="log" aria-label="Exchanges" aria-live="off">
        <table className="w-full table-fixed text-left">
          <thead className="sticky top-0 bg-band text-sm">
            <tr className="h-7">
              <th className="w-28 px-2 font-semibold">Time</th>
              {!listens && <th className="w-20 px-2 text-right font-semibold">Took</th>}
              {!listens && <th className="w-12 px-2 text-right font-semibold">Unit</th>}
              <th className={clsx('px-2 font-semibold', listens ? 'w-80' : 'w-64')}>{listens ? 'Topic' : 'Request'}</th>
              <th className="px-2 font-semibold">{listens ? 'Message' : 'Answer'}</th>
            </tr>
          </thead>
          <tbody>
            {found.slice(0, SHOWN).map((row) => (
              <tr key={row.n} className="h-6.5 border-t border-line align-top hover:bg-band">
                <td className="figures px-2">{fine(row.at)}</td>
                {!listens && <td className="figures px-2 text-right text-soft">{(row.took_us / 1000).toFixed(2)} ms</td>}
                {!listens && <td className="figures px-2 text-right">{row.unit}</td>}
                <td className="px-2">
                  <button
                    type="button"
                    aria-expanded={open === row.n}
                    className="max-w-full truncate text-left hover:text-teal"
                    onClick={() => setOpen(open === row.n ? null : row.n)}
                  >
                    {row.asked}
                  </button>
                  {open === row.n && !listens && <Bytes title="sent" text={row.sent} />}
                </td>
                <td className={clsx('px-2', !row.passed && 'text-act4')}>
                  <span className={clsx('block', open !== row.n && 'truncate', row.passed && 'figures')}>
                    {!row.passed && <b>failed: </b>}
                    {row.answered}
                  </span>
                  {open === row.n && <Bytes title="received" text={row.received} />}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {found.length === 0 && (
          <p className="p-2 text-soft">
            {rows.length === 0 ? `Waiting for the next ${listens ? 'message' : 'exchange'}…` : 'No match.'}
          </p>
        )}
      </div>
      <p className="mt-1 text-sm text-soft">
        Open a {listens ? 'topic' : 'request'} to see its bytes. The last {KEPT.toLocaleString('en')} are kept while this is open.
      </p>
    </div>
  );
}

function Bytes({ title, text }: { title: string; text: string }) {
  return (
    <span className="mt-0.5 block pb-1 font-mono text-xs break-words text-soft">
      {title}: {text || 'nothing'}
    </span>
  );
}
