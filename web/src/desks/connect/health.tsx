// How a connection fares, in figures, and which of its addresses is in use.

import { useState } from 'react';
import { http, take } from '../../api/client';
import { type ConnectionStatus, feed, useNow, useStatus } from '../../api/live';
import type { Item } from '../../api/model';
import { complain } from '../../parts/form';
import { useKind } from '../../parts/kinds';
import type { Period } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { lasting, moment } from '../../parts/text';
import { Button } from '../../parts/ui';

const ms = (us: number) => `${(us / 1000).toFixed(2)} ms`;

export function Health({ item, disabled }: { item: Item<'connection'>; disabled: boolean }) {
  const status = useStatus()?.connections[item.id];
  const now = useNow();
  const kind = useKind(item.set.kind);
  if (!status) return <p className="text-soft">No data yet.</p>;
  const asks = kind?.can.asks ?? false;
  const listens = (kind?.can.listens || kind?.can.announces || kind?.can.metrics) ?? false;
  const wired = asks || listens;
  const age = (at: string) => (at ? `${lasting(now - Date.parse(at))}` : '–');
  const count = (n: number) => n.toLocaleString('en');
  const figures: [string, string, string][] = [
    ...(asks
      ? ([
          ['Round trip, median', status.p50_us ? ms(status.p50_us) : '–', 'of the last 256'],
          ['Round trip, 95th percentile', status.p95_us ? ms(status.p95_us) : '–', 'of the last 256'],
        ] as [string, string, string][])
      : []),
    ['Values a second', status.rate.toFixed(1), 'over the last seconds'],
    ['Values', count(status.values), 'since Havrel started'],
    [asks ? 'Last answer' : 'Last value', status.answered ? `${age(status.answered)} ago` : 'none yet', ''],
    ['Oldest value', status.oldest ? age(status.oldest) : '–', 'among its tags'],
    ...((asks
      ? [
          ['Requests', count(status.requests), 'since Havrel started'],
          ['Skipped polls', count(status.overruns), 'the previous poll took too long'],
        ]
      : listens
        ? [['Messages', count(status.requests), 'since Havrel started']]
        : []) as [string, string, string][]),
    ...((wired ? [['Reconnects', count(status.reconnects), 'since Havrel started']] : []) as [string, string, string][]),
  ];
  const kinds = Object.entries(status.errors_by_kind).sort((a, b) => b[1] - a[1]);
  return (
    <div className="flex flex-wrap items-start gap-x-10 gap-y-4">
      <table className="text-left">
        <caption className="sr-only">Figures of {item.set.name}</caption>
        <tbody>
          {figures.map(([name, value, note]) => (
            <tr key={name} className="h-6.5 border-b border-line">
              <th className="pr-4 font-normal text-soft">{name}</th>
              <td className="figures min-w-24 pr-4 text-right">{value}</td>
              <td className="text-sm text-soft">{note}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {wired && (
        <div className="max-w-md min-w-64">
          {status.learnt.length > 0 && (
            <div className="mb-4">
              <h4 className="font-semibold">Found out about the {listens ? 'broker' : 'device'}</h4>
              <ul>
                {status.learnt.map((words) => (
                  <li key={words}>{words}</li>
                ))}
              </ul>
            </div>
          )}
          <h4 className="font-semibold">Errors</h4>
          {kinds.length === 0 ? (
            <p className="text-soft">None since Havrel started.</p>
          ) : (
            <table className="text-left">
              <tbody>
                {kinds.map(([kind, n]) => (
                  <tr key={kind} className="h-6.5 border-b border-line">
                    <th className="pr-6 font-normal text-soft">{kind}</th>
                    <td className="figures text-right">{count(n)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {kind?.can.records && <Recorded item={item} status={status} disabled={disabled} />}
          <Paths item={item} status={status} disabled={disabled} />
        </div>
      )}
    </div>
  );
}

/** Something that is ordered by a button, which rests meanwhile; what went wrong is told. */
function useOrder() {
  const [busy, setBusy] = useState(false);
  async function order(go: () => Promise<unknown>) {
    setBusy(true);
    try {
      await go();
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
  return [busy, order] as const;
}

/** What the device recorded itself, brought in for a period that somebody names. */
function Recorded({ item, status, disabled }: { item: Item<'connection'>; status: ConnectionStatus; disabled: boolean }) {
  const [period, setPeriod] = useState<Period>({ span: 8 * 3600 });
  const [busy, order] = useOrder();
  const going = status.filling !== null && status.filling !== undefined;
  const path = '/api/connections/{id}/fill';
  const params = { path: { id: item.id } };
  const stop = () => order(() => take(http.DELETE(path, { params })));
  const begin = () => {
    const to = period.end ?? feed.time();
    const body = { from: new Date(to - period.span * 1000).toISOString(), to: new Date(to).toISOString() };
    return order(() => take(http.PUT(path, { params, body })));
  };
  return (
    <div className="mt-4">
      <h4 className="font-semibold">What the device recorded itself</h4>
      <p className="text-sm text-soft">Fills gaps in the history of its tags, where the device kept a record.</p>
      {going ? (
        <p className="flex h-9 items-center gap-3" role="status">
          <span className="figures">{(status.filling ?? 0).toLocaleString('en')}</span> values so far
          <Button disabled={busy || disabled} onClick={() => void stop()}>
            Stop
          </Button>
        </p>
      ) : (
        <p className="flex h-9 items-center gap-3">
          <PeriodPart period={period} onPick={setPeriod}>
            {periodWords(period).replace('Live, last', 'The last')}
          </PeriodPart>
          <Button disabled={busy || disabled || status.state !== 'running'} onClick={() => void begin()}>
            Bring it in
          </Button>
        </p>
      )}
    </div>
  );
}

function Paths({ item, status, disabled }: { item: Item<'connection'>; status: ConnectionStatus; disabled: boolean }) {
  const [busy, order] = useOrder();
  const addresses = item.addresses ?? [];
  if (addresses.length < 2) return null;
  const use = (path: number) =>
    order(() => take(http.POST('/api/connections/{id}/path', { params: { path: { id: item.id } }, body: { path } })));
  return (
    <div className="mt-4">
      <h4 className="font-semibold">Addresses</h4>
      <ul>
        {addresses.map((address, path) => (
          <li key={address} className="flex h-8 items-center gap-3">
            <span className="w-16 text-soft">{path === 0 ? 'first' : `spare ${path}`}</span>
            <span className="figures w-44 truncate">{address}</span>
            {status.path === path ? (
              <span className="text-teal">in use since {moment(status.path_since)}</span>
            ) : (
              !disabled && (
                <Button disabled={busy} onClick={() => void use(path)}>
                  Use this address
                </Button>
              )
            )}
          </li>
        ))}
      </ul>
      <p className="text-sm text-soft">
        {item.set.settings.takeover === false
          ? 'Switch addresses by hand.'
          : 'If the address in use fails, Havrel switches to the next.'}
      </p>
    </div>
  );
}
