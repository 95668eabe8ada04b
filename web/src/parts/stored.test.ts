import { expect, it } from 'vitest';
import type { Status } from '../api/live';
import { stored } from './text';

const NOW = Date.parse('2026-11-23T10:00:00Z');

function status(oldest: string, bytes: number): Status {
  return {
    database_ok: true,
    database_since: '',
    database_trouble: '',
    faults: [],
    spool_frames: 3,
    spool_bytes: bytes,
    spool_room: 1000,
    spool_oldest: oldest,
    spool_trouble: '',
    lost: 0,
    bad: {},
    by_hand: { count: 0, version: 0 },
    connections: {},
  };
}

it.each([
  ['', 0, 'all stored'],
  ['2026-11-23T09:59:59Z', 5, 'all stored'],
  ['2026-11-23T09:59:18Z', 5, 'history 42 s behind · spool under 1 % full'],
  ['2026-11-23T09:30:00Z', 347, 'history 30 min behind · spool 34 % full'],
])('says how far history lags behind (%s)', (oldest, bytes, words) => {
  expect(stored(status(oldest, bytes), NOW)).toBe(words);
});
