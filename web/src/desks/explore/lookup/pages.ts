// The rows of a lookup by their index. Where it is known how many there are, any of them are read at once; otherwise those before
// them are read first, and the list grows as one goes down it.

import type { Schemas } from '../../../api/client';
import type { Rows } from '../../../parts/rows';

export type Answer = Schemas['LookupRows'];

export interface Row {
  index: number;
  cells: readonly unknown[];
  /** The index of its tag, in a table with a row for each value. */
  tag: number | undefined;
}

/** Most rows that are held where they can only be read one after the other. */
export const MOST = 100_000;
/** Rows that are asked for at once. */
const ASKED = 500;
/** Rows that stand for those that follow. */
const AHEAD = 60;

export class Pages {
  /** What was answered first: its columns, and how many rows there are. */
  first: Answer | undefined;
  private held: Row[] = [];
  private next: string | null = null;
  private work: Promise<unknown> = Promise.resolve();
  private readonly listeners = new Set<() => void>();

  constructor(
    private readonly ask: (place: string | null, rows: number) => Promise<Answer>,
    private readonly newest: boolean,
    private readonly most = MOST,
  ) {}

  /** Reads the first rows. */
  async begin(): Promise<Answer> {
    const answer = await this.ask(null, ASKED);
    this.first = answer;
    this.take(answer);
    return answer;
  }

  /** How many rows the list has, as far as that is known. */
  total = (): number => {
    const total = this.first?.total ?? undefined;
    return total ?? this.held.length + (this.grows() ? AHEAD : 0);
  };

  /** Whether rows are left out because only so many are held. */
  cutOff = (): boolean => this.next !== null && this.held.length >= this.most && this.first?.total == null;

  follow = (listener: () => void) => {
    this.listeners.add(listener);
    return () => void this.listeners.delete(listener);
  };

  async rows(from: number, count: number): Promise<Rows<Row>> {
    const total = this.first?.total;
    if (typeof total === 'number') return { total, rows: await this.direct(from, Math.min(count, total - from), total) };
    // One after the other: what follows is known from what came before.
    const until = from + count;
    this.work = this.work.catch(() => undefined).then(() => this.grow(until));
    await this.work;
    return { total: this.total(), rows: this.held.slice(from, until) };
  }

  private grows() {
    return this.next !== null && this.held.length < this.most;
  }

  private async grow(until: number) {
    while (this.held.length < until && this.grows()) this.take(await this.ask(this.next, ASKED));
  }

  private take(answer: Answer) {
    this.held.push(...rowsOf(answer, this.held.length));
    this.next = answer.next ?? null;
    for (const listener of this.listeners) listener();
  }

  /** Rows whose place follows from their index. */
  private async direct(from: number, count: number, total: number): Promise<Row[]> {
    const each = this.first?.row_tags.length ? this.first.tags.length : 1;
    const step = Math.floor(from / each);
    const skip = from - step * each;
    let place: string | null = String(this.newest ? total / each - step : step);
    const rows: Row[] = [];
    while (place !== null && rows.length < skip + count) {
      const answer: Answer = await this.ask(place, Math.min(ASKED, skip + count - rows.length));
      rows.push(...rowsOf(answer, step * each + rows.length));
      place = answer.next ?? null;
    }
    return rows.slice(skip, skip + count);
  }
}

function rowsOf({ rows, row_tags }: Answer, first: number): Row[] {
  return rows.map((cells, i) => ({ index: first + i, cells, tag: row_tags[i] }));
}
