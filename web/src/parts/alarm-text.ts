// How large alarms are written, in this browser: read from an arm's length, or across the room.

import { useSyncExternalStore } from 'react';

export const ALARM_SIZES = { usual: 'usual size', large: 'large', largest: 'largest' } as const;
export type AlarmSize = keyof typeof ALARM_SIZES;

const KEY = 'havrel.alarm-text';
const listeners = new Set<() => void>();

export function alarmSize(): AlarmSize {
  const kept = localStorage.getItem(KEY);
  return kept === 'large' || kept === 'largest' ? kept : 'usual';
}

function apply() {
  document.documentElement.dataset.alarmText = alarmSize();
  for (const listener of listeners) listener();
}

export function setAlarmSize(size: AlarmSize) {
  if (size === 'usual') localStorage.removeItem(KEY);
  else localStorage.setItem(KEY, size);
  apply();
}

/** Puts the size on, and follows other windows of this browser. */
export function startAlarmText() {
  apply();
  window.addEventListener('storage', apply);
}

export function useAlarmSize(): AlarmSize {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => void listeners.delete(listener);
  }, alarmSize);
}
