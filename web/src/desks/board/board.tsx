// The operator's screen: each place with tags as a card, in the engineer's order.

import clsx from 'clsx';
import { useMemo, useRef } from 'react';
import { useStatus } from '../../api/live';
import type { Item, RuleSet } from '../../api/model';
import type { Spot } from '../../api/places';
import { useAlarms, useItems, useMay } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { inOrder } from '../../app/tree';
import { useGo, useView } from '../../app/view';
import { dragItem } from '../../parts/drag';
import { mostUrgent, type PipState, Pips } from '../../parts/pips';
import { RangeRule } from '../../parts/range-rule';
import { useSeen } from '../../parts/seen';
import { Spark, useSparks } from '../../parts/spark';
import { clock, counted } from '../../parts/text';
import { Button, DeskHead, Empty, Trouble } from '../../parts/ui';
import { Value } from '../../parts/value';

type Tag = Item<'tag'>;

export function Board() {
  const { at } = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const tree = useTree();
  const tags = useItems('tag', { under: at });
  const rules = useItems('rule', { under: at });
  const cards = useMemo(() => {
    const byPlace = Map.groupBy(tags.data?.items ?? [], (t) => t.set.place);
    const order = tree ? inOrder(tree, byPlace.keys()) : [];
    return order.map(({ spot, idle }) => ({ place: spot, idle, tags: byPlace.get(spot.id) ?? [] }));
  }, [tree, tags.data]);
  const troubles = useTroubles(cards);
  const connections = useItems('connection', {}, troubles.size > 0).data?.items ?? [];
  const names = new Map(connections.map((c) => [c.id, c.set.name]));
  const place = at ? tree?.byId.get(at) : undefined;
  const total = tags.data?.total ?? 0;
  if (tags.error) return <Trouble error={tags.error} />;
  if (!tags.data || !tree) return null;
  const path = pathOf(tree, place?.parent).replaceAll('/', ' / ');
  return (
    <>
      <DeskHead
        path={path}
        title={place?.name ?? 'Whole plant'}
        note={`${place ? `${place.level} · ` : ''}${counted(total, 'tag')}${total > tags.data.items.length ? `, the first ${tags.data.items.length} shown; choose a place to see the rest` : ''}`}
      />
      {total === 0 && (
        <Empty
          title={place ? 'Nothing is read here yet' : 'No tags yet'}
          action={
            engineer && (
              <Button kind="main" onClick={() => go({}, '/connect')}>
                Connect a controller
              </Button>
            )
          }
        >
          The board shows what every unit of the plant is doing. It fills by itself once a controller is connected and some of its
          registers have become tags.
        </Empty>
      )}
      {[...troubles].map(
        ([id, { words, cards: several }]) =>
          several > 1 && (
            <p key={id} className="mb-2 flex items-baseline gap-2 rounded border border-line bg-raised px-3 py-1 text-act4">
              <span className="min-w-0 flex-1">
                ⨯ {names.get(id)}: {words}
              </span>
              <Button kind="quiet" onClick={() => go({ connection: id }, '/connect')}>
                Show the connection
              </Button>
            </p>
          ),
      )}
      <div className="grid grid-cols-[repeat(auto-fill,minmax(27.5rem,1fr))] items-start gap-3">
        {cards.map((card) => (
          <Card
            key={card.place.id}
            place={card.place}
            idle={card.idle}
            tags={card.tags}
            rules={rules.data?.items ?? []}
            troubles={troubles}
          />
        ))}
      </div>
    </>
  );
}

/** What stands where on a card: figures as rows, texts in the head, setpoints and switches below. */
function arrange(tags: readonly Tag[]) {
  const setpoints = new Set(tags.map((t) => t.set.setpoint));
  const isText = (t: Tag) => t.holds === 'text';
  const isBelow = (t: Tag) => setpoints.has(t.id) || t.holds === 'bool';
  return {
    head: tags.filter(isText),
    rows: tags.filter((t) => !isText(t) && !isBelow(t)),
    below: tags.filter((t) => !isText(t) && isBelow(t)),
  };
}

const NONE: readonly string[] = [];

/** The connections in trouble that these cards read from: what is wrong, and on how many cards that is seen. */
function useTroubles(cards: readonly { tags: readonly Tag[] }[]): Map<string, { words: string; cards: number }> {
  const status = useStatus();
  const troubles = new Map<string, { words: string; cards: number }>();
  for (const { tags } of cards) {
    for (const id of new Set(tags.map((t) => t.set.connection))) {
      const health = id ? status?.connections[id] : undefined;
      if (!id || health?.state !== 'trouble') continue;
      const words = `No data since ${clock(health.since)} · ${health.message}`;
      troubles.set(id, { words, cards: (troubles.get(id)?.cards ?? 0) + 1 });
    }
  }
  return troubles;
}

interface CardProps {
  place: Spot;
  idle: boolean;
  tags: Tag[];
  rules: Item<'rule'>[];
  troubles: ReadonlyMap<string, { words: string; cards: number }>;
}

function Card({ place, idle, tags, rules, troubles }: CardProps) {
  const view = useView();
  const go = useGo();
  const { head, rows, below } = useMemo(() => arrange(tags), [tags]);
  const recorded = useMemo(() => rows.filter((t) => t.set.record).map((t) => t.id), [rows]);
  const box = useRef<HTMLElement>(null);
  const sparks = useSparks(useSeen(box) ? recorded : NONE);
  const alarms = (useAlarms().data?.alarms ?? []).filter((a) => a.place === place.id);
  const urgent = mostUrgent(alarms.map((a) => ({ ...a, state: a.state as PipState })));
  const rulesOf = useMemo(() => Map.groupBy(rules, (r) => r.set.tag), [rules]);
  const said = (tag: Tag) => troubles.has(tag.set.connection ?? '');
  // What is seen on several cards stands above them.
  const own = [...troubles].filter(([id, { cards }]) => cards === 1 && tags.some((t) => t.set.connection === id));
  const number = (id: string | null) => tags.find((t) => t.id === id)?.no;
  const open = (tag: Tag) => go({ tag: tag.id });
  return (
    <section
      ref={box}
      aria-label={place.name}
      // A whole plant has hundreds: those out of sight are not laid out, and guessed at by their rows.
      className="rounded-md border border-line bg-raised px-3 pt-2 pb-1.5 [content-visibility:auto] print:[content-visibility:visible]"
      style={{ containIntrinsicBlockSize: `auto ${44 + 28 * (rows.length + Math.min(below.length, 1))}px` }}
    >
      <header className="flex h-7 items-center gap-2">
        <h2 className="truncate text-[0.9375rem] font-semibold">{place.name}</h2>
        {idle && <span className="shrink-0 rounded border border-line px-1.5 text-sm text-soft">out of service</span>}
        {urgent && <Pips priority={urgent.priority} state={urgent.state} />}
        <span className="ml-auto flex min-w-0 items-center gap-3 truncate text-sm text-soft">
          {head.map((tag) => (
            <span key={tag.id} className="flex items-baseline gap-1">
              <button type="button" className="hover:text-teal" onClick={() => open(tag)}>
                {tag.set.name}
              </button>
              <Value no={tag.no} set={tag.set} said={said(tag)} className="text-ink" />
            </span>
          ))}
        </span>
      </header>
      {own.map(([id, { words }]) => (
        <p key={id} className="truncate border-t border-line py-0.5 text-act4" title={words}>
          ⨯ {words}
        </p>
      ))}
      <ul>
        {rows.map((tag) => {
          const limits: RuleSet[] = (rulesOf.get(tag.id) ?? []).map((r) => r.set);
          return (
            <li
              key={tag.id}
              draggable
              onDragStart={(e) => dragItem(e.dataTransfer, { kind: 'tag', id: tag.id, title: tag.title })}
              className={clsx('flex h-7 items-center gap-3 border-t border-line', view.tag === tag.id && 'bg-tint')}
            >
              <button type="button" className="min-w-0 flex-1 truncate text-left hover:text-teal" onClick={() => open(tag)}>
                {tag.set.name}
              </button>
              <Value no={tag.no} set={tag.set} said={said(tag)} className="w-32 shrink-0" />
              <RangeRule no={tag.no} set={tag.set} rules={limits} setpoint={number(tag.set.setpoint)} />
              <Spark columns={sparks.data?.get(tag.id)} name={tag.set.name} set={tag.set} />
            </li>
          );
        })}
      </ul>
      {below.length > 0 && (
        <div className="flex flex-wrap gap-x-4 border-t border-line py-1 text-sm">
          {below.map((tag) => (
            <span key={tag.id} className="flex items-baseline gap-1.5 py-0.5">
              <button type="button" className="text-soft hover:text-teal" onClick={() => open(tag)}>
                {tag.set.name}
              </button>
              <Value no={tag.no} set={tag.set} said={said(tag)} />
            </span>
          ))}
        </div>
      )}
    </section>
  );
}
