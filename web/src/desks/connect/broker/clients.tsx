// Who is connected to a broker that Havrel runs, what passes through it, and what it refused.

import clsx from 'clsx';
import { useNow } from '../../../api/live';
import type { Item } from '../../../api/model';
import { useGo } from '../../../app/view';
import { keepDraft } from '../../../parts/draft';
import { counted, lasting, moment } from '../../../parts/text';
import { Button, Trouble } from '../../../parts/ui';
import { accountsOf, REFUSED, type Right, type View } from './account';
import { useBroker, type Wish, wishName } from './accounts';

const rate = (n: number) => (n < 10 ? n.toFixed(1) : Math.round(n).toLocaleString('en'));
const bytes = (n: number) =>
  n < 1000 ? `${Math.round(n)} B/s` : n < 1e6 ? `${(n / 1000).toFixed(1)} kB/s` : `${(n / 1e6).toFixed(1)} MB/s`;

export function Clients({ item, disabled }: { item: Item<'connection'>; disabled: boolean }) {
  const go = useGo();
  const broker = useBroker(item);
  if (!item.set.enabled) return <p className="text-soft">The broker is switched off. Resume starts it.</p>;
  if (broker.error) return <Trouble error={broker.error} />;
  if (!broker.data) return null;
  const view = broker.data;
  const known = new Set(accountsOf(item).map(({ name }) => name));
  const allow = (account: string, right: Right) => {
    keepDraft(wishName(item), { account, right } satisfies Wish);
    go({ part: 'accounts' });
  };
  return (
    <div>
      <Figures view={view} />
      <Refusals view={view} known={known} disabled={disabled} onAllow={allow} />
      <List view={view} />
    </div>
  );
}

function Figures({ view }: { view: View }) {
  const clients = view.clients.length + view.more_clients;
  const all = [
    ['Clients', clients.toLocaleString('en'), ''],
    ['Messages in', rate(view.messages_in), `messages/s, ${bytes(view.bytes_in)}`],
    ['Messages out', rate(view.messages_out), `messages/s, ${bytes(view.bytes_out)}`],
    ['Retained', view.retained.toLocaleString('en'), view.retained === 1 ? 'topic' : 'topics'],
    ['Dropped', view.dropped.toLocaleString('en'), 'messages since its start'],
  ] as const;
  return (
    <dl
      aria-label="The whole broker"
      className="mb-3 flex max-w-5xl flex-wrap gap-x-8 gap-y-1 border border-line bg-paper px-3 py-2"
    >
      {all.map(([name, value, unit]) => (
        <div key={name} className="min-w-28">
          <dt className="text-sm text-soft">{name}</dt>
          <dd>
            <span className="figures font-semibold">{value}</span> <span className="text-soft">{unit}</span>
          </dd>
        </div>
      ))}
    </dl>
  );
}

interface RefusalsProps {
  view: View;
  known: ReadonlySet<string>;
  disabled: boolean;
  onAllow: (account: string, right: Right) => void;
}

function Refusals({ view, known, disabled, onAllow }: RefusalsProps) {
  const now = useNow();
  return (
    <section aria-label="Refusals" className="mb-3">
      <h3 className="mb-1 font-semibold">{view.refusals.length === 0 ? 'Nothing was refused' : 'Refused'}</h3>
      {!view.watched && (
        <p className="mb-1 text-act3">
          So many messages pass that refused ones are not told at present, to leave the broker its time.
        </p>
      )}
      {view.refusals.length > 0 && (
        <div className="max-h-[35vh] overflow-auto border border-line">
          <table className="w-full min-w-[54rem] table-fixed text-left">
            <thead className="sticky top-0 z-10 bg-band text-sm">
              <tr>
                <th className="w-24 px-2 font-semibold">Last</th>
                <th className="w-16 px-2 text-right font-semibold">Times</th>
                <th className="px-2 font-semibold">What</th>
                <th className="w-56 px-2 font-semibold">Topic</th>
                <th className="w-56 px-2 font-semibold">Account, client, address</th>
                <th className="w-20 px-2" />
              </tr>
            </thead>
            <tbody>
              {view.refusals.map((one) => {
                const [words, cure] = REFUSED[one.why];
                const may = one.why === 'publish' ? 'publish' : one.why === 'receive' ? 'receive' : null;
                return (
                  <tr key={`${one.why} ${one.client} ${one.from} ${one.topic}`} className="border-t border-line align-top">
                    <td className="px-2 py-1 whitespace-nowrap text-soft" title={moment(one.last)}>
                      {lasting(Math.max(0, now - Date.parse(one.last)))} ago
                    </td>
                    <td className="figures px-2 py-1 text-right">{one.count.toLocaleString('en')}</td>
                    <td className="px-2 py-1">
                      <span className="font-semibold text-act4">⨯ {words}</span>
                      <span className="block text-soft">{cure}</span>
                    </td>
                    <td className="figures px-2 py-1 break-all whitespace-normal">{one.topic}</td>
                    <td className="px-2 py-1">
                      <span className="figures font-semibold break-all">{one.account}</span>
                      <span className="figures block text-sm break-all whitespace-normal text-soft">
                        {[one.client, one.from].filter(Boolean).join(', ') || 'address not known'}
                      </span>
                    </td>
                    <td className="px-2 py-0.5 text-right">
                      {may && known.has(one.account) && (
                        <Button
                          kind="quiet"
                          disabled={disabled}
                          aria-label={`Allow ${one.account} ${one.topic}…`}
                          onClick={() => onAllow(one.account, { topics: one.topic, may })}
                        >
                          Allow…
                        </Button>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}

const RECEIVES = { all: '', part: ' (a part of it)', nothing: ' (nothing)' } as const;

function List({ view }: { view: View }) {
  const now = useNow();
  const { clients } = view;
  if (clients.length === 0) return <p className="text-soft">No client is connected.</p>;
  return (
    <section aria-label="Clients">
      <h3 className="mb-1 font-semibold">{counted(clients.length + view.more_clients, 'client')}</h3>
      <div className="max-h-[45vh] overflow-auto border border-line">
        <table className="w-full min-w-[54rem] table-fixed text-left">
          <thead className="sticky top-0 z-10 bg-band text-sm">
            <tr>
              <th className="w-80 px-2 font-semibold">Account, client, address</th>
              <th className="w-24 px-2 font-semibold">Connected</th>
              <th className="w-52 px-2 font-semibold">Session</th>
              <th className="px-2 font-semibold">Subscribes to</th>
            </tr>
          </thead>
          <tbody>
            {clients.map((one) => (
              <tr key={one.id} className="border-t border-line align-top">
                <td className="px-2 py-1">
                  <span className="figures font-semibold">{one.account}</span>
                  <span className="figures block text-sm break-all whitespace-normal text-soft">
                    {one.id}, {one.from}
                  </span>
                </td>
                <td className="px-2 py-1 whitespace-nowrap text-soft">{lasting(Math.max(0, now - Date.parse(one.since)))}</td>
                <td className="px-2 py-1 text-soft">
                  MQTT {one.version}, keep-alive {one.keep_alive_s} s{one.clean ? '' : ', kept while it is away'}
                </td>
                <td className="figures px-2 py-1 break-all whitespace-normal">
                  {one.subscriptions.slice(0, 5).map(({ filter, receives }) => (
                    <span key={filter} className={clsx('block', receives !== 'all' && 'text-act3')}>
                      {filter}
                      <span className="font-sans">{RECEIVES[receives]}</span>
                    </span>
                  ))}
                  {one.subscriptions.length + one.more_subscriptions > 5 && (
                    <span className="block font-sans text-soft">
                      and {one.subscriptions.length + one.more_subscriptions - 5} more
                    </span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {view.more_clients > 0 && (
          <p className="border-t border-line px-2 py-1 text-soft">and {view.more_clients.toLocaleString('en')} more</p>
        )}
      </div>
    </section>
  );
}
