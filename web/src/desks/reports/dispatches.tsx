// All dispatches: each as its sentence, when it comes next, and how the last one went.

import { useQuery } from '@tanstack/react-query';
import { CircleAlert } from 'lucide-react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import type { Item } from '../../api/model';
import { commit, useItems, useMay } from '../../api/queries';
import { useGo } from '../../app/view';
import { complain } from '../../parts/form';
import { lasting, minuteIn } from '../../parts/text';
import { Button, Empty, Trouble } from '../../parts/ui';
import { useCarriers } from './deliveries-field';
import { coversWords, deliveryWords, valuesOf, whenWords } from './dispatch';

/** Stands in the address for a dispatch that is being made. */
export const NEW = 'new';

interface Props {
  items: Item<'dispatch'>[];
  seen: number;
}

export function Dispatches({ items, seen }: Props) {
  const engineer = useMay('engineer');
  const go = useGo();
  const reports = useItems('report').data?.items ?? [];
  const state = useQuery({
    queryKey: ['dispatches'],
    queryFn: () => take(http.GET('/api/dispatches')),
    refetchInterval: 5000,
    staleTime: 0,
  });
  if (items.length === 0) {
    return (
      <Empty
        title="No dispatches yet"
        action={
          engineer &&
          reports.length > 0 && (
            <Button kind="main" onClick={() => go({ part: 'dispatches', of: NEW, report: undefined })}>
              Add a dispatch
            </Button>
          )
        }
      >
        A dispatch makes a report by the clock, at an event or when a shift ends, and sends it to a folder, to people by mail, or
        to another program.{reports.length === 0 && ' Make a report first.'}
      </Empty>
    );
  }
  return (
    <div className="min-h-0 overflow-auto border border-line bg-raised">
      <Trouble error={state.error} />
      <table aria-label="Dispatches" className="w-full table-fixed text-left">
        <thead className="sticky top-0 bg-band text-sm">
          <tr className="h-8">
            <th className="w-[20%] px-2 font-semibold">Dispatch</th>
            <th className="px-2 font-semibold">What it does</th>
            <th className="w-32 px-2 font-semibold">Next</th>
            <th className="w-40 px-2 font-semibold">Last</th>
            <th className="w-24 px-2" aria-label="Actions" />
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <Row
              key={item.id}
              item={item}
              seen={seen}
              report={reports.find(({ id }) => id === item.set.report)}
              state={state.data?.find(({ id }) => id === item.id)}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
}

interface RowProps {
  item: Item<'dispatch'>;
  seen: number;
  report: Item<'report'> | undefined;
  state: Schemas['DispatchView'] | undefined;
}

function Row({ item, seen, report, state }: RowProps) {
  const go = useGo();
  const engineer = useMay('engineer');
  const patterns = useItems('shift_pattern').data?.items ?? [];
  const carriers = useCarriers();
  const { name, running, when, deliveries } = item.set;
  const v = valuesOf(item.set, item.formulas?.trigger ?? '', '');
  const shifts = patterns.find(({ id }) => id === item.set.shifts)?.set.name ?? '';
  const to = v.deliveries.map((one) => deliveryWords(one, carriers.find(({ id }) => id === one.connection)?.title ?? '…'));
  const turn = () =>
    commit(`${running ? 'Paused' : 'Resumed'} dispatch ${name}`, seen, [
      { op: 'patch', kind: 'dispatch', id: item.id, set: { running: !running } },
    ]).catch(complain);
  return (
    <tr className="border-t border-line align-top hover:bg-band [&>td]:py-1.5">
      <td className="px-2">
        <button
          type="button"
          className="max-w-full truncate font-semibold hover:text-teal"
          onClick={() => go({ part: 'dispatches', of: item.id, report: undefined })}
        >
          {name}
        </button>
        {!running && <span className="ml-2 rounded border border-firm px-1 text-sm">paused</span>}
      </td>
      <td className="px-2 wrap-anywhere">
        {whenWords(v, state?.words ?? '', shifts)}, {report?.set.name ?? '…'} for {coversWords(v.covers, report?.set)}{' '}
        <span className="text-soft">→ {deliveries.length > 0 ? to.join('; ') : 'kept here'}</span>
      </td>
      <td className="figures px-2">
        {state?.next ? minuteIn(state.next, report?.set.zone ?? 'UTC') : when.on === 'event' && running ? 'at the event' : '–'}
      </td>
      <td className="px-2">{state?.last ? <Last run={state.last} /> : <span className="text-soft">–</span>}</td>
      <td className="px-2 text-right">
        {engineer && when.on !== 'hand' && (
          <Button kind="quiet" className="h-6" aria-label={`${running ? 'Pause' : 'Resume'} ${name}`} onClick={() => void turn()}>
            {running ? 'Pause' : 'Resume'}
          </Button>
        )}
      </td>
    </tr>
  );
}

function Last({ run }: { run: Schemas['RunView'] }) {
  const now = useNow();
  const states = [run.made, ...run.deliveries.map((one) => one.state)];
  const failed = states.filter((state) => state === 'failed').length;
  const again = states.includes('again');
  const open = states.includes('waiting');
  const words =
    failed > 0 ? 'failed' : again ? 'is tried again' : open ? 'under way' : run.deliveries.length > 0 ? 'sent' : 'made';
  return (
    <>
      <span className={failed > 0 || again ? 'text-act4' : ''}>
        {(failed > 0 || again) && <CircleAlert aria-hidden className="mr-1 inline size-3.5" />}
        {words}
      </span>{' '}
      <span className="figures text-sm text-soft">{lasting(Math.max(0, now - Date.parse(run.at)))} ago</span>
    </>
  );
}
