// A large place by its areas: figures over like equipment, and a line for each piece of equipment.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { type ReactNode, useMemo, useRef } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { type Alarm, useAlarms } from '../../api/queries';
import { type PlantTree, useTree } from '../../api/tree';
import { useGo, useView } from '../../app/view';
import { useReading } from '../../parts/reading';
import { useSeen } from '../../parts/seen';
import { Spark, useSparks } from '../../parts/spark';
import { counted } from '../../parts/text';
import { Trouble } from '../../parts/ui';
import { Value } from '../../parts/value';
import type { Tag } from './cards';
import { Troubles, useTroubles } from './troubles';
import { Worst } from './worst';

type Area = Schemas['AreaView'];
type Line = Schemas['LineView'];
type Figure = Schemas['FigureView'];
type Rolled = Schemas['RolledView'];

/** The strip at the end of a line spans two hours, in ms, over so many pixels. */
const SPAN = 2 * 3_600_000;
const WIDTH = 112;

function useBoard(at: string | undefined) {
  const query = at ? { at } : {};
  const board = useQuery({
    queryKey: ['board', at],
    queryFn: () => take(http.GET('/api/board', { params: { query } })),
    placeholderData: keepPreviousData,
  });
  const figures = useQuery({
    queryKey: ['board', at, 'figures'],
    queryFn: () => take(http.GET('/api/board/figures', { params: { query } })),
    refetchInterval: 2_000,
    staleTime: 0,
  });
  return { board, figures };
}

interface Props {
  head: (note: string) => ReactNode;
  /** What stands where nothing is read. */
  empty: ReactNode;
  /** What stands above the areas. */
  children: ReactNode;
}

export function Overview({ head, empty, children }: Props) {
  const { at } = useView();
  const tree = useTree();
  const { board, figures } = useBoard(at);
  const tags = useMemo(() => new Map((board.data?.tags ?? []).map((tag) => [tag.id, tag as unknown as Tag])), [board.data]);
  const read = useMemo(() => {
    const lines = (board.data?.areas ?? []).flatMap((area) => area.lines);
    return lines.map((line) => mainOf(line, tags));
  }, [board.data, tags]);
  const troubles = useTroubles(read);
  const alarms = useWhere(tree, board.data?.areas ?? []);
  if (board.error) return <Trouble error={board.error} />;
  if (!board.data) return head('\u00a0');
  const { areas, revision } = board.data;
  // The figures come in the order of the areas, and belong to them only where both know the same configuration.
  const rolled = figures.data?.revision === revision ? figures.data.figures : [];
  const starts = areas.map((_, i) => areas.slice(0, i).reduce((sum, area) => sum + area.figures.length, 0));
  const equipment = areas.reduce((sum, area) => sum + area.equipment, 0);
  return (
    <>
      {head(
        areas.length > 1
          ? `${counted(areas.length, 'area')} · ${counted(equipment, 'piece')} of equipment`
          : `${counted(equipment, 'piece')} of equipment`,
      )}
      {areas.length === 0 && empty}
      {children}
      <Troubles troubles={troubles} least={1} />
      {areas.map((area, i) => {
        const start = starts[i] ?? 0;
        return (
          <AreaPart
            key={area.place}
            area={area}
            alone={areas.length === 1}
            tags={tags}
            rolled={rolled.slice(start, start + area.figures.length)}
            troubled={troubles}
            alarms={alarms}
          />
        );
      })}
    </>
  );
}

const mainOf = (line: Line, tags: ReadonlyMap<string, Tag>) => line.main.flatMap((id) => tags.get(id) ?? []);

/** Standing alarms by the line or the area under which they stand. */
function useWhere(tree: PlantTree | undefined, areas: readonly Area[]): ReadonlyMap<string, Alarm[]> {
  const alarms = useAlarms().data?.alarms;
  return useMemo(() => {
    const [lines, heads] = [new Set(areas.flatMap((a) => a.lines.map((l) => l.place))), new Set(areas.map((a) => a.place))];
    const found = new Map<string, Alarm[]>();
    const add = (key: string, alarm: Alarm) => found.set(key, [...(found.get(key) ?? []), alarm]);
    for (const alarm of alarms ?? []) {
      let [line, area] = [false, false];
      for (let at = tree?.byId.get(alarm.place ?? ''); at; at = at.parent ? tree?.byId.get(at.parent) : undefined) {
        if (!line && lines.has(at.id)) {
          add(`line ${at.id}`, alarm);
          line = true;
        }
        if (!area && heads.has(at.id)) {
          add(`area ${at.id}`, alarm);
          area = true;
        }
      }
    }
    return found;
  }, [tree, areas, alarms]);
}

interface AreaProps {
  area: Area;
  /** The chosen place itself: its name stands above already. */
  alone: boolean;
  tags: ReadonlyMap<string, Tag>;
  rolled: readonly Rolled[];
  troubled: ReadonlyMap<string, unknown>;
  alarms: ReadonlyMap<string, Alarm[]>;
}

function AreaPart({ area, alone, tags, rolled, troubled, alarms }: AreaProps) {
  const go = useGo();
  const box = useRef<HTMLElement>(null);
  const seen = useSeen(box);
  const strips = useMemo(() => area.lines.flatMap((line) => stripOf(mainOf(line, tags))?.id ?? []), [area.lines, tags]);
  const sparks = useSparks(seen ? strips : NONE, SPAN, WIDTH);
  const more = area.equipment - area.lines.length;
  return (
    <section ref={box} aria-label={`Area ${area.name}`} className="mb-3 rounded-md border border-line bg-raised">
      {(!alone || area.figures.length > 0) && (
        <header className="flex flex-wrap items-baseline gap-x-5 gap-y-1 px-3 py-1.5">
          {!alone && (
            <h2 className="flex items-center gap-2 text-[0.9375rem] font-semibold">
              <button type="button" className="hover:text-teal" onClick={() => go({ at: area.place })}>
                {area.name}
              </button>
              <Worst alarms={alarms.get(`area ${area.place}`)} count />
            </h2>
          )}
          {area.figures.map((figure, i) => (
            <FigureOf key={`${figure.class} ${figure.name}`} figure={figure} rolled={rolled[i]} />
          ))}
        </header>
      )}
      {area.lines.map((line) => {
        const main = mainOf(line, tags);
        const strip = stripOf(main);
        return (
          <section
            key={line.place}
            aria-label={line.name}
            className="flex items-center gap-3 border-t border-line px-3 py-1 first:border-t-0"
          >
            <h3 className="flex w-40 shrink-0 items-center gap-2">
              <button
                type="button"
                className="min-w-0 truncate text-left hover:text-teal"
                title={line.class ? `${line.name}, ${line.class}` : line.name}
                onClick={() => go({ at: line.place, part: 'cards' })}
              >
                {line.name}
              </button>
              {line.place === area.place && <span className="shrink-0 text-sm text-soft">itself</span>}
              <Worst alarms={alarms.get(`line ${line.place}`)} />
            </h3>
            <ul className="grid min-w-0 flex-1 grid-cols-[repeat(auto-fill,minmax(7.5rem,1fr))] gap-x-3">
              {main.map((tag) => (
                <li key={tag.id} className="flex min-w-0 flex-col">
                  <button
                    type="button"
                    className="truncate text-left text-sm leading-4 text-soft hover:text-teal"
                    title={tag.set.name}
                    onClick={() => go({ tag: tag.id })}
                  >
                    {tag.set.name}
                  </button>
                  <Value
                    no={tag.no}
                    set={tag.set}
                    said={troubled.has(tag.set.connection ?? '')}
                    className="max-w-full self-start leading-5"
                  />
                </li>
              ))}
            </ul>
            {strip ? (
              <Spark columns={sparks.data?.get(strip.id)} name={strip.set.name} set={strip.set} span={SPAN} width={WIDTH} />
            ) : (
              <span className="w-28 shrink-0" />
            )}
          </section>
        );
      })}
      {more > 0 && (
        <p className="border-t border-line px-3 py-1 text-soft">
          {counted(more, 'more piece')} of equipment.{' '}
          {alone ? (
            'Choose a place on the left to see the rest.'
          ) : (
            <button type="button" className="text-teal hover:underline" onClick={() => go({ at: area.place })}>
              Open {area.name}
            </button>
          )}
        </p>
      )}
    </section>
  );
}

const NONE: readonly string[] = [];

/** What the strip at the end of a line shows: the state of the equipment, else its first figure. */
function stripOf(main: readonly Tag[]): Tag | undefined {
  const recorded = main.filter((tag) => tag.recorded && tag.holds !== 'text');
  return recorded.find((tag) => tag.set.states) ?? recorded[0];
}

const HOW: Record<string, string> = { sum: 'sum', average: 'average', lowest: 'lowest', highest: 'highest' };

/** What like equipment of an area comes to now. */
function FigureOf({ figure, rolled }: { figure: Figure; rolled: Rolled | undefined }) {
  const { unit, decimals, how } = figure;
  const reading = useReading({ unit: how === 'count' ? '' : unit, decimals: how === 'count' ? 0 : decimals });
  const missing = rolled ? figure.of - rolled.counted : 0;
  const words = HOW[how] ? `${figure.name}, ${HOW[how]}` : figure.name;
  const doubt = [
    missing > 0 && `${counted(missing, 'value')} of ${figure.of} missing`,
    rolled && rolled.uncertain > 0 && `${counted(rolled.uncertain, 'value')} uncertain`,
  ].filter(Boolean);
  return (
    <span className="flex items-baseline gap-1.5 text-sm" title={`${figure.class}: ${words}`}>
      <span className="text-soft">
        {figure.class} · {words}
      </span>
      <span className="text-base">
        {doubt.length > 0 && (
          <span role="img" aria-label={doubt.join(', ')} title={doubt.join(', ')} className="font-mono font-semibold">
            ~
          </span>
        )}
        <span className="figures font-semibold">
          {rolled === undefined ? '…' : rolled.value === null || rolled.value === undefined ? '—' : reading.print(rolled.value)}
        </span>
      </span>
      {how === 'count' && <span>of {figure.of}</span>}
      {how !== 'count' && reading.unit && <span className="text-soft">{reading.unit}</span>}
    </span>
  );
}
