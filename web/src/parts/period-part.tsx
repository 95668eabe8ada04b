// Choosing a period, everywhere alike: a preset, words, or two instants.

import clsx from 'clsx';
import { CalendarRange } from 'lucide-react';
import { Popover } from 'radix-ui';
import { type ReactNode, useId, useState } from 'react';
import { feed } from '../api/live';
import { fieldOf, HELP, type Period, parsePeriod } from './period';
import { clock, moment, spanWords } from './text';
import { Button, Field, Input } from './ui';

const PRESETS = ['last 15 min', 'last 1 h', 'last 8 h', 'last 24 h', 'last 7 d', 'today', 'yesterday', 'this week', 'last week'];
const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** A period in words. */
export function periodWords({ span, end }: Period): string {
  if (end === undefined) return `Live, last ${spanWords(span)}`;
  const from = end - span * 1000;
  const [first, last] = [new Date(from).toDateString(), new Date(end).toDateString()];
  // A day is said once; of today not at all.
  if (first === last) return `${moment(from)} to ${clock(end)}`;
  return `${moment(from, 0)} to ${moment(end, 0)}`;
}

interface Props {
  period: Period;
  onPick: (period: Period) => void;
  /** What the button says where no period is chosen. */
  none?: string | undefined;
  /** What the button says; the period by itself. */
  children?: ReactNode;
  className?: string;
}

export function PeriodPart({ period, onPick, none, children, className }: Props) {
  const [open, setOpen] = useState(false);
  // What was typed outlasts a click elsewhere.
  const [typed, setTyped] = useState('');
  const [from, setFrom] = useState('');
  const [to, setTo] = useState('');
  const help = useId();
  const now = feed.time();
  const understood = typed.trim() ? parsePeriod(typed, now) : undefined;
  const wrong = typeof understood === 'string' ? understood : undefined;
  const picked = from && to ? parsePeriod(`${from.replace('T', ' ')} to ${to.replace('T', ' ')}`, now) : undefined;
  const end = period.end ?? now;
  const show = (next: boolean) => {
    if (next) {
      setFrom(fieldOf(end - period.span * 1000));
      setTo(fieldOf(end));
    }
    setOpen(next);
  };
  const take = (next: Period | string | undefined) => {
    if (next === undefined || typeof next === 'string') return;
    onPick(next);
    setTyped('');
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={show}>
      <Popover.Trigger asChild>
        <Button aria-label={`Period: ${none ?? periodWords(period)}`} className={className}>
          <CalendarRange className="size-4" /> {none ?? children ?? 'Period…'}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label="Choose a period"
          className="z-50 w-96 rounded-md border border-firm bg-raised p-3 shadow-lg"
        >
          <form
            onSubmit={(e) => {
              e.preventDefault();
              take(understood);
            }}
          >
            <Field label="Period in words" error={wrong === HELP ? undefined : wrong}>
              {(p) => (
                <Input
                  {...p}
                  aria-describedby={help}
                  placeholder="last 90 min"
                  value={typed}
                  onChange={(e) => setTyped(e.target.value)}
                />
              )}
            </Field>
            <p id={help} className="mt-0.5 min-h-10 text-sm text-soft" aria-live="polite">
              {understood && !wrong ? `${periodWords(understood as Period)}. Enter shows it.` : HELP}
            </p>
          </form>
          <div className="my-2 grid grid-cols-3 gap-1">
            {PRESETS.map((words) => {
              const preset = parsePeriod(words, now) as Period;
              const chosen = preset.end === undefined && period.end === undefined && preset.span === period.span;
              return (
                <Button
                  key={words}
                  aria-pressed={chosen}
                  className={clsx(chosen && 'border-teal bg-tint font-semibold')}
                  onClick={() => take(parsePeriod(words, feed.time()))}
                >
                  {words}
                </Button>
              );
            })}
          </div>
          <form
            className="border-t border-line pt-2"
            onSubmit={(e) => {
              e.preventDefault();
              take(picked);
            }}
          >
            <div className="grid grid-cols-2 gap-2">
              <Field label="From">
                {(p) => <Input {...p} type="datetime-local" step={1} value={from} onChange={(e) => setFrom(e.target.value)} />}
              </Field>
              <Field label="To" error={typeof picked === 'string' ? picked : undefined}>
                {(p) => <Input {...p} type="datetime-local" step={1} value={to} onChange={(e) => setTo(e.target.value)} />}
              </Field>
            </div>
            <p className="mt-2 flex items-center gap-2 text-sm text-soft">
              <span className="flex-1">Times in {ZONE}</span>
              <Button type="submit" disabled={typeof picked !== 'object'}>
                Show this period
              </Button>
            </p>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
