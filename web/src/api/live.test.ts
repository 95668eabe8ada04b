// @vitest-environment jsdom
import { afterEach, beforeEach, expect, it, vi } from 'vitest';
import { feed } from './live';

class Socket {
  static readonly OPEN = 1;
  static all: Socket[] = [];
  readyState = 1;
  sent: Record<string, unknown>[] = [];
  onopen?: () => void;
  onclose?: () => void;
  onmessage?: (event: { data: string }) => void;
  constructor(readonly url: string) {
    Socket.all.push(this);
  }
  send(text: string) {
    this.sent.push(JSON.parse(text) as Record<string, unknown>);
  }
  close() {
    this.readyState = 3;
  }
  say(message: object) {
    this.onmessage?.({ data: JSON.stringify({ now: '2026-11-23T06:00:00Z', ...message }) });
  }
}

const newest = () => Socket.all.at(-1) as Socket;

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal('WebSocket', Socket);
  Socket.all = [];
  feed.start();
  newest().onopen?.();
});
afterEach(() => {
  feed.stop();
  vi.useRealTimers();
});

it('answers every message and shows its values', () => {
  const seen: unknown[] = [];
  const stop = feed.cell(7).follow(() => seen.push(feed.cell(7).get()?.value));
  newest().say({ n: 1, values: [{ no: 7, value: 1.5 }] });
  newest().say({ n: 2, values: [{ no: 8, value: 2 }] });
  stop();
  newest().say({ n: 3, values: [{ no: 7, value: 9 }] });
  expect(seen).toEqual([1.5]);
  expect(newest().sent.filter((m) => 'got' in m)).toEqual([{ got: 1 }, { got: 2 }, { got: 3 }]);
});

it('watches a tag as long as anybody shows it, and says so once', () => {
  const stops = [feed.watch(4), feed.watch(4), feed.watch(5)];
  vi.advanceTimersByTime(50);
  expect(newest().sent.at(-1)).toEqual({ watch: [4, 5] });
  stops[0]?.();
  stops[2]?.();
  vi.advanceTimersByTime(200);
  expect(newest().sent.at(-1)).toEqual({ watch: [4] });
  stops[1]?.();
  vi.advanceTimersByTime(200);
  expect(newest().sent.at(-1)).toEqual({ watch: [] });
});

it('tells what a scrolled list watches only now and then, and in the end all of it', () => {
  vi.advanceTimersByTime(200);
  const before = newest().sent.length;
  let stop = feed.watch(100);
  for (let no = 101; no <= 140; no += 1) {
    const next = feed.watch(no);
    stop();
    stop = next;
    vi.advanceTimersByTime(16);
  }
  // 640 ms passed.
  expect(newest().sent.length - before).toBeLessThanOrEqual(6);
  vi.advanceTimersByTime(200);
  expect(newest().sent.at(-1)).toEqual({ watch: [140] });
  stop();
});

it('comes back after a lost connection and goes on from the last alarm event', () => {
  newest().say({ n: 1, alarms: { epoch: 'e', last: 12, anew: false, events: [] } });
  const first = newest();
  first.onclose?.();
  expect(feed.link.get()).toBe('lost');
  vi.advanceTimersByTime(6000);
  expect(newest()).not.toBe(first);
  newest().onopen?.();
  expect(feed.link.get()).toBe('open');
  expect(newest().sent.at(-1)).toMatchObject({ follow: 12, epoch: 'e' });
});
