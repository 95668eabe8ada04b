// Edge nodes and their devices as they announce themselves: how each stands, what it keeps in its buffer, and what is no tag yet.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import { useNow } from '../../../api/live';
import type { Item } from '../../../api/model';
import { useItems } from '../../../api/queries';
import { useGo } from '../../../app/view';
import { draftOf, keepDraft } from '../../../parts/draft';
import { complain } from '../../../parts/form';
import { below, NOTHING } from '../../../parts/nodes/below';
import { MOST_TAKEN, walk } from '../../../parts/nodes/tree';
import { counted, lasting } from '../../../parts/text';
import { Button, Trouble } from '../../../parts/ui';
import type { Candidate } from '../candidates';
import { blankMapping, draftName } from '../mappings/mapping';
import { candidateOf, intakeDraft } from '../nodes/candidate';

type Announced = Schemas['AnnouncedView'];

const STATES = { waiting: 'waits for its birth', online: 'online', offline: 'offline' } as const;
/** Nodes of one page. */
const PAGE = 1000;
/** Most edge nodes and devices that are shown. */
const MOST = 500;

/** As people write it: group, edge node and device. */
const nameOf = ({ group, node, device }: Announced) => [group, node, ...(device ? [device] : [])].join(' / ');

/** Where the devices of an edge node lie: beside one of which there are tags, if its place is called after it. */
export function homeOf(tags: readonly Item<'tag'>[], { group, node }: Pick<Announced, 'group' | 'node'>): string | null {
  for (const { set, title } of tags) {
    const point = set.point as { group?: string; node?: string; device?: string };
    const path = title.split('/');
    const at = point.device ? path.indexOf(point.device) : -1;
    if (point.group === group && point.node === node && at > 0) return path.slice(0, at).join('/');
  }
  return null;
}

interface Props {
  item: Item<'connection'>;
  disabled: boolean;
}

export function EdgeNodes({ item, disabled }: Props) {
  const go = useGo();
  const places = useItems('place').data?.items ?? [];
  const tags = useItems('tag', { connection: item.id }).data?.items ?? [];
  /** How much was found so far while something is taken in. */
  const [found, setFound] = useState<number | null>(null);
  const stopped = useRef(false);
  const told = useQuery({
    queryKey: ['items', 'announced', item.id],
    queryFn: () => take(http.GET('/api/connections/{id}/announced', { params: { path: { id: item.id } } })),
    refetchInterval: 2000,
    staleTime: 0,
    retry: false,
  });
  const all = told.data ?? [];
  const untaken = all.filter((one) => one.metrics > one.taken && one.device);

  /** Puts what announced itself and is no tag yet into the intake. */
  async function takeIn(some: readonly Announced[]) {
    stopped.current = false;
    setFound(0);
    try {
      const titles = places.map((place) => place.title);
      const rows: Candidate[] = [];
      let whole = true;
      for (const one of some) {
        const above = [one.group, ...(one.device ? [one.node] : [])].map((name) => ({ ...NOTHING, name }));
        const from = { offer: { ...NOTHING, id: one.id, name: one.device || one.node }, above };
        const walked = await walk(from, {
          keep: (offer) => offer.point !== null && !offer.taken,
          // The devices behind an edge node are taken in by themselves.
          into: (offer) => one.device !== '' || offer.about !== 'device',
          children: (node) => below(item.id, node, PAGE),
          tell: ({ found: more }) => setFound(rows.length + more),
          cancelled: () => stopped.current,
        });
        if (stopped.current) return;
        whole &&= walked.whole;
        const home = homeOf(tags, one);
        const within = (names: readonly string[]) => (home === null ? undefined : [home, ...names.slice(above.length)].join('/'));
        for (const place of walked.found) {
          const folders = place.above.filter(({ point }) => point === null).map(({ name }) => name);
          rows.push(candidateOf(place, titles, place.offer.description, within(folders)));
        }
      }
      // Rows that wait there already stay.
      const before = (draftOf(intakeDraft(item.id)) ?? []) as readonly Candidate[];
      const waiting = new Set(before.map((row) => row.key));
      keepDraft(intakeDraft(item.id), [...before, ...rows.filter((row) => !waiting.has(row.key))].slice(0, MOST_TAKEN));
      if (!whole || before.length + rows.length > MOST_TAKEN) {
        toast.warning(`At most ${MOST_TAKEN.toLocaleString('en')} rows are taken in at once; take in the others afterwards.`);
      }
      go({ part: 'intake' });
    } catch (error) {
      complain(error);
    } finally {
      setFound(null);
    }
  }

  function map(one: Announced) {
    const topics = one.device ? `${one.group}/+/${one.device}` : `${one.group}/${one.node}/#`;
    const home = homeOf(tags, one);
    const place = home === null ? '{2} / {3}' : `${home.replaceAll('/', ' / ')} / {3}`;
    keepDraft(draftName(item.id), { ...blankMapping(), topics, place, tags: [] });
    go({ part: 'mappings' });
  }

  if (told.error) return <Trouble error={told.error} />;
  if (all.length === 0 && !told.isPending) {
    return (
      <p className="max-w-3xl text-soft">
        No edge node was heard yet. One appears here with its birth, or as soon as it tells anything: Havrel then asks it for its
        birth.
      </p>
    );
  }
  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <span role="status">
          {counted(all.filter((one) => !one.device).length, 'edge node')},{' '}
          {counted(all.filter((one) => one.device).length, 'device')}
          {untaken.length > 0 && `; ${counted(untaken.length, 'device')} with metrics that are no tags yet`}
        </span>
        {untaken.length > 1 && (
          <Button disabled={disabled || found !== null} onClick={() => void takeIn(untaken)}>
            Take all of them in…
          </Button>
        )}
        {found !== null && (
          <span role="status" className="flex items-center gap-3">
            {counted(found, 'metric')} found
            <Button
              onClick={() => {
                stopped.current = true;
              }}
            >
              Stop
            </Button>
          </span>
        )}
      </div>
      <div className="max-h-[55vh] overflow-auto border border-line">
        <table className="w-full min-w-[58rem] text-left">
          <thead className="sticky top-0 z-10 bg-band text-sm">
            <tr>
              <th className="min-w-56 px-2 font-semibold">Edge node, device</th>
              <th className="w-48 px-2 font-semibold">State</th>
              <th className="w-28 px-2 text-right font-semibold">Metrics</th>
              <th className="w-28 px-2 text-right font-semibold">In its buffer</th>
              <th className="w-20 px-2 text-right font-semibold whitespace-nowrap">Came late</th>
              <th className="w-14 px-2 text-right font-semibold">Births</th>
              <th className="w-14 px-2 text-right font-semibold">Lost</th>
              <th className="w-40 px-2" />
            </tr>
          </thead>
          <tbody>
            {all.slice(0, MOST).map((one) => (
              <Line
                key={one.id}
                one={one}
                disabled={disabled || found !== null}
                onTake={() => void takeIn([one])}
                onMap={() => map(one)}
              />
            ))}
          </tbody>
        </table>
        {all.length > MOST && (
          <p className="border-t border-line px-2 py-1 text-soft">
            and {(all.length - MOST).toLocaleString('en')} more; Metrics and intake finds them by words
          </p>
        )}
      </div>
    </div>
  );
}

interface LineProps {
  one: Announced;
  disabled: boolean;
  onTake: () => void;
  onMap: () => void;
}

function Line({ one, disabled, onTake, onMap }: LineProps) {
  const now = useNow();
  const number = (n: number) => (n === 0 ? '–' : n.toLocaleString('en'));
  const edge = one.device === '';
  return (
    <>
      <tr className="h-8 border-t border-line">
        <td className={clsx('px-2', edge ? 'font-semibold' : 'pl-7')}>
          {edge ? (
            <>
              <span className="font-normal text-soft">{one.group} / </span>
              {one.node}
            </>
          ) : (
            one.device
          )}
        </td>
        <td className="px-2 whitespace-nowrap">
          <span className="flex items-center gap-2">
            <span
              aria-hidden
              className={clsx(
                'size-2.5 rounded-full border',
                one.state === 'online' ? 'border-teal bg-teal' : one.state === 'offline' ? 'border-act4' : 'border-firm',
              )}
            />
            <span className={clsx(one.state === 'offline' && 'font-semibold text-act4')}>{STATES[one.state]}</span>
            {one.since && one.state !== 'waiting' && (
              <span className="text-soft">for {lasting(now - Date.parse(one.since))}</span>
            )}
          </span>
        </td>
        <td className="figures px-2 text-right whitespace-nowrap">
          {number(one.metrics)}
          {one.metrics > 0 && <span className="font-sans text-soft">, {counted(one.taken, 'tag')}</span>}
        </td>
        <td className="figures px-2 text-right whitespace-nowrap">{edge ? one.buffer || '–' : ''}</td>
        <td className="figures px-2 text-right">{number(one.history)}</td>
        <td className="figures px-2 text-right">{number(one.births)}</td>
        <td className="figures px-2 text-right">{edge ? number(one.missing) : ''}</td>
        <td className="px-2 text-right whitespace-nowrap">
          {one.metrics > one.taken && (
            <Button kind="quiet" aria-label={`Take in ${nameOf(one)}`} disabled={disabled} onClick={onTake}>
              Take in…
            </Button>
          )}
          <Button kind="quiet" aria-label={`Map ${nameOf(one)}`} disabled={disabled} onClick={onMap}>
            Map…
          </Button>
        </td>
      </tr>
      {one.words.map((words) => (
        <tr key={words}>
          <td colSpan={8} className={clsx('px-2 pb-1 text-act3', !edge && 'pl-7')}>
            {words}
          </td>
        </tr>
      ))}
    </>
  );
}
