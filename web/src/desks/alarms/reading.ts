// Whether somebody reads a list just now: it is held still meanwhile.

import { useCallback, useEffect, useRef, useState } from 'react';

/** Whoever does nothing in the list for so long, in ms, does not read it any more. */
const IDLE = 30_000;

export interface Reading {
  reading: boolean;
  /** Ends it, until something is done in the list again. */
  release: () => void;
  /** For the element that is read. */
  watch: {
    onPointerMove: () => void;
    onPointerLeave: () => void;
    onKeyDownCapture: () => void;
    onWheel: () => void;
  };
}

export function useReading(): Reading {
  const [reading, setReading] = useState(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const release = useCallback(() => {
    clearTimeout(timer.current);
    setReading(false);
  }, []);
  const read = useCallback(() => {
    clearTimeout(timer.current);
    timer.current = setTimeout(release, IDLE);
    setReading(true);
  }, [release]);
  useEffect(() => () => clearTimeout(timer.current), []);
  return {
    reading,
    release,
    watch: { onPointerMove: read, onPointerLeave: release, onKeyDownCapture: read, onWheel: read },
  };
}
