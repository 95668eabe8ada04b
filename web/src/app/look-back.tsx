// Looking back: choosing the instant, the band that marks the page as past, steps, play, and the way back to now.

import { useNavigate } from '@tanstack/react-router';
import clsx from 'clsx';
import { ChevronLeft, ChevronRight, History, Pause, Play } from 'lucide-react';
import { Popover } from 'radix-ui';
import { type ComponentProps, type ReactNode, useEffect, useLayoutEffect, useState } from 'react';
import { feed } from '../api/live';
import { lookBackTo, usePastShown } from '../api/past';
import { parseInstant } from '../parts/period';
import { lasting, moment } from '../parts/text';
import { Button, Choice, Field, Input } from '../parts/ui';
import { useGo, type View } from './view';

const STEPS = [
  [3600, '1 h'],
  [60, '1 min'],
  [10, '10 s'],
] as const;
const SPEEDS = [1, 10, 60, 600];
const PRESETS = ['5 min', '15 min', '1 h', '8 h', '1 d'];
/** The wall clock between two steps of play, in ms. */
const BEAT = 1000;

/** Brings the page to the instant of its address. */
export function useLookBack(instant: number | undefined) {
  useLayoutEffect(() => {
    void lookBackTo(instant);
  }, [instant]);
}

/** Goes to another instant without a step of its own in the browser's history; one that has come already is now. */
function useInstant() {
  const navigate = useNavigate();
  return (wanted: number | undefined) => {
    const instant = wanted === undefined || wanted >= Date.now() ? undefined : Math.round(wanted);
    void navigate({ to: '.', replace: true, search: ((old: View) => ({ ...old, instant })) as never });
  };
}

/** The band over a page that shows what is over. */
export function LookBack({ instant }: { instant: number }) {
  const to = useInstant();
  const past = usePastShown();
  const [speed, setSpeed] = useState(10);
  const [playing, setPlaying] = useState(false);
  useEffect(() => {
    if (!playing) return;
    const timer = setTimeout(() => to(instant + speed * BEAT), BEAT);
    return () => clearTimeout(timer);
  });
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      // What is open closes first.
      const within = (event.target as Element | null)?.closest?.(
        'aside, input, textarea, select, [role="dialog"], [role="listbox"]',
      );
      if (event.key === 'Escape' && !event.defaultPrevented && !within) to(undefined);
    };
    addEventListener('keydown', onKey);
    return () => removeEventListener('keydown', onKey);
  });
  const { told, trouble } = past ?? {};
  return (
    <section
      aria-label="Looking back"
      className="col-span-3 row-start-2 flex flex-wrap items-center gap-x-3 gap-y-1 bg-ink px-4.5 py-1 text-paper print:text-ink"
    >
      <span className="flex items-center gap-2 font-semibold" role="status">
        <History className="size-4" aria-hidden /> Looking back: <span className="figures">{moment(instant)}</span>
      </span>
      <span>{lasting(Date.now() - instant)} ago</span>
      <span className="min-w-0 flex-1 truncate">
        {trouble ??
          (told &&
            (told.configured
              ? `configuration of revision ${told.revision}`
              : 'no configuration was in force; the present one is shown'))}
      </span>
      {STEPS.map(([seconds, words]) => (
        <Control key={`back ${seconds}`} aria-label={`Back ${words}`} onClick={() => to(instant - seconds * 1000)}>
          <ChevronLeft className="size-3.5" /> {words}
        </Control>
      ))}
      {STEPS.toReversed().map(([seconds, words]) => (
        <Control key={`on ${seconds}`} aria-label={`Forward ${words}`} onClick={() => to(instant + seconds * 1000)}>
          {words} <ChevronRight className="size-3.5" />
        </Control>
      ))}
      <Control aria-pressed={playing} onClick={() => setPlaying(!playing)}>
        {playing ? <Pause className="size-4" /> : <Play className="size-4" />} {playing ? 'Pause' : 'Play'}
      </Control>
      <Choice
        aria-label="Speed of play"
        className="w-20 border-paper bg-ink text-paper"
        value={speed}
        onChange={(e) => setSpeed(Number(e.target.value))}
      >
        {SPEEDS.map((times) => (
          <option key={times} value={times}>
            {times} ×
          </option>
        ))}
      </Choice>
      <Control className="bg-paper font-semibold text-ink" onClick={() => to(undefined)}>
        Return to now (Esc)
      </Control>
    </section>
  );
}

/** A button on the band, whose colours are those of the page the other way round. */
function Control({ className, ...rest }: ComponentProps<'button'>) {
  return (
    <button
      type="button"
      className={clsx(
        'inline-flex h-7 items-center gap-1 rounded border border-paper px-2 hover:underline print:hidden',
        className,
      )}
      {...rest}
    />
  );
}

/** The plant's time, which opens into the choice of an instant. */
export function InstantPart({ instant, children }: { instant: number | undefined; children: ReactNode }) {
  const to = useInstant();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState('');
  const found = typed.trim() ? parseInstant(typed, Date.now()) : undefined;
  const take = (wanted: number | string | undefined) => {
    if (typeof wanted !== 'number') return;
    to(wanted);
    setTyped('');
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="rounded px-1.5 py-0.5 hover:bg-band" title="Look back to an instant">
        {children}
        <span className="sr-only">, look back</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label="Look back"
          className="z-50 w-80 rounded-md border border-firm bg-raised p-3 shadow-lg"
        >
          <form
            onSubmit={(e) => {
              e.preventDefault();
              take(found);
            }}
          >
            <Field
              label="Show how it stood at"
              error={typeof found === 'string' ? found : undefined}
              hint={
                typeof found === 'number'
                  ? `${moment(found)}. Enter shows it.`
                  : 'Like “03:12”, “yesterday 22:00” or “90 min” ago.'
              }
            >
              {(p) => <Input {...p} autoFocus value={typed} placeholder="03:12" onChange={(e) => setTyped(e.target.value)} />}
            </Field>
          </form>
          <div className="mt-2 flex flex-wrap gap-1">
            {PRESETS.map((words) => (
              <Button key={words} onClick={() => take(parseInstant(words, feed.time()))}>
                {words} {instant === undefined ? 'ago' : 'earlier'}
              </Button>
            ))}
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** The way back to an instant that is listed. */
export function LookBackTo({ at }: { at: string }) {
  const go = useGo();
  return (
    <Button
      kind="quiet"
      className="h-6"
      title="Show the board as it stood then"
      onClick={(event) => {
        event.stopPropagation();
        go({ instant: Date.parse(at), part: undefined, tag: undefined }, '/board');
      }}
    >
      Look back
    </Button>
  );
}
