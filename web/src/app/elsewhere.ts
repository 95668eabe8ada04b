// What happens elsewhere while somebody looks at something else: told once, in a corner.

import type { Status } from '../api/live';
import { counted, lasting } from '../parts/text';

export interface News {
  /** The same for what takes the place of an earlier one. */
  key: string;
  well: boolean;
  words: string;
  more: string;
}

/** More connections than this at once are told in one sentence. */
const MOST = 3;

/** What is new between two looks at the plant; `names` are those of connections. */
export function newsOf(before: Status, after: Status, names: ReadonlyMap<string, string>): News[] {
  const news: News[] = [];
  if (before.database_ok !== after.database_ok) {
    news.push({
      key: 'database',
      well: after.database_ok,
      words: after.database_ok ? 'The database stores values again' : 'The database stores no values',
      more: after.database_ok ? '' : 'Values and alarms continue; history waits on disk.',
    });
  }
  const broken: News[] = [];
  for (const [id, now] of Object.entries(after.connections)) {
    const was = before.connections[id];
    const name = names.get(id);
    if (!was || !name || was.state === now.state) continue;
    if (now.state === 'trouble' && was.state === 'running') {
      broken.push({ key: id, well: false, words: `${name}: ${now.message}`, more: now.cure });
    }
    if (now.state === 'running' && was.state === 'trouble') {
      const away = Date.parse(now.since) - Date.parse(was.since);
      news.push({ key: id, well: true, words: `${name} answers again`, more: away > 0 ? `after ${lasting(away)}` : '' });
    }
  }
  if (broken.length <= MOST) return [...news, ...broken];
  const [first] = broken;
  const words = `${counted(broken.length, 'connection')} do not answer`;
  return [...news, { key: 'many', well: false, words, more: `The first: ${first?.words ?? ''}` }];
}
