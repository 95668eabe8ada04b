import { expect, it } from 'vitest';
import type { AlarmState } from '../api/alarm-state';
import { mostUrgent } from './pips';

const alarm = (priority: number, state: AlarmState) => ({ priority, state });

it('puts what waits for somebody before what is known, and the graver before the lesser', () => {
  const known = alarm(4, 'acknowledged');
  const returned = alarm(3, 'returned_unacknowledged');
  const waiting = alarm(3, 'unacknowledged');
  expect(mostUrgent([known, alarm(2, 'unacknowledged'), returned, waiting])).toBe(waiting);
  expect(mostUrgent([known, returned])).toBe(returned);
  expect(mostUrgent([])).toBeUndefined();
});
