// Explore: trends of any tags, live or past, and lookups.

import clsx from 'clsx';
import { ChevronLeft, ChevronRight, Download, History, MessageSquarePlus, X, ZoomIn, ZoomOut } from 'lucide-react';
import { type KeyboardEvent, useCallback, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { feed } from '../../api/live';
import { useItems, useMay, useTags } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { seriesColour } from '../../parts/colours';
import { asNamed, tagIn } from '../../parts/figure';
import { complain } from '../../parts/form';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { Picker } from '../../parts/picker';
import { save } from '../../parts/save';
import { moment, pathEnd, spanWords } from '../../parts/text';
import { nameOf, Trend, type TrendHandle, type TrendWindow } from '../../parts/trend';
import { zoomed } from '../../parts/trend-data';
import { Button, Choice, DeskHead, Empty } from '../../parts/ui';
import { csvOf, pictureOf } from './export';
import { Figures } from './figures';
import { FollowPage } from './follow';
import { Handle } from './handles';
import { KeptTrends, KeptTrendsDialog } from './kept-trends';
import { Lookup } from './lookup/lookup';
import { NoteDialog, NoteFlags, NoteList, useNotes } from './notes';
import { ExploreParts } from './parts';
import { TrackChoice } from './track-choice';

const MOST = 8;
const CURSORS = [
  { key: 'a', name: 'A', share: 1 / 3 },
  { key: 'b', name: 'B', share: 2 / 3 },
] as const;
const EARLIER = [
  [3600, 'an hour earlier'],
  [28_800, 'eight hours earlier'],
  [86_400, 'a day earlier'],
  [604_800, 'a week earlier'],
] as const;

export function Explore() {
  const { follow, part } = useView();
  if (follow) return <FollowPage key={follow} id={follow} />;
  return part === 'lookup' ? <Lookup /> : <Trends />;
}

function Trends() {
  const view = useView();
  const go = useGo();
  const chosenIds = useMemo(() => (view.tags ? view.tags.split(',') : []), [view.tags]);
  const bases = useTags(useMemo(() => [...new Set(chosenIds.map(tagIn))], [chosenIds]));
  const chosen = useMemo(
    () =>
      chosenIds.flatMap((name) => {
        const tag = bases.find(({ id }) => id === tagIn(name));
        return tag ? [asNamed(name, tag)] : [];
      }),
    [chosenIds, bases],
  );
  const span = view.span ?? 900;
  const { end } = view;
  const move = (nextSpan: number, nextEnd: number | undefined) => go({ span: nextSpan, end: nextEnd });
  const set = (ids: string[]) => go({ tags: ids.join(',') || undefined });
  const to = end ?? feed.time();
  const period = end === undefined ? { span } : { span, end };

  const shift = (share: number) => {
    const next = to + share * span * 1000;
    move(span, next >= feed.time() ? undefined : Math.round(next));
  };
  const zoom = (factor: number) => {
    const [from, until] = zoomed(to - span * 1000, to, end === undefined ? 1 : 0.5, factor);
    move((until - from) / 1000, end === undefined ? undefined : Math.round(until));
  };

  const [shown, setShown] = useState<{ window: TrendWindow; handle: TrendHandle } | null>(null);
  const [asked, setAsked] = useState<'note' | 'kept' | null>(null);
  const mayRemark = useMay('operator');
  const notes = useNotes(chosen, shown?.window, end === undefined);
  const names = chosen.map((t) => nameOf(t, chosen));
  const drawn = useRef({ at: 0, from: 0, left: 0, width: 0 });
  // The plot tells of every drawing; what stands around it follows a few times a second, and at once when the window jumps.
  const show = useCallback((window: TrendWindow, handle: TrendHandle) => {
    const old = drawn.current;
    const jumped = Math.abs(window.from - old.from) > 2000 || window.left !== old.left || window.width !== old.width;
    if (!jumped && Date.now() - old.at < 250) return;
    drawn.current = { at: Date.now(), from: window.from, left: window.left, width: window.width };
    // Not while the plot is being drawn.
    queueMicrotask(() => setShown({ window, handle }));
  }, []);
  const instant = (share: number) => {
    const { from, to: until } = shown?.window ?? { from: to - span * 1000, to };
    return Math.round(from + (until - from) * share);
  };
  const fileName = (ending: string) => `trend ${moment(to, 0).replaceAll(':', '-')}.${ending}`;
  async function takeCsv() {
    if (!shown) return;
    try {
      const { text, cut } = await csvOf(chosen, shown.window);
      save(fileName('csv'), new Blob([text], { type: 'text/csv' }));
      if (cut) toast.warning('A tag has more than 100,000 samples in this time; the file ends there. Zoom in for the rest.');
    } catch (error) {
      complain(error);
    }
  }
  async function takePicture() {
    if (!shown) return;
    const legend = chosen.map((tag, i) => ({ name: nameOf(tag, chosen), colour: seriesColour(i) }));
    const title = `${moment(shown.window.from, 0)} to ${moment(shown.window.to, 0)}`;
    const picture = await pictureOf(shown.handle.canvas, legend, title);
    if (picture) save(fileName('png'), picture);
  }

  function onKey(event: KeyboardEvent) {
    if (event.key === 'ArrowLeft') shift(-0.25);
    else if (event.key === 'ArrowRight') shift(0.25);
    else if (event.key === '+') zoom(0.8);
    else if (event.key === '-') zoom(1.25);
    else if (event.key === 'End') move(span, undefined);
    else return;
    event.preventDefault();
  }

  return (
    <div className="flex h-full min-h-0 flex-col">
      <DeskHead path={periodWords(period)} title="Trend">
        <ExploreParts />
        <Button aria-label="Earlier" onClick={() => shift(-0.5)}>
          <ChevronLeft className="size-4" />
        </Button>
        <Button aria-label="Later" disabled={end === undefined} onClick={() => shift(0.5)}>
          <ChevronRight className="size-4" />
        </Button>
        <Button aria-label="Zoom in" onClick={() => zoom(0.5)}>
          <ZoomIn className="size-4" />
        </Button>
        <Button aria-label="Zoom out" onClick={() => zoom(2)}>
          <ZoomOut className="size-4" />
        </Button>
        <PeriodPart period={period} onPick={(next) => move(next.span, next.end)} className="min-w-36 justify-start">
          {end === undefined ? `Last ${spanWords(span)}` : spanWords(span)}
        </PeriodPart>
        <Button kind={end === undefined ? 'plain' : 'main'} disabled={end === undefined} onClick={() => move(span, undefined)}>
          Go live
        </Button>
        {chosen.length > 0 && <Button onClick={() => setAsked('kept')}>Saved trends…</Button>}
      </DeskHead>
      <div className="mb-2 flex flex-wrap items-center gap-2">
        {chosen.map((tag, i) => (
          <span key={tag.id} className="flex h-7 items-center gap-1.5 rounded border border-line bg-raised pr-1 pl-2">
            <span aria-hidden className="h-0.5 w-3.5" style={{ background: seriesColour(i) }} />
            <button type="button" className="max-w-60 truncate hover:text-teal" onClick={() => go({ tag: tagIn(tag.id) })}>
              {pathEnd(bases.find(({ id }) => id === tagIn(tag.id))?.title ?? tag.title)}
            </button>
            <TrackChoice
              name={tag.id}
              title={pathEnd(tag.title)}
              onPick={(name) => !chosenIds.includes(name) && set(chosenIds.map((id) => (id === tag.id ? name : id)))}
            />
            <button
              type="button"
              aria-label={`Remove ${tag.set.name}`}
              className="rounded p-0.5 hover:bg-band"
              onClick={() => set(chosenIds.filter((id) => id !== tag.id))}
            >
              <X className="size-3.5" />
            </button>
          </span>
        ))}
        {chosenIds.length < MOST ? (
          <Picker
            label="Add a tag"
            kind="tag"
            under={view.at}
            accept={(hit) => !chosenIds.includes(hit.id) && hit.tag?.holds !== 'text'}
            onPick={(id) => set([...chosenIds, id])}
            className="w-80"
          />
        ) : (
          <span className="text-soft">A trend shows {MOST} tags at most.</span>
        )}
        {chosen.length > 0 && shown && (
          <span className="ml-auto flex items-center gap-2">
            {CURSORS.map((cursor) => (
              <Button
                key={cursor.key}
                aria-pressed={view[cursor.key] !== undefined}
                className={clsx(view[cursor.key] !== undefined && 'border-teal bg-tint font-semibold')}
                onClick={() => go({ [cursor.key]: view[cursor.key] === undefined ? instant(cursor.share) : undefined })}
              >
                Cursor {cursor.name}
              </Button>
            ))}
            {view.a !== undefined && (
              <Button onClick={() => go({ instant: view.a, part: undefined }, '/board')}>
                <History className="size-4" /> Look back to A
              </Button>
            )}
            {mayRemark && (
              <Button onClick={() => setAsked('note')}>
                <MessageSquarePlus className="size-4" /> Note
              </Button>
            )}
            <Choice
              aria-label="Compare with"
              className="w-40 print:hidden"
              value={view.earlier ?? ''}
              onChange={(e) => go({ earlier: e.target.value ? Number(e.target.value) : undefined })}
            >
              <option value="">compare with …</option>
              {EARLIER.map(([seconds, name]) => (
                <option key={seconds} value={seconds}>
                  {name}
                </option>
              ))}
            </Choice>
            <Button onClick={() => void takeCsv()}>
              <Download className="size-4" /> CSV
            </Button>
            <Button onClick={() => void takePicture()}>
              <Download className="size-4" /> PNG
            </Button>
          </span>
        )}
      </div>
      {chosen.length > 0 ? (
        <section
          aria-label="Trend; arrows move, plus and minus zoom, End goes live"
          // biome-ignore lint/a11y/noNoninteractiveTabindex: the plot is moved and zoomed by keys while it has focus
          tabIndex={0}
          onKeyDown={onKey}
          className="rounded-md border border-line bg-raised p-3"
        >
          <Trend
            tags={chosen}
            span={span}
            end={end}
            height={Math.max(260, window.innerHeight - 352 - chosen.length * 25)}
            onMove={move}
            earlier={view.earlier}
            onWindow={show}
          >
            {shown &&
              CURSORS.map((cursor) => {
                const at = view[cursor.key];
                return (
                  at !== undefined && (
                    <Handle
                      key={cursor.key}
                      name={cursor.name}
                      at={at}
                      window={shown.window}
                      onMove={(next) => go({ [cursor.key]: next })}
                      onClose={() => go({ [cursor.key]: undefined })}
                    />
                  )
                );
              })}
            {shown && <NoteFlags notes={notes} window={shown.window} />}
          </Trend>
          {shown && (
            <Figures
              tags={chosen}
              names={names}
              window={shown.window}
              live={end === undefined}
              a={view.a}
              b={view.b}
              valuesAt={shown.handle.valuesAt}
            />
          )}
          <NoteList notes={notes} tags={chosen} names={names} />
          <p className="mt-1 text-sm text-soft print:hidden">Wheel zooms, dragging moves, a double click goes live.</p>
        </section>
      ) : (
        <>
          <Empty title="Choose tags to see their trend">
            Type any words of a tag’s path above. Each tag has its own axis, with its limits. Only recorded tags have history.
          </Empty>
          <div className="mt-4 grid w-full max-w-3xl grid-cols-2 items-start gap-6">
            <PlaceTags under={view.at} onPick={(ids) => set(ids)} />
            <section aria-label="Saved trends">
              <h2 className="mb-1 font-semibold">Saved trends</h2>
              <KeptTrends />
            </section>
          </div>
        </>
      )}
      {asked === 'note' && (
        <NoteDialog
          tags={bases}
          names={bases.map((t) => nameOf(t, bases))}
          at={view.a ?? (end === undefined ? feed.time() : instant(0.5))}
          onClose={() => setAsked(null)}
        />
      )}
      {asked === 'kept' && <KeptTrendsDialog view={view} onClose={() => setAsked(null)} />}
    </div>
  );
}

/** Recorded tags of the chosen place, so that a first trend is one click away. */
function PlaceTags({ under, onPick }: { under: string | undefined; onPick: (ids: string[]) => void }) {
  const items = useItems('tag', { under }, under !== undefined).data?.items ?? [];
  const tags = items.filter((tag) => tag.recorded && tag.holds !== 'text');
  if (tags.length === 0)
    return <p className="text-soft">Choose a place in the plant column, and its recorded tags are listed here.</p>;
  const first = tags.slice(0, MOST).map((tag) => tag.id);
  return (
    <section aria-label="Tags of the place">
      <h2 className="mb-1 flex items-baseline gap-3 font-semibold">
        <span className="flex-1">Recorded tags here</span>
        <Button kind="quiet" onClick={() => onPick(first)}>
          {tags.length > MOST ? `Show the first ${MOST}` : 'Show all'}
        </Button>
      </h2>
      <ul className="max-h-80 overflow-auto border border-line bg-raised">
        {tags.map((tag) => (
          <li key={tag.id} className="border-t border-line first:border-t-0">
            <button
              type="button"
              className="flex h-7 w-full items-center gap-2 px-2 text-left hover:bg-band"
              onClick={() => onPick([tag.id])}
            >
              <span className="min-w-0 flex-1 truncate">{pathEnd(tag.title)}</span>
              <span className="text-sm text-soft">{tag.set.unit}</span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
