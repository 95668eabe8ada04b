// The tree of nodes that a device offers: browsed level by level with what each holds now, and chosen for the intake.

import { useQueries, useQueryClient } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { ChevronRight } from 'lucide-react';
import { type KeyboardEvent, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import type { Item, TagSet } from '../../../api/model';
import { useItems } from '../../../api/queries';
import { useGo } from '../../../app/view';
import { keepDraft } from '../../../parts/draft';
import { complain } from '../../../parts/form';
import type { KindView } from '../../../parts/kinds';
import { below, NOTHING, type Offer } from '../../../parts/nodes/below';
import {
  type Alike,
  alikeOf,
  isFound,
  isWanted,
  type Known,
  MOST_TAKEN,
  PARTS,
  type Place,
  pathOf,
  type Row,
  resolved,
  rowsFound,
  rowsOf,
  type Walk,
  type Walked,
  type Wanted,
  walk,
} from '../../../parts/nodes/tree';
import { useSteps } from '../../../parts/steps';
import { counted } from '../../../parts/text';
import { Button, Choice, Field, Input, Tick, Trouble } from '../../../parts/ui';
import type { Candidate } from '../candidates';
import { Intake } from '../intake';
import { draftName, mappingOf } from '../mappings/mapping';
import { candidateOf, intakeDraft } from './candidate';
import { Differences, useListed } from './listed';
import { wordsOf } from './words';

/** Nodes of one page. */
const PAGE = 1000;
/** What an open folder holds is read again so often, in ms, unless it is large. */
const AGAIN = 3000;
const LARGE = 200;
const LINE = 28;
/** Most nodes that are found by words. */
const MOST_FOUND = 1000;
/** Most types for which the same is offered. */
const MOST_ALIKE = 2;

/** Everything, as a filter of topics says it. */
const EVERY = '#';

/** The node at the top, as somebody listens to topics. */
const listenedTo = (filter: string) => `filter=${filter.trim().replaceAll('%', '%25').replaceAll(';', '%3B')};`;

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
  can: KindView['can'];
}

export function Nodes({ item, seen, disabled, can }: Props) {
  const { listens } = can;
  const told = wordsOf(can);
  const queries = useQueryClient();
  const go = useGo();
  const places = useItems('place').data?.items ?? [];
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const [chosen, setChosen] = useState<ReadonlyMap<string, Place>>(new Map());
  const [wanted, setWanted] = useState<Wanted>('every');
  const [walking, setWalking] = useState<(Walked & { what: string }) | null>(null);
  const [words, setWords] = useState('');
  /** What was found by words, instead of the tree. */
  const [found, setFound] = useState<{ words: string; below: string; places: readonly Place[]; whole: boolean } | null>(null);
  const stopped = useRef(false);
  /** The row that keys act on; none at first, so that words are looked for in the whole server. */
  const [at, setAt] = useState(-1);
  const steps = useSteps<Candidate>(intakeDraft(item.id));
  const box = useRef<HTMLDivElement>(null);
  const [filter, setFilter] = useState(EVERY);
  const [heard, setHeard] = useState(EVERY);
  const top = listens ? listenedTo(heard) : '';
  const root: Place = { offer: { ...NOTHING, id: top }, above: [] };
  const { peer } = told;
  const nodes = useMemo(() => [top, ...new Set([...open].map((key) => key.split('\n').at(-1) ?? ''))], [open, top]);
  const query = (node: string) => ({
    queryKey: ['items', 'nodes', item.id, node],
    queryFn: () => below(item.id, node, PAGE),
    staleTime: 0,
  });
  const results = useQueries({
    queries: nodes.map((node) => ({
      ...query(node),
      refetchInterval: (q: { state: { data?: Known | undefined } }) =>
        (q.state.data?.nodes.length ?? 0) <= LARGE ? AGAIN : false,
    })),
  });
  const known = new Map(nodes.flatMap((node, i) => (results[i]?.data ? [[node, results[i].data] as const] : [])));
  const listed = useListed(item.id, found || listens ? new Map() : known);
  const marks = new Map(listed.flatMap(({ node, view }) => (view ? [[node, view] as const] : [])));
  const rows = found ? rowsFound(found.places) : rowsOf(known, open, marks, top);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => LINE,
    overscan: 8,
    initialRect: { width: 900, height: 340 },
  });
  if (steps.list.length > 0) {
    return (
      <>
        <Button kind="quiet" className="mb-2" onClick={steps.clear}>
          Discard these rows
        </Button>
        <Intake connection={item} seen={seen} parts={PARTS[listens ? 'topics' : 'nodes']} steps={steps} disabled={disabled} />
      </>
    );
  }

  const toggle = ({ key }: Row) => {
    const next = new Set(open);
    if (!next.delete(key)) next.add(key);
    setOpen(next);
  };
  const choose = (some: readonly Place[], on: boolean) => {
    const next = new Map(chosen);
    for (const one of some) {
      const key = JSON.stringify(one.offer.point);
      if (!on) next.delete(key);
      else if (!one.offer.taken) next.set(key, one);
    }
    setChosen(next);
  };
  const isChosen = ({ point }: Offer) => point !== null && chosen.has(JSON.stringify(point));

  const children = (node: string) => queries.fetchQuery({ ...query(node), staleTime: 10_000 });

  /** Walks through the server while its progress shows; what went wrong is told, and gives nothing. */
  async function walkThrough<T>(what: string, go: (walk: Pick<Walk, 'children' | 'tell' | 'cancelled'>) => Promise<T>) {
    stopped.current = false;
    const tell = (walked: Walked) => setWalking({ ...walked, what });
    tell({ nodes: 0, found: 0 });
    try {
      return await go({ children, tell, cancelled: () => stopped.current });
    } catch (error) {
      complain(error);
      return null;
    } finally {
      setWalking(null);
    }
  }

  /** Chooses what was found, and says how much of it is new. */
  function take(places: readonly Place[], where: string, whole: boolean) {
    choose(places, true);
    const fresh = places.filter((f) => !f.offer.taken).length;
    const tags = places.length - fresh;
    toast.success(
      `Chose ${counted(fresh, 'value')} ${where}${tags > 0 ? `; ${tags.toLocaleString('en')} more are tags already` : ''}${whole ? '' : '; that is not all of them'}.`,
    );
  }

  async function takeBelow(place: Place) {
    const keep = (offer: Offer) => isWanted(offer, wanted);
    const walked = await walkThrough(`Below ${place.offer.name}`, (how) => walk(place, { keep, inside: listens, ...how }));
    if (walked) take(walked.found, `below ${place.offer.name}`, walked.whole);
  }

  async function find() {
    const from = found ? null : rows[at];
    const below = from?.offer.branch ? from : root;
    const name = below === root ? peer : below.offer.name;
    const keep = (offer: Offer) => offer.id !== top && isFound(offer, words);
    const walked = await walkThrough(`Finding “${words.trim()}” below ${name}`, (how) =>
      walk(below, { keep, most: MOST_FOUND, ...how }),
    );
    if (!walked) return;
    setFound({ words: words.trim(), below: name, places: walked.found, whole: walked.whole });
    setAt(-1);
  }

  async function takeAlike({ type, name, paths }: Alike) {
    const objects = { keep: (o: Offer) => o.of_type === type, into: (o: Offer) => o.point === null && o.of_type !== type };
    const walked = await walkThrough(`Objects of the type ${name}`, async (how) => {
      const { found, whole } = await walk(root, { ...objects, ...how });
      const places: Place[] = [];
      let missed = false;
      for (const object of found) {
        if (how.cancelled()) return { places, objects: found.length, whole: false };
        try {
          places.push(...(await resolved(object, paths, children)));
        } catch {
          // One that does not answer does not keep the others from being chosen.
          missed = true;
        }
      }
      return { places, objects: found.length, whole: whole && !missed };
    });
    if (walked) take(walked.places, `of ${counted(walked.objects, 'object')} of the type ${name}`, walked.whole);
  }

  function onKey(event: KeyboardEvent) {
    if (rows.length === 0 || event.target !== event.currentTarget) return;
    const to = (index: number) => {
      const next = Math.min(Math.max(index, 0), rows.length - 1);
      setAt(next);
      virtual.scrollToIndex(next);
    };
    const row = rows[at];
    const isOpen = row !== undefined && open.has(row.key);
    if (event.key === 'ArrowDown') to(at + 1);
    else if (event.key === 'ArrowUp') to(at - 1);
    else if (event.key === 'Home') to(0);
    else if (event.key === 'End') to(rows.length - 1);
    else if (event.key === 'Escape' && at >= 0) setAt(-1);
    else if (!row) return;
    else if (event.key === 'ArrowRight' && row.offer.branch && !row.again && !isOpen && !found) toggle(row);
    else if (event.key === 'ArrowLeft' && isOpen) toggle(row);
    else if (event.key === 'ArrowLeft') to(rows.findIndex((r) => r.key === row.key.split('\n').slice(0, -1).join('\n')));
    else if (event.key === ' ' && row.offer.point) choose([row], !isChosen(row.offer));
    else if (event.key === 'Enter' && row.offer.branch) void takeBelow(row);
    else return;
    event.preventDefault();
  }

  const current = found ? undefined : rows[at];
  const target = current?.offer.branch ? current.offer.name : peer;
  const alike = alikeOf(chosen.values()).slice(0, MOST_ALIKE);
  const error = results.find((r) => r.error)?.error;
  const tracks = TRACKS[can.tells ? 'nodes' : 'topics'];
  const rowId = (index: number) => `node-${item.id}-${index}`;
  return (
    <div>
      <Trouble error={error} />
      <div className="mb-2 flex flex-wrap items-end gap-3">
        {listens && (
          <form
            className="flex items-end gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              setHeard(filter);
              setFound(null);
              setOpen(new Set());
              setAt(-1);
            }}
          >
            <Field label="Topics" className="w-44">
              {(p) => <Input {...p} value={filter} placeholder="site/#" onChange={(e) => setFilter(e.target.value)} />}
            </Field>
            <Button type="submit" disabled={!filter.trim() || filter.trim() === heard.trim()}>
              Listen
            </Button>
          </form>
        )}
        <Field label={`Take from below a ${told.one}`} className="w-44">
          {(p) => (
            <Choice {...p} value={wanted} onChange={(e) => setWanted(e.target.value as Wanted)}>
              <option value="every">every value</option>
              <option value="numbers">only numbers and switches</option>
              <option value="writable">only what can be written</option>
            </Choice>
          )}
        </Field>
        <form
          className="flex items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            if (words.trim()) void find();
          }}
        >
          <Field label={`Find below ${target}`} className="w-60">
            {(p) => (
              <Input
                {...p}
                value={words}
                placeholder={told.find}
                disabled={walking !== null}
                onChange={(e) => setWords(e.target.value)}
              />
            )}
          </Field>
          <Button type="submit" disabled={!words.trim() || walking !== null}>
            Find
          </Button>
        </form>
        {walking && (
          <span role="status" className="flex items-center gap-3 pb-1">
            {walking.what}: {walking.nodes.toLocaleString('en')} nodes, {walking.found.toLocaleString('en')} found
            <Button
              onClick={() => {
                stopped.current = true;
              }}
            >
              Stop
            </Button>
          </span>
        )}
        {chosen.size > 0 && <Button onClick={() => setChosen(new Map())}>Choose none</Button>}
        <Button
          kind="main"
          disabled={chosen.size === 0 || disabled || walking !== null}
          onClick={() => {
            const titles = places.map((p) => p.title);
            steps.step(() =>
              [...chosen.values()]
                .slice(0, MOST_TAKEN)
                .map((one) => candidateOf(one, titles, listens ? '' : one.offer.description)),
            );
            setChosen(new Map());
          }}
        >
          Add {counted(chosen.size, 'row')}
        </Button>
        {listens && (
          <Button
            disabled={chosen.size === 0 || disabled || walking !== null}
            title="Makes the chosen values tags of every topic like this one, now and later"
            onClick={() => {
              keepDraft(draftName(item.id), mappingOf([...chosen.values()], heard));
              go({ part: 'mappings' });
            }}
          >
            Map every such topic…
          </Button>
        )}
        {alike.map((one) => (
          <Button key={one.type} disabled={walking !== null} onClick={() => void takeAlike(one)}>
            Choose the same in every {one.name}
          </Button>
        ))}
        {found ? (
          <p role="status" className="flex h-6 basis-full items-center gap-3 text-sm">
            {found.places.length === 0
              ? `Nothing below ${found.below} has “${found.words}” in its name, description or id.`
              : `${counted(found.places.length, 'node')} below ${found.below} with “${found.words}”${found.whole ? '' : '; there are more'}.`}
            <Button
              kind="quiet"
              onClick={() => {
                setFound(null);
                setAt(-1);
              }}
            >
              Show the tree
            </Button>
          </p>
        ) : (
          <div className="flex h-6 basis-full items-center gap-3 text-sm">
            <span className="text-soft">
              Arrows move and open, Space chooses a value, Enter chooses everything below a {told.one}.
            </span>
            <Differences listed={listed} connection={item.id} />
          </div>
        )}
      </div>
      <div
        ref={box}
        role="tree"
        aria-label={told.tree}
        aria-multiselectable
        aria-activedescendant={rows[at] ? rowId(at) : undefined}
        tabIndex={0}
        className="h-85 overflow-auto border border-line"
        onKeyDown={onKey}
      >
        <div className="min-w-[54rem]">
          <div className={clsx(tracks, 'sticky top-0 z-10 h-7 bg-band text-sm font-semibold')} aria-hidden>
            <span>{told.head}</span>
            <span className="text-right">{found ? 'Held then' : 'Holds now'}</span>
            {can.tells && <span>Unit</span>}
            <span>Type</span>
            {can.tells && <span className="text-right">Range</span>}
            {can.tells && <span>Access</span>}
            <span>{told.last}</span>
          </div>
          {listens && results[0]?.data?.nodes.length === 0 && (
            <p className="p-2 text-soft">No message came on {heard} yet. Topics appear here as soon as one comes.</p>
          )}
          {results[0]?.isPending && <p className="p-2 text-soft">Asking {peer}…</p>}
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {virtual.getVirtualItems().map((v) => {
              const row = rows[v.index];
              if (!row) return null;
              return (
                <NodeRow
                  key={row.key}
                  id={rowId(v.index)}
                  row={row}
                  start={v.start}
                  flat={found !== null}
                  tells={can.tells}
                  open={open.has(row.key)}
                  loading={!found && open.has(row.key) && !known.has(row.offer.id)}
                  current={v.index === at}
                  chosen={isChosen(row.offer)}
                  dim={row.offer.point !== null && !isWanted(row.offer, wanted)}
                  disabled={disabled || walking !== null}
                  onToggle={() => {
                    setAt(v.index);
                    toggle(row);
                  }}
                  onChoose={(on) => choose([row], on)}
                  onBelow={() => void takeBelow(row)}
                />
              );
            })}
          </div>
        </div>
      </div>
    </div>
  );
}

const LINE_OF = 'grid items-center gap-x-3 px-2 whitespace-nowrap';
/** The columns of nodes, and of topics and answers, of which nobody tells unit, range and access. */
const TRACKS = {
  nodes: clsx(LINE_OF, 'grid-cols-[minmax(15rem,1.6fr)_6.5rem_4rem_6rem_6.5rem_3rem_minmax(8rem,1fr)]'),
  topics: clsx(LINE_OF, 'grid-cols-[minmax(15rem,1.2fr)_minmax(10rem,1fr)_5rem_minmax(14rem,1.2fr)]'),
};

/** A value as its tag would show it; whole numbers keep their digits. */
function shown(value: string, decimals: number | undefined): string {
  const number = Number(value);
  if (!/^-?\d+\.\d+(e[-+]?\d+)?$/.test(value) || !Number.isFinite(number)) return value;
  return decimals === undefined ? String(Number(number.toPrecision(7))) : number.toFixed(decimals);
}

interface NodeRowProps {
  id: string;
  row: Row;
  start: number;
  /** It stands alone, with its path. */
  flat: boolean;
  /** Its columns are those of a server. */
  tells: boolean;
  open: boolean;
  loading: boolean;
  current: boolean;
  chosen: boolean;
  dim: boolean;
  disabled: boolean;
  onToggle: () => void;
  onChoose: (on: boolean) => void;
  onBelow: () => void;
}

function NodeRow({
  id,
  row,
  start,
  flat,
  tells,
  open,
  loading,
  current,
  chosen,
  dim,
  disabled,
  onToggle,
  onChoose,
  onBelow,
}: NodeRowProps) {
  const { offer, again } = row;
  const path = pathOf(row);
  const set: Partial<Pick<TagSet, 'unit' | 'decimals' | 'range_low' | 'range_high'>> = offer.set;
  const value = offer.readings[0]?.text ?? '';
  const number = value === 'true' ? '1' : value === 'false' ? '0' : value;
  const state = offer.states.find((s) => String(s.value) === number)?.name;
  const expands = offer.branch && !again;
  return (
    <div
      id={id}
      role="treeitem"
      aria-level={path.length + 1}
      aria-selected={chosen}
      {...(expands ? { 'aria-expanded': open } : {})}
      tabIndex={-1}
      className={clsx(
        TRACKS[tells ? 'nodes' : 'topics'],
        'group absolute right-0 left-0 border-b border-line hover:bg-band',
        current && 'bg-tint',
        dim && 'text-soft',
      )}
      style={{ height: LINE, transform: `translateY(${start}px)` }}
    >
      <span className="flex min-w-0 items-center gap-1.5" style={{ paddingLeft: flat ? 0 : path.length * 16 }}>
        {expands && !flat ? (
          <button type="button" tabIndex={-1} aria-label={`${open ? 'Close' : 'Open'} ${offer.name}`} onClick={onToggle}>
            <ChevronRight className={clsx('size-4 text-soft', open && 'rotate-90')} />
          </button>
        ) : (
          <span className="w-4" />
        )}
        {offer.point && (
          <Tick
            hideLabel
            label={`Choose ${offer.name}`}
            checked={chosen}
            disabled={Boolean(offer.taken) || disabled}
            onChange={onChoose}
          />
        )}
        <span className="min-w-0 truncate" title={[...path, offer.name].join(' / ')}>
          {flat && <span className="text-soft">{path.map((name) => `${name} / `).join('')}</span>}
          {offer.name}
        </span>
        {row.mark && <span className="text-sm text-act3">{row.mark}</span>}
        {loading && <span className="text-soft">…</span>}
        {again && <span className="text-soft">(again)</span>}
        {expands && (
          <button
            type="button"
            tabIndex={-1}
            className="ml-auto rounded px-1 text-sm text-teal hover:underline disabled:text-soft"
            aria-label={`Choose all below ${offer.name}`}
            disabled={disabled}
            onClick={onBelow}
          >
            choose all below
          </button>
        )}
      </span>
      <span className="figures truncate text-right" title={offer.refused || value}>
        {offer.refused ? <span className="text-act4">⨯ {offer.refused}</span> : (state ?? shown(value, set.decimals))}
      </span>
      {tells && <span className="truncate text-soft">{set.unit}</span>}
      <span className="truncate text-soft" title={offer.about}>
        {offer.about}
      </span>
      {tells && (
        <span className="figures truncate text-right text-soft">
          {set.range_low !== undefined && set.range_high !== undefined && `${set.range_low} to ${set.range_high}`}
        </span>
      )}
      {tells && (
        <span className="truncate text-soft">
          {offer.point && ('method' in offer.point ? 'call' : offer.writable ? 'write' : 'read')}
        </span>
      )}
      <span className="truncate text-soft" title={offer.taken || offer.description}>
        {offer.taken ? `is ${offer.taken.replaceAll('/', ' / ')}` : offer.description}
      </span>
    </div>
  );
}
