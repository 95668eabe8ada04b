// Trends kept under a name: opened again with their tags, length, cursors and what they are compared with.

import { http, type Schemas, take } from '../../api/client';
import { useGo, type View } from '../../app/view';
import { counted, moment, spanWords } from '../../parts/text';
import { KeptDialog, type KeptKind, KeptList } from './kept';

type Kept = Schemas['TrendView'];

const TRENDS: KeptKind<Kept> = {
  noun: 'trend',
  plural: 'trends',
  key: 'trends',
  all: () => take(http.GET('/api/trends')),
  remove: (id) => take(http.DELETE('/api/trends/{id}', { params: { path: { id } } })),
  describe: ({ trend: { tags, span, end } }) =>
    `${counted(tags.length, 'tag')} · ${end === undefined || end === null ? `last ${spanWords(span)}` : `until ${moment(end, 0)}`}`,
};

function useOpen() {
  const go = useGo();
  return ({ trend: { tags, span, end, a, b, earlier } }: Kept) => {
    const some = (value: number | null | undefined) => value ?? undefined;
    go({ tags: tags.join(','), span, end: some(end), a: some(a), b: some(b), earlier: some(earlier) });
  };
}

/** The list; choosing one opens it. */
export function KeptTrends() {
  return <KeptList kind={TRENDS} onOpen={useOpen()} />;
}

/** Keeps what is seen, and opens what was kept. */
export function KeptTrendsDialog({ view, onClose }: { view: View; onClose: () => void }) {
  const { tags, span = 900, end, a, b, earlier } = view;
  const keep = (name: string, replace: boolean) => {
    const trend = { tags: tags?.split(',') ?? [], span, end, a, b, earlier };
    return take(http.POST('/api/trends', { body: { name, trend, replace } }));
  };
  const note = end === undefined ? `It is live: the last ${spanWords(span)}.` : `It ends at ${moment(end)}.`;
  return <KeptDialog kind={TRENDS} keep={tags ? keep : undefined} note={note} onOpen={useOpen()} onClose={onClose} />;
}
