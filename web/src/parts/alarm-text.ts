// How large alarms are written, in this browser: read from an arm's length, or across the room.

import { browserChoice } from './browser-choice';

export const ALARM_SIZES = { usual: 'usual size', large: 'large', largest: 'largest' } as const;
export type AlarmSize = keyof typeof ALARM_SIZES;

const size = browserChoice<AlarmSize>('havrel.alarm-text', ['large', 'largest'], 'usual', (value) => {
  document.documentElement.dataset.alarmText = value;
});

export const alarmSize = size.get;
export const setAlarmSize = size.set;
export const startAlarmText = size.start;
export const useAlarmSize = size.useValue;
