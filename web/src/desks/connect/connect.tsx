// Connections: what there is, how it fares, and the way to a new one.

import clsx from 'clsx';
import { ChevronRight, Plus } from 'lucide-react';
import { type ConnectionStatus, useNow, useStatus } from '../../api/live';
import type { Item } from '../../api/model';
import { useItems, useMay } from '../../api/queries';
import { useGo, useView } from '../../app/router';
import { counted, lasting } from '../../parts/text';
import { Button, DeskHead, Empty, Trouble } from '../../parts/ui';
import { ConnectionForm } from './connection-form';
import { Registers } from './registers';

const STATE_WORDS = { running: 'running', connecting: 'connecting', trouble: 'in trouble', off: 'off' } as const;

export function Connect() {
  const view = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const connections = useItems('connection');
  const items = connections.data?.items ?? [];
  const adding = view.connection === 'new';
  if (connections.error) return <Trouble error={connections.error} />;
  if (!connections.data) return null;
  const add = (
    <Button kind="main" onClick={() => go({ connection: 'new', part: undefined })}>
      <Plus className="size-4" /> Add connection
    </Button>
  );
  return (
    <>
      <DeskHead path="Whole plant" title="Connections" note={counted(items.length, 'connection')}>
        {engineer && !adding && items.length > 0 && add}
      </DeskHead>
      {adding && (
        <section aria-label="New connection" className="mb-3 rounded-md border border-line bg-raised p-4">
          <h2 className="mb-3 text-[1rem] font-semibold">New connection to a Modbus TCP device</h2>
          <ConnectionForm seen={connections.data.revision} />
        </section>
      )}
      {items.length === 0 && !adding && (
        <Empty title="Connect the first controller" action={engineer && add}>
          A connection is one controller or device. Give its address, test it step by step, look at its registers live, and turn
          those you need into tags.
        </Empty>
      )}
      <div className="space-y-2">
        {items.map((item) => (
          <Line key={item.id} item={item} seen={connections.data.revision} disabled={!engineer} />
        ))}
      </div>
    </>
  );
}

interface LineProps {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

function Line({ item, seen, disabled }: LineProps) {
  const view = useView();
  const go = useGo();
  const status = useStatus()?.connections[item.id];
  const open = view.connection === item.id;
  const tags = useItems('tag', { connection: item.id });
  const total = tags.data?.total ?? 0;
  const part = view.part ?? 'registers';
  const { settings } = item.set;
  const tab = (name: string, to: string) => (
    <button
      type="button"
      aria-pressed={part === to}
      className={clsx(
        'h-7 rounded-full border px-3',
        part === to ? 'border-teal bg-tint font-semibold' : 'border-line hover:bg-band',
      )}
      onClick={() => go({ part: to })}
    >
      {name}
    </button>
  );
  return (
    <section aria-label={`Connection ${item.set.name}`} className="rounded-md border border-line bg-raised">
      <button
        type="button"
        aria-expanded={open}
        className="flex min-h-10 w-full flex-wrap items-center gap-x-4 gap-y-0.5 px-3 py-1.5 text-left hover:bg-band"
        onClick={() => go({ connection: open ? undefined : item.id, part: undefined })}
      >
        <ChevronRight className={clsx('size-4 text-soft', open && 'rotate-90')} />
        <span className="w-40 truncate font-semibold">{item.set.name}</span>
        <span className="figures w-44 truncate text-soft">
          {settings.host}:{settings.port ?? 502}
          <span className="font-sans"> · unit {settings.unit ?? 1}</span>
        </span>
        <State status={status} />
        <span className="ml-auto text-soft">{counted(total, 'tag')}</span>
      </button>
      {status?.message && status.state !== 'off' && (
        <p className="px-11 pb-2">
          <span className="text-act4">{status.message}</span> <span className="text-soft">{status.cure}</span>
        </p>
      )}
      {open && (
        <div className="border-t border-line p-3">
          <Figures status={status} />
          <div className="mb-3 flex gap-2">
            {tab('Registers', 'registers')}
            {tab(`Tags ${total}`, 'tags')}
            {tab('Settings and test', 'settings')}
          </div>
          {part === 'registers' && <Registers connection={item} seen={seen} disabled={disabled} />}
          {part === 'tags' && <Tags tags={tags.data?.items ?? []} total={total} />}
          {part === 'settings' && <ConnectionForm key={item.revision} item={item} seen={seen} />}
        </div>
      )}
    </section>
  );
}

function State({ status }: { status: ConnectionStatus | undefined }) {
  const now = useNow();
  if (!status) return <span className="w-56 text-soft">…</span>;
  const good = status.state === 'running';
  return (
    <span className="flex w-56 items-center gap-2">
      <span
        aria-hidden
        className={clsx(
          'size-2.5 rounded-full border',
          good ? 'border-teal bg-teal' : status.state === 'trouble' ? 'border-act4' : 'border-firm',
        )}
      />
      <span className={clsx(status.state === 'trouble' && 'font-semibold text-act4')}>{STATE_WORDS[status.state]}</span>
      <span className="text-soft">for {lasting(now - Date.parse(status.since))}</span>
    </span>
  );
}

function Figures({ status }: { status: ConnectionStatus | undefined }) {
  const now = useNow();
  if (!status) return null;
  const figures: [string, string][] = [
    ['Last answer', status.answered ? `${lasting(now - Date.parse(status.answered))} ago` : 'none yet'],
    ['Round trip', status.answered ? `${(status.round_trip_us / 1000).toFixed(2)} ms` : '–'],
    ['Requests', status.requests.toLocaleString('en')],
    ['Values', status.values.toLocaleString('en')],
    ['Errors', status.errors.toLocaleString('en')],
    ['Polls left out', status.overruns.toLocaleString('en')],
    ['Reconnects', status.reconnects.toLocaleString('en')],
  ];
  return (
    <dl className="mb-3 flex flex-wrap gap-x-6 gap-y-1">
      {figures.map(([name, value]) => (
        <div key={name}>
          <dt className="text-sm text-soft">{name}</dt>
          <dd className="figures min-w-16">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

function Tags({ tags, total }: { tags: Item<'tag'>[]; total: number }) {
  const go = useGo();
  if (tags.length === 0) return <p className="text-soft">No tags yet. Choose registers and make tags of them.</p>;
  return (
    <ul className="max-h-[50vh] overflow-auto border border-line">
      {tags.map((tag) => (
        <li key={tag.id} className="flex h-7 items-center gap-4 border-t border-line px-2 first:border-t-0 hover:bg-band">
          <button type="button" className="min-w-0 flex-1 truncate text-left hover:text-teal" onClick={() => go({ tag: tag.id })}>
            {tag.title.replaceAll('/', ' / ')}
          </button>
          <span className="figures w-56 truncate text-soft">{tag.source.split(' · ')[1]}</span>
        </li>
      ))}
      {total > tags.length && (
        <li className="px-2 py-1 text-soft">and {total - tags.length} more; the desk Model filters them by place and name</li>
      )}
    </ul>
  );
}
