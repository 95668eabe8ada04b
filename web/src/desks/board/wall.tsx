// The board on a wall: large, without anything to press, and page by page where it does not fit. What becomes urgent is shown first.

import { useEffect, useRef, useState } from 'react';
import { waits } from '../../api/alarm-state';
import { useAlarms } from '../../api/queries';
import { mostUrgent } from '../../parts/pips';
import { pagesOf, pageWith } from './pages';

/** A page stays so many seconds, unless the address says otherwise. */
const STAYS = 15;
/** Priorities for which the wall leaves its order: act soon, and act now. */
const URGENT = 3;

/** Turns the pages while the board is on a wall; gives which one of how many is shown. */
export function useWall(on: boolean, seconds = STAYS): { page: number; pages: number } {
  const [shown, setShown] = useState({ page: 0, pages: 1 });
  const alarms = useAlarms().data?.alarms ?? [];
  const waiting = alarms.filter((a) => waits(a.state) && a.priority >= URGENT);
  const urgent = mostUrgent(waiting)?.rule;
  const called = useRef(urgent);
  // Where a page stands cannot be read from the scroll position: the last one ends before its beginning is at the top.
  const current = useRef(0);
  // Everything is written larger, by the width of the screen.
  useEffect(() => {
    if (!on) return;
    document.documentElement.style.fontSize = 'max(100%, 1.05vw)';
    return () => {
      document.documentElement.style.removeProperty('font-size');
    };
  }, [on]);
  useEffect(() => {
    if (!on) return;
    const box = document.querySelector('main');
    if (!box) return;
    const layout = () => {
      const above = box.getBoundingClientRect().top - box.scrollTop;
      const parts = [...box.querySelectorAll('section[aria-label^="Area "]')].map((part) => {
        const { top, bottom } = part.getBoundingClientRect();
        return { part, top: top - above, foot: bottom - above };
      });
      return { parts, starts: pagesOf(parts, box.scrollHeight, box.clientHeight) };
    };
    const show = (starts: readonly number[], page: number) => {
      box.scrollTop = starts[page] ?? 0;
      current.current = page;
      setShown((old) => (old.page === page && old.pages === starts.length ? old : { page, pages: starts.length }));
    };
    const begun = requestAnimationFrame(() => {
      const { starts } = layout();
      setShown({ page: Math.min(current.current, starts.length - 1), pages: starts.length });
    });
    // A new alarm calls for the page on which its pips are.
    if (urgent && urgent !== called.current) {
      const { parts, starts } = layout();
      const where = parts.find(({ part }) => part.querySelector(`[data-rules~="${urgent}"]`));
      if (where) show(starts, pageWith(starts, where.top));
    }
    called.current = urgent;
    const timer = setInterval(() => {
      const { starts } = layout();
      show(starts, (current.current + 1) % starts.length);
    }, seconds * 1000);
    return () => {
      cancelAnimationFrame(begun);
      clearInterval(timer);
    };
  }, [on, seconds, urgent]);
  return shown;
}
