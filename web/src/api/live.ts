// The live feed: one WebSocket, its values in a store that components read one by one.

import { useEffect, useMemo, useSyncExternalStore } from 'react';
import { http, type Schemas, signedOut, take } from './client';
import { showPast } from './shown';

/** A value comes as a boolean, a number or a text. */
export type LiveValue = Omit<Schemas['ValueView'], 'value'> & { value: boolean | number | string | null };
export type AlarmEvent = Schemas['EventView'];

export type ConnectionStatus = Schemas['ConnectionStatus'];
export type Status = Schemas['Status'];
type Message = Omit<Schemas['FeedMessage'], 'values'> & { values?: LiveValue[] };

/** What of the present holds for an instant that is over too: how Havrel itself fares, and nothing of the plant. */
const ofThen = (status: Status): Status => ({ ...status, bad: {}, connections: {} });

/** Values that are asked for at once. */
const MOST_ASKED = 1000;

type Listener = () => void;

/** A value that components can follow. */
class Cell<T> {
  private readonly listeners = new Set<Listener>();
  constructor(private value: T) {}
  readonly get = () => this.value;
  readonly follow = (listener: Listener) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };
  set(value: T) {
    this.value = value;
    for (const listener of this.listeners) listener();
  }
}

/** Keeps the socket open, watches what is on the screen, and tells what comes. */
class Feed {
  readonly link = new Cell<'connecting' | 'open' | 'lost'>('connecting');
  readonly status = new Cell<Status | null>(null);
  /** Plant time, once a second. */
  readonly now = new Cell<number>(Date.now());
  readonly revision = new Cell<number>(-1);
  /** Rises when the list of alarms has changed. */
  readonly alarms = new Cell<number>(0);
  private readonly values = new Map<number, Cell<LiveValue | undefined>>();
  private readonly watched = new Map<number, number>();
  private readonly watchers = new Set<(values: LiveValue[]) => void>();
  private socket: WebSocket | null = null;
  private follow: { last: number; epoch: string } | null = null;
  private wanted = false;
  private pending = false;
  /** When it was last told what is watched, in milliseconds of the page. */
  private told = Number.NEGATIVE_INFINITY;
  private tries = 0;
  private skew = 0;
  /** The instant that is shown instead of now, in milliseconds. */
  private instant: number | undefined;
  /** Counts questions for values of an instant, so that an answer that comes late is passed over. */
  private asked = 0;

  start() {
    this.wanted = true;
    if (!this.socket) this.open();
  }

  stop() {
    this.wanted = false;
    this.socket?.close();
    this.socket = null;
  }

  cell(no: number): Cell<LiveValue | undefined> {
    let cell = this.values.get(no);
    if (!cell) {
      cell = new Cell<LiveValue | undefined>(undefined);
      this.values.set(no, cell);
    }
    return cell;
  }

  watch(no: number): () => void {
    this.watched.set(no, (this.watched.get(no) ?? 0) + 1);
    this.tellLater();
    return () => {
      const left = (this.watched.get(no) ?? 1) - 1;
      if (left > 0) this.watched.set(no, left);
      else this.watched.delete(no);
      this.tellLater();
    };
  }

  /** Every batch of values as it comes, for pictures that draw them themselves. */
  listen(listener: (values: LiveValue[]) => void): () => void {
    this.watchers.add(listener);
    return () => void this.watchers.delete(listener);
  }

  /** The plant's time now, or the instant that is shown instead, in milliseconds. */
  time(): number {
    return this.instant ?? Date.now() + this.skew;
  }

  /** Shows values as they were at an instant; without one as they are now. */
  show(instant: number | undefined) {
    const was = this.instant;
    this.instant = instant;
    this.asked += 1;
    showPast(instant !== undefined);
    const status = this.status.get();
    if (status && instant !== undefined) this.status.set(ofThen(status));
    this.now.set(this.time());
    if (instant === undefined) {
      // What was shown of then must not stand for now: the server tells of all anew once nothing was watched for a moment.
      for (const cell of this.values.values()) cell.set(undefined);
      this.send({ watch: [] });
    } else if (was === undefined) for (const cell of this.values.values()) cell.set(undefined);
    this.tellLater();
  }

  /** Asks how the watched values stood. */
  private async ask() {
    this.asked += 1;
    const mine = this.asked;
    const numbers = [...this.watched.keys()];
    for (let first = 0; first < numbers.length; first += MOST_ASKED) {
      const tags = numbers.slice(first, first + MOST_ASKED).join(',');
      try {
        const found = (await take(http.GET('/api/values', { params: { query: { tags } } }))) as LiveValue[];
        if (mine !== this.asked) return;
        for (const value of found) this.cell(value.no).set(value);
      } catch {
        // What is shown says by itself that it is not there; the next step asks again.
        return;
      }
    }
  }

  private tellLater() {
    if (this.pending) return;
    this.pending = true;
    // At once after a pause; while a list is scrolled only now and then, as each telling brings all that is new in sight.
    const wait = Math.max(30, this.told + 150 - performance.now());
    setTimeout(() => {
      this.pending = false;
      this.told = performance.now();
      if (this.instant !== undefined) void this.ask();
      else this.send({ watch: [...this.watched.keys()] });
    }, wait);
  }

  private send(message: object) {
    if (this.socket?.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify(message));
  }

  private open() {
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    const socket = new WebSocket(`${scheme}://${location.host}/api/live`);
    this.socket = socket;
    socket.onopen = () => {
      this.tries = 0;
      this.link.set('open');
      const { last = 0, epoch } = this.follow ?? {};
      this.send({ watch: [...this.watched.keys()], follow: last, epoch });
    };
    socket.onmessage = (event) => this.take(JSON.parse(event.data as string) as Message);
    socket.onclose = () => {
      if (this.socket !== socket) return;
      this.socket = null;
      if (!this.wanted) return;
      this.link.set('lost');
      this.tries += 1;
      setTimeout(() => this.wanted && !this.socket && this.open(), Math.min(500 * 2 ** Math.min(this.tries, 4), 5000));
    };
  }

  private take(message: Message) {
    if (message.ended) {
      this.stop();
      signedOut();
      return;
    }
    this.send({ got: message.n });
    const now = Date.parse(message.now);
    this.skew = now - Date.now();
    if (this.instant === undefined) {
      for (const value of message.values ?? []) this.cell(value.no).set(value);
      if (message.values?.length) for (const watcher of this.watchers) watcher(message.values);
    }
    if (message.alarms) {
      this.follow = { last: message.alarms.last, epoch: message.alarms.epoch };
      this.alarms.set(this.alarms.get() + 1);
    }
    if (typeof message.revision === 'number') this.revision.set(message.revision);
    if (message.status) {
      this.status.set(this.instant === undefined ? message.status : ofThen(message.status));
      this.now.set(this.instant ?? now);
    }
  }
}

export const feed = new Feed();

function useCell<T>(cell: Cell<T>): T {
  return useSyncExternalStore(cell.follow, cell.get);
}

/** The newest of a tag, followed while the component is shown. */
export function useValue(no: number): LiveValue | undefined {
  useEffect(() => feed.watch(no), [no]);
  const cell = useMemo(() => feed.cell(no), [no]);
  return useCell(cell);
}

export const useStatus = () => useCell(feed.status);
export const useLink = () => useCell(feed.link);
/** Plant time in milliseconds; moves once a second. */
export const useNow = () => useCell(feed.now);
export const useRevision = () => useCell(feed.revision);
export const useAlarmCount = () => useCell(feed.alarms);
