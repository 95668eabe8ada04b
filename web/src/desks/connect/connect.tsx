// Connections: what there is, how it fares, and the way to a new one.

import clsx from 'clsx';
import { ChevronRight, Download, Plus, Upload } from 'lucide-react';
import { useRef } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../api/client';
import { type ConnectionStatus, useNow, useStatus } from '../../api/live';
import type { Item } from '../../api/model';
import { commit, made, useItems, useMay } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { complain } from '../../parts/form';
import { type KindView, useKind } from '../../parts/kinds';
import { save } from '../../parts/save';
import { counted, lasting } from '../../parts/text';
import { Button, DeskHead, Empty, Trouble } from '../../parts/ui';
import { Accounts } from './broker/accounts';
import { Clients } from './broker/clients';
import { ConnectionForm, NewConnection } from './connection-form';
import { EdgeNodes } from './edge/edge-nodes';
import { Health } from './health';
import { Mappings } from './mappings/mappings';
import { Matching } from './matching/matching';
import { Nodes } from './nodes/nodes';
import { ByHand, Offers } from './offers';
import { Publishing } from './publishing/publishing';
import { Blocks } from './registers/blocks';
import { Layouts } from './registers/layouts';
import { Registers } from './registers/registers';
import { Tokens } from './tokens';
import { Traffic } from './traffic';
import { WatchList } from './watch';

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
  const seen = connections.data.revision;
  const toggle = (what: string) => () => go({ connection: view.connection === what ? undefined : what, part: undefined });
  return (
    <>
      <DeskHead path="Whole plant" title="Connections" note={counted(items.length, 'connection')}>
        {items.length > 0 && (
          <Button kind="quiet" aria-pressed={view.connection === 'watch'} onClick={toggle('watch')}>
            Watch list
          </Button>
        )}
        {items.length > 0 && (
          <Button kind="quiet" aria-pressed={view.connection === 'layouts'} onClick={toggle('layouts')}>
            Layouts
          </Button>
        )}
        {engineer && <Files seen={seen} any={items.length > 0} />}
        {engineer && !adding && items.length > 0 && add}
      </DeskHead>
      {adding && <NewConnection seen={seen} />}
      {view.connection === 'watch' && <WatchList />}
      {view.connection === 'layouts' && <Layouts seen={seen} disabled={!engineer} />}
      {items.length === 0 && !adding && (
        <Empty title="Connect the first controller" action={engineer && add}>
          A connection is one controller, device or other source of values. Give its address, test it step by step, look at its
          registers live, and turn those you need into tags.
        </Empty>
      )}
      <div className="space-y-2">
        {items.map((item) => (
          <Line key={item.id} item={item} seen={seen} disabled={!engineer} />
        ))}
      </div>
    </>
  );
}

/** Connections as a file, out and in. */
function Files({ seen, any }: { seen: number; any: boolean }) {
  const picker = useRef<HTMLInputElement>(null);
  const out = () =>
    take(http.GET('/api/connections/export'))
      .then((file) => save('connections.json', new Blob([`${JSON.stringify(file, null, 2)}\n`], { type: 'application/json' })))
      .catch(complain);
  async function bring(file: File) {
    try {
      const body = JSON.parse(await file.text());
      const params = { header: { 'If-Match': String(seen) } };
      const done = await take(http.POST('/api/connections/import', { params, body }));
      await made(done.revision);
      toast.success('Imported. New connections stay off until you switch polling on.');
    } catch (error) {
      complain(error instanceof SyntaxError ? new Error(`“${file.name}” is not a JSON file.`) : error);
    }
  }
  return (
    <>
      {any && (
        <Button kind="quiet" onClick={() => void out()}>
          <Download className="size-4" /> Export
        </Button>
      )}
      <Button kind="quiet" onClick={() => picker.current?.click()}>
        <Upload className="size-4" /> Import
      </Button>
      <input
        ref={picker}
        type="file"
        accept="application/json,.json"
        aria-label="File of connections"
        className="hidden"
        onChange={(e) => {
          const file = e.target.files?.[0];
          if (file) void bring(file);
          e.target.value = '';
        }}
      />
    </>
  );
}

/** What the part is called in which what a connection offers becomes tags. */
function intakeOf(can: KindView['can']): string {
  if (!can.tree) return can.browse ? 'Intake' : 'New tags';
  return `${can.announces ? 'Metrics' : can.listens ? 'Topics' : can.tells ? 'Nodes' : 'Answers'} and intake`;
}

/** Whether tags are read over it. */
const hasTags = (can: KindView['can']) => !can.metrics && !can.serves && !can.mails && !can.hooks && !can.files;

/** What can be opened of a connection, by what its kind can do. */
function partsOf({ can }: KindView): [string, string][] {
  const when = (yes: boolean, ...part: [string, string]) => (yes ? [part] : []);
  const tells = can.mails || can.hooks || can.files;
  const reads = hasTags(can);
  return [
    ...when(can.announces, 'edge', 'Edge nodes'),
    ...when(can.spaces, 'registers', 'Registers'),
    ...when(can.spaces, 'blocks', 'Blocks and map'),
    ...when(can.serves, 'accounts', 'Accounts'),
    ...when(can.serves, 'clients', 'Clients and refusals'),
    ...when(reads, 'intake', intakeOf(can)),
    ...when(can.browse && reads, 'match', 'Match to tags'),
    ...when(can.listens || can.announces, 'mappings', 'Mappings'),
    ...when(can.publishes, 'publishing', 'Publishing'),
    ...when(reads, 'tags', 'Tags'),
    ...when(can.tokens, 'tokens', 'Tokens'),
    ...when(can.health, 'health', 'Health'),
    ...when(!tells && (can.asks || can.listens || can.announces), 'traffic', 'Traffic'),
    ['settings', can.test ? 'Settings and test' : 'Settings'],
  ];
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
  const kind = useKind(item.set.kind);
  const parts = kind ? partsOf(kind) : [];
  const part = parts.some(([key]) => key === view.part) ? view.part : parts[0]?.[0];
  const path = status?.path ?? 0;
  const pause = (enabled: boolean) =>
    commit(`${enabled ? 'Resumed' : 'Paused'} connection ${item.set.name}`, seen, [
      { op: 'patch', kind: 'connection', id: item.id, set: { enabled } },
    ]).catch(complain);
  const tab = (name: string, to: string) => (
    <button
      key={to}
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
        <span className="w-60 truncate text-soft">
          <span className={clsx((item.addresses?.length ?? 0) > 0 && 'figures')}>
            {(path > 0 ? item.addresses?.[path] : item.source) || kind?.title}
          </span>
          {path > 0 && ' · spare'}
        </span>
        <State status={status} />
        <span className="ml-auto text-soft">{kind && hasTags(kind.can) ? counted(total, 'tag') : ''}</span>
      </button>
      {status?.message && status.state !== 'off' && (
        <p className="px-11 pb-2">
          <span className="text-act4">{status.message}</span> <span className="text-soft">{status.cure}</span>
        </p>
      )}
      {open && (
        <div className="border-t border-line p-3">
          <div className="mb-3 flex flex-wrap gap-2">
            {parts.map(([to, name]) => tab(to === 'tags' ? `Tags ${total.toLocaleString('en')}` : name, to))}
            {!disabled && (
              <Button className="ml-auto" onClick={() => void pause(!item.set.enabled)}>
                {item.set.enabled ? 'Pause' : 'Resume'}
              </Button>
            )}
          </div>
          {part === 'edge' && <EdgeNodes item={item} disabled={disabled} />}
          {part === 'accounts' && <Accounts item={item} seen={seen} disabled={disabled} />}
          {part === 'clients' && <Clients item={item} disabled={disabled} />}
          {part === 'registers' && <Registers connection={item} seen={seen} disabled={disabled} />}
          {part === 'blocks' && <Blocks item={item} seen={seen} disabled={disabled} />}
          {part === 'intake' &&
            (kind?.can.tree ? (
              <Nodes item={item} seen={seen} disabled={disabled} can={kind.can} />
            ) : kind?.can.browse ? (
              <Offers item={item} node={kind.can.spaces ? 'blocks' : ''} seen={seen} disabled={disabled} />
            ) : (
              <ByHand item={item} seen={seen} disabled={disabled} />
            ))}
          {part === 'match' && kind && <Matching key={view.at ?? ''} item={item} kind={kind} seen={seen} disabled={disabled} />}
          {part === 'mappings' && (
            <Mappings item={item} seen={seen} disabled={disabled} announces={kind?.can.announces ?? false} />
          )}
          {part === 'publishing' && (
            <Publishing item={item} seen={seen} disabled={disabled} metrics={kind?.can.metrics ?? false} />
          )}
          {part === 'tags' && <Tags tags={tags.data?.items ?? []} total={total} />}
          {part === 'tokens' && <Tokens item={item} />}
          {part === 'health' && <Health item={item} disabled={disabled} />}
          {part === 'traffic' && <Traffic item={item} listens={(kind?.can.listens || kind?.can.announces) ?? false} />}
          {part === 'settings' && kind && <ConnectionForm key={item.id} kind={kind} item={item} seen={seen} />}
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

function Tags({ tags, total }: { tags: Item<'tag'>[]; total: number }) {
  const go = useGo();
  if (tags.length === 0) return <p className="text-soft">No tags yet.</p>;
  return (
    <ul className="max-h-[50vh] overflow-auto border border-line">
      {tags.map((tag) => (
        <li key={tag.id} className="flex h-7 items-center gap-4 border-t border-line px-2 first:border-t-0 hover:bg-band">
          <button type="button" className="min-w-0 flex-1 truncate text-left hover:text-teal" onClick={() => go({ tag: tag.id })}>
            {tag.title.replaceAll('/', ' / ')}
          </button>
          <span className="figures max-w-1/2 min-w-56 truncate text-soft">{tag.source.split(' · ')[1]}</span>
        </li>
      ))}
      {total > tags.length && (
        <li className="px-2 py-1 text-soft">and {total - tags.length} more; the desk Model filters them by place and name</li>
      )}
    </ul>
  );
}
