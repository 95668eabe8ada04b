// Where a tag or a place is used: everything that refers to it, with the way there.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from '../api/client';
import { useGo } from './view';

export function usesOf(kind: 'place' | 'tag' | 'states', id: string) {
  return {
    queryKey: ['uses', kind, id],
    queryFn: () => take(http.GET('/api/items/{kind}/{id}/uses', { params: { path: { kind, id } } })),
    staleTime: 0,
  };
}

type Referrer = Schemas['ReferrerView'];

/** Where a click on something that refers leads. */
function useWay(): (r: Referrer) => (() => void) | undefined {
  const go = useGo();
  return ({ kind, id }) => {
    if (kind === 'report') return () => go({ report: id }, '/reports');
    if (kind === 'dispatch') return () => go({ part: 'dispatches', of: id, report: undefined }, '/reports');
    if (kind === 'recorder') return () => go({ of: id }, '/record');
    if (kind === 'tag') return () => go({ tag: id });
    if (kind === 'connection') return () => go({ connection: id, part: undefined }, '/connect');
    if (kind === 'place') return () => go({ at: id });
    return undefined;
  };
}

export function Uses({ kind, id }: { kind: 'place' | 'tag' | 'states'; id: string }) {
  const uses = useQuery(usesOf(kind, id));
  const way = useWay();
  const go = useGo();
  if (!uses.data) return null;
  const { referrers, trends, contents } = uses.data;
  if (referrers.length + trends.length === 0) {
    const inside = kind === 'place' && (contents.tag ?? 0) > 0 ? ' from outside' : '';
    return <p className="text-soft">Not used anywhere{inside}.</p>;
  }
  const upper = (words: string) => words.replace(/^./, (c) => c.toUpperCase());
  return (
    <ul className="space-y-0.5">
      {referrers.map((r) => {
        const there = way(r);
        return (
          <li key={`${r.id} ${r.words}`}>
            {there ? (
              <button type="button" className="text-left text-teal hover:underline" onClick={there}>
                {upper(r.words)}
              </button>
            ) : (
              upper(r.words)
            )}
          </li>
        );
      })}
      {trends.map((name) => (
        <li key={`trend ${name}`}>
          <button type="button" className="text-left text-teal hover:underline" onClick={() => go({}, '/explore')}>
            Saved trend “{name}” uses it
          </button>
        </li>
      ))}
    </ul>
  );
}
