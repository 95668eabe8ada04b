// Record: which values go into history and when, and how much that is.

import { useQuery } from '@tanstack/react-query';
import { Plus } from 'lucide-react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import type { Item } from '../../api/model';
import { commit, useItems, useMay } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { useGo, useView } from '../../app/view';
import { complain } from '../../parts/form';
import { bytesWords, counted, lasting } from '../../parts/text';
import { Button, DeskHead, Empty, Trouble } from '../../parts/ui';
import { choiceWords, daysWords, manyWords, whenWords } from './recorder';
import { RecorderForm } from './recorder-form';
import { takeRow } from './take-row';

/** Stands in the address for a recorder that is being made. */
const NEW = 'new';

export function Record() {
  const { of, at } = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const recorders = useItems('recorder');
  const items = recorders.data?.items ?? [];
  const open = items.find((one) => one.id === of);
  const making = of === NEW;
  const state = useQuery({
    queryKey: ['recorders'],
    queryFn: () => take(http.GET('/api/recorders')),
    refetchInterval: 10_000,
    staleTime: 0,
    enabled: !open && !making,
  });
  const close = () => go({ of: undefined });
  return (
    <div className="flex h-full flex-col">
      <DeskHead
        path={open || making ? 'Record' : 'Whole plant'}
        title={open ? open.set.name : making ? 'New recorder' : 'Record'}
        note={!open && !making && state.data && <Recorded state={state.data} />}
      >
        {!open && !making && engineer && (
          <Button kind="main" onClick={() => go({ of: NEW })}>
            <Plus className="size-4" /> Recorder
          </Button>
        )}
      </DeskHead>
      {recorders.data && (open || making) ? (
        <RecorderForm key={of} item={open} seen={recorders.data.revision} count={items.length} at={at} onClose={close} />
      ) : (
        <>
          <Trouble error={recorders.error ?? state.error} />
          {state.data && <OnDisk disk={state.data.disk} />}
          {recorders.data && items.length === 0 && (
            <Empty
              title="No recorders yet"
              action={
                engineer && (
                  <Button kind="main" onClick={() => go({ of: NEW })}>
                    Add a recorder
                  </Button>
                )
              }
            >
              A tag whose own tick “recorded” is set goes into history whenever it changes. A recorder does more: figures of every
              minute, a row of values at an event, or whatever fits a place or a class, also what is added later.
            </Empty>
          )}
          {items.length > 0 && <List items={items} seen={recorders.data?.revision ?? 0} state={state.data} />}
        </>
      )}
    </div>
  );
}

function Recorded({ state }: { state: Schemas['RecordingView'] }) {
  return (
    <>
      {state.recorded.toLocaleString('en')} of {counted(state.tags, 'tag')} {state.recorded === 1 ? 'goes' : 'go'} into history by
      themselves
    </>
  );
}

function OnDisk({ disk }: { disk: Schemas['HistoryOnDisk'] }) {
  const figure = (title: string, value: string, hint: string) => (
    <div className="min-w-36 border-l-2 border-line pl-2" title={hint}>
      <p className="text-sm text-soft">{title}</p>
      <p className="figures text-[1rem]">{value}</p>
      <p className="text-sm text-soft">{hint}</p>
    </div>
  );
  const over = lasting(disk.counted_s * 1000);
  return (
    <section aria-label="History on disk" className="mb-4 flex flex-wrap gap-x-6 gap-y-2">
      {figure('Samples a day', manyWords(disk.samples_a_day), `at the pace of the last ${over}`)}
      {figure(
        'History on disk',
        bytesWords(disk.bytes),
        disk.samples ? `${manyWords(disk.samples)} samples, ${Math.round(disk.bytes_a_sample)} bytes each` : 'not counted yet',
      )}
      {figure(
        'Grows by',
        `${bytesWords(disk.samples_a_day * disk.bytes_a_sample)} a day`,
        disk.measured ? 'as measured here' : 'about',
      )}
      {disk.free == null
        ? figure('Disk full', 'not known', 'the database is on another machine')
        : figure('Disk full in', disk.full_in_days ? daysWords(disk.full_in_days) : 'not known', `${bytesWords(disk.free)} free`)}
    </section>
  );
}

function List({ items, seen, state }: { items: Item<'recorder'>[]; seen: number; state: Schemas['RecordingView'] | undefined }) {
  return (
    <div className="min-h-0 overflow-auto border border-line bg-raised">
      <table aria-label="Recorders" className="w-full table-fixed text-left">
        <thead className="sticky top-0 bg-band text-sm">
          <tr className="h-8">
            <th className="px-2 font-semibold">Recorder</th>
            <th className="w-[25%] px-2 font-semibold">When</th>
            <th className="w-14 px-2 text-right font-semibold">Tags</th>
            <th className="w-28 px-2 text-right font-semibold">Samples a day</th>
            <th className="w-24 px-2 font-semibold">Kept</th>
            <th className="w-24 px-2 font-semibold">Last row</th>
            <th className="w-40 px-2" aria-label="Actions" />
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <Row key={item.id} item={item} seen={seen} state={state?.recorders.find(({ id }) => id === item.id)} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Row({ item, seen, state }: { item: Item<'recorder'>; seen: number; state: Schemas['RecorderView'] | undefined }) {
  const go = useGo();
  const now = useNow();
  const [engineer, operator] = [useMay('engineer'), useMay('operator')];
  const what = useWhat(item);
  const { name, running, keep_days } = item.set;
  const when = whenWords(item.set, item.formulas?.trigger ?? '');
  const estimate = state?.estimate;
  const amount =
    !running || !estimate
      ? '–'
      : estimate.samples_a_day === 0
        ? 'not known'
        : `${estimate.at_most > 0 ? '≤ ' : ''}${manyWords(estimate.samples_a_day)}`;
  const turn = () =>
    commit(`${running ? 'Paused' : 'Resumed'} recorder ${name}`, seen, [
      { op: 'patch', kind: 'recorder', id: item.id, set: { running: !running } },
    ]).catch(complain);
  return (
    <tr className="border-t border-line align-top hover:bg-band [&>td]:py-1.5">
      <td className="px-2">
        <button type="button" className="max-w-full truncate font-semibold hover:text-teal" onClick={() => go({ of: item.id })}>
          {name}
        </button>
        {!running && <span className="ml-2 rounded border border-firm px-1 text-sm">paused</span>}
        <p className="text-sm text-soft">{what}</p>
      </td>
      <td className="px-2 wrap-anywhere">{when}</td>
      <td className="figures px-2 text-right">{state?.tags.toLocaleString('en') ?? '–'}</td>
      <td className="figures px-2 text-right">{amount}</td>
      <td className="px-2">{keep_days === null || keep_days === undefined ? 'for ever' : counted(keep_days, 'day')}</td>
      <td className="figures px-2 text-soft">
        {state?.last ? `${lasting(Math.max(0, now - Date.parse(state.last)))} ago` : '–'}
      </td>
      <td className="px-2 text-right whitespace-nowrap">
        {operator && running && (
          <Button className="h-6" aria-label={`Take row of ${name}`} onClick={() => void takeRow(item)}>
            Take row
          </Button>
        )}{' '}
        {engineer && (
          <Button kind="quiet" className="h-6" aria-label={`${running ? 'Pause' : 'Resume'} ${name}`} onClick={() => void turn()}>
            {running ? 'Pause' : 'Resume'}
          </Button>
        )}
      </td>
    </tr>
  );
}

/** What it records, in words. */
function useWhat(item: Item<'recorder'>): string {
  const tree = useTree();
  const classes = useItems('class').data?.items ?? [];
  const connections = useItems('connection').data?.items ?? [];
  const { choices, tags } = item.set;
  const words = choices.map((choice) =>
    choiceWords(choice, {
      ...(choice.place ? { place: pathOf(tree, choice.place).split('/').at(-1) ?? '' } : {}),
      class: classes.find(({ id }) => id === choice.class)?.set.name ?? '…',
      connection: connections.find(({ id }) => id === choice.connection)?.set.name ?? '…',
    }),
  );
  if (tags.length > 0) words.push(counted(tags.length, 'chosen tag'));
  return words.join('; ');
}
