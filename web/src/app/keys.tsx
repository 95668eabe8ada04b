// Keyboard shortcuts: those of the frame, and the list of all of them.

import { useEffect } from 'react';
import { Button, Popup } from '../parts/ui';
import { DESKS } from './desks';

/** A function, because the router, which knows the desks, is loaded after the frame. */
const list = (): { title: string; keys: [string, string][] }[] => [
  {
    title: 'Everywhere',
    keys: [
      ['Ctrl K', 'Find a tag, a place, a desk, an action'],
      ['Alt 1 … 7', DESKS.map((d) => d.name).join(', ')],
      ['?', 'This list'],
      ['Escape', 'Close what is open: a dialog, the inspector'],
    ],
  },
  {
    title: 'In the plant column',
    keys: [
      ['↑ ↓', 'From place to place'],
      ['← →', 'Collapse and expand; go to the place above'],
      ['Enter', 'Choose the place'],
      ['Insert, F2, Delete', 'New place under it, rename, delete'],
      ['Ctrl X, C, V', 'Cut, copy, paste under it'],
      ['Alt ↑ ↓ ← →', 'Move it: up, down, out of the place above, into the place before'],
      ['Shift ↑ ↓, Ctrl Space', 'Choose several'],
    ],
  },
  {
    title: 'In the sheet of tags',
    keys: [
      ['F2, or just type', 'Change a cell; Enter and Tab go on, Escape cancels'],
      ['Shift and arrows', 'Choose a range; Ctrl A all'],
      ['Ctrl D, Ctrl Shift D', 'Fill down; count on, by the stride of the first two'],
      ['Ctrl C, V', 'Copy and paste with a spreadsheet'],
      ['Ctrl S, Ctrl Z', 'Save; undo'],
    ],
  },
  {
    title: 'On a trend',
    keys: [
      ['← →', 'Back and forward by a quarter of the window'],
      ['+ −', 'Shorter and longer'],
      ['End', 'Back to the present'],
      ['← → on a cursor', 'Move it; with Shift ten times as far; Delete removes it'],
    ],
  },
];

/** Whether a key belongs to somebody who types. */
function types(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));
}

/** The shortcuts that work wherever one is. */
export function useKeys(handlers: { palette: () => void; list: () => void; desk: (path: string) => void }) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const desk =
        event.altKey && !event.ctrlKey && !event.metaKey ? DESKS[Number(event.code.replace('Digit', '')) - 1] : undefined;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') handlers.palette();
      else if (desk) handlers.desk(desk.path);
      else if (event.key === '?' && !types(event.target)) handlers.list();
      else return;
      event.preventDefault();
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, [handlers]);
}

export function KeyList({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Popup
      open={open}
      title="Keyboard shortcuts"
      onClose={onClose}
      className="top-1/2 max-h-[85vh] w-[34rem] -translate-y-1/2 overflow-auto p-4"
    >
      {list().map((group) => (
        <section key={group.title} className="mt-3">
          <h3 className="text-sm text-soft">{group.title}</h3>
          <dl className="grid grid-cols-[9rem_1fr] gap-y-0.5">
            {group.keys.map(([keys, what]) => (
              <div key={keys} className="contents">
                <dt className="figures">{keys}</dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </section>
      ))}
      <div className="mt-4 flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </Popup>
  );
}
