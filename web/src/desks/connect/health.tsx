// How a connection fares, in figures, and which of its addresses is in use.

import { useState } from 'react';
import { http, take } from '../../api/client';
import { type ConnectionStatus, useNow, useStatus } from '../../api/live';
import type { Item } from '../../api/model';
import { complain } from '../../parts/form';
import { useKind } from '../../parts/kinds';
import { lasting, moment } from '../../parts/text';
import { Button } from '../../parts/ui';

const ms = (us: number) => `${(us / 1000).toFixed(2)} ms`;

export function Health({ item, disabled }: { item: Item<'connection'>; disabled: boolean }) {
  const status = useStatus()?.connections[item.id];
  const now = useNow();
  const kind = useKind(item.set.kind);
  if (!status) return <p className="text-soft">No data yet.</p>;
  const asks = kind?.can.asks ?? false;
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
    ...(asks
      ? ([
          ['Requests', count(status.requests), 'since Havrel started'],
          ['Skipped polls', count(status.overruns), 'the previous poll took too long'],
          ['Reconnects', count(status.reconnects), 'since Havrel started'],
        ] as [string, string, string][])
      : []),
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
      {asks && (
        <div className="max-w-md min-w-64">
          {status.learnt.length > 0 && (
            <div className="mb-4">
              <h4 className="font-semibold">Found out about the device</h4>
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
          <Paths item={item} status={status} disabled={disabled} />
        </div>
      )}
    </div>
  );
}

function Paths({ item, status, disabled }: { item: Item<'connection'>; status: ConnectionStatus; disabled: boolean }) {
  const [busy, setBusy] = useState(false);
  const addresses = item.addresses ?? [];
  if (addresses.length < 2) return null;
  async function use(path: number) {
    setBusy(true);
    try {
      await take(http.POST('/api/connections/{id}/path', { params: { path: { id: item.id } }, body: { path } }));
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
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
