// Two handles on a trend: each stands at an instant, is dragged or moved by arrows, and can be read against the other.

import clsx from 'clsx';
import { type KeyboardEvent, type PointerEvent, useRef } from 'react';
import { moment } from '../../parts/text';
import type { TrendWindow } from '../../parts/trend';

interface Props {
  name: 'A' | 'B';
  at: number;
  window: TrendWindow;
  onMove: (at: number) => void;
  onClose: () => void;
}

export function Handle({ name, at, window, onMove, onClose }: Props) {
  const line = useRef<HTMLDivElement>(null);
  const { from, to, left, width, height } = window;
  const share = (at - from) / (to - from);
  const bounded = (next: number) => Math.round(Math.min(Math.max(next, from), to));

  function drag(event: PointerEvent) {
    if (!line.current?.hasPointerCapture(event.pointerId)) return;
    const box = line.current.parentElement?.getBoundingClientRect();
    if (box) onMove(bounded(from + ((event.clientX - box.left - left) / width) * (to - from)));
  }
  function press(event: KeyboardEvent) {
    const step = ((to - from) / width) * (event.shiftKey ? 10 : 1);
    if (event.key === 'ArrowLeft') onMove(bounded(at - step));
    else if (event.key === 'ArrowRight') onMove(bounded(at + step));
    else if (event.key === 'Delete' || event.key === 'Escape') onClose();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
  if (!(share >= 0 && share <= 1)) return null;
  return (
    <div
      ref={line}
      role="slider"
      tabIndex={0}
      aria-label={`Cursor ${name}`}
      aria-valuemin={from}
      aria-valuemax={to}
      aria-valuenow={at}
      aria-valuetext={moment(at)}
      className="group absolute top-2 z-10 w-4 cursor-ew-resize touch-none"
      style={{ left: left + share * width - 8, height: height - 8 }}
      onPointerDown={(e) => line.current?.setPointerCapture(e.pointerId)}
      onPointerMove={drag}
      onKeyDown={press}
    >
      <span aria-hidden className={clsx('mx-auto block h-full w-0 border-l border-ink', name === 'B' && 'border-dashed')} />
      <span
        aria-hidden
        className="absolute top-0 left-1/2 -translate-x-1/2 rounded-sm bg-ink px-1 text-xs leading-4 font-semibold text-paper"
      >
        {name}
      </span>
    </div>
  );
}
