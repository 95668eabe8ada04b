// The journal, newest first; revisions are opened, compared and taken back from here.

import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Undo2 } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useRevision } from '../../api/live';
import { useMay } from '../../api/queries';
import { moment } from '../../parts/text';
import { Button, Choice, DeskHead, Trouble } from '../../parts/ui';
import { Changes, Compare, ReturnDialog, UndoDialog } from './revisions';

const PAGE = 100;
const KINDS: Record<string, string> = {
  configuration: 'configuration',
  write: 'write',
  by_hand: 'set by hand',
  acknowledge: 'acknowledge',
  report: 'report',
  note: 'note',
  trend: 'saved trend',
  lookup: 'lookup',
  sign_in: 'sign-in',
  account: 'account',
  connection: 'connection',
  system: 'system',
};

export function Journal() {
  const [kind, setKind] = useState('');
  const [asked, setAsked] = useState<'undo' | 'compare' | null>(null);
  const revision = useRevision();
  const engineer = useMay('engineer');
  const entries = useInfiniteQuery({
    queryKey: ['journal', kind, revision],
    initialPageParam: undefined as number | undefined,
    staleTime: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 5000,
    queryFn: ({ pageParam }) =>
      take(
        http.GET('/api/journal', {
          params: { query: { limit: PAGE, ...(kind ? { kind } : {}), ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    getNextPageParam: (last) => (last.length === PAGE ? last.at(-1)?.id : undefined),
  });
  const newest = useQuery({
    queryKey: ['revisions', 'newest', revision],
    queryFn: () => take(http.GET('/api/revisions', { params: { query: { limit: 1 } } })),
  });
  const last = newest.data?.[0];

  const rows = entries.data?.pages.flat() ?? [];
  return (
    <>
      <DeskHead
        path="Whole plant"
        title="Journal"
        note={last ? `revision ${last.number} of the configuration, by ${last.actor}` : 'no revision yet'}
      >
        <Choice aria-label="Kind" className="w-40" value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="">all kinds</option>
          {Object.entries(KINDS).map(([value, name]) => (
            <option key={value} value={value}>
              {name}
            </option>
          ))}
        </Choice>
        {last && <Button onClick={() => setAsked('compare')}>Compare revisions</Button>}
        {engineer && last && (
          <Button onClick={() => setAsked('undo')}>
            <Undo2 className="size-4" /> Undo revision {last.number}
          </Button>
        )}
      </DeskHead>
      <Trouble error={entries.error} />
      {asked === 'undo' && last && <UndoDialog revision={last.number} onClose={() => setAsked(null)} />}
      {asked === 'compare' && last && <Compare newest={last.number} onClose={() => setAsked(null)} />}
      <table className="w-full border border-line bg-raised text-left">
        <thead className="bg-band text-sm">
          <tr className="h-8">
            <th className="w-44 px-2 font-semibold">Time</th>
            <th className="w-32 font-semibold">Kind</th>
            <th className="w-40 font-semibold">Who</th>
            <th className="font-semibold">What</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((entry) => (
            <Entry key={entry.id} entry={entry} newest={last?.number ?? 0} />
          ))}
        </tbody>
      </table>
      {entries.hasNextPage && (
        <Button className="mt-3" disabled={entries.isFetchingNextPage} onClick={() => void entries.fetchNextPage()}>
          Show older
        </Button>
      )}
    </>
  );
}

function Entry({ entry, newest }: { entry: Schemas['EntryView']; newest: number }) {
  const [open, setOpen] = useState(false);
  const [asked, setAsked] = useState<'undo' | 'return' | null>(null);
  const engineer = useMay('engineer');
  const detail = entry.detail as {
    revision?: number;
    undoes?: number | null;
    before?: unknown;
    asked?: unknown;
    after?: unknown;
  };
  const hasMore = detail.revision !== undefined || detail.before !== undefined;
  return (
    <>
      <tr className={clsx('h-7 border-t border-line', hasMore && 'hover:bg-band')}>
        <td className="figures px-2">{moment(entry.at)}</td>
        <td className="text-soft">{KINDS[entry.kind] ?? entry.kind}</td>
        <td className="truncate pr-2">{entry.actor}</td>
        <td className="py-0.5">
          {hasMore ? (
            <button type="button" aria-expanded={open} className="text-left hover:text-teal" onClick={() => setOpen(!open)}>
              {entry.title}
              {detail.revision !== undefined && <span className="text-soft"> · revision {detail.revision}</span>}
            </button>
          ) : (
            entry.title
          )}
        </td>
      </tr>
      {open && (
        <tr>
          <td />
          <td colSpan={3} className="pr-3 pb-2">
            {detail.revision !== undefined ? (
              <>
                <Changes revision={detail.revision} />
                {engineer && (
                  <p className="mt-1 flex gap-2">
                    <Button onClick={() => setAsked('undo')}>Undo revision {detail.revision}…</Button>
                    {detail.revision < newest && <Button onClick={() => setAsked('return')}>Go back to here…</Button>}
                  </p>
                )}
                {asked === 'undo' && <UndoDialog revision={detail.revision} onClose={() => setAsked(null)} />}
                {asked === 'return' && <ReturnDialog revision={detail.revision} newest={newest} onClose={() => setAsked(null)} />}
              </>
            ) : (
              <p className="text-soft">
                before {JSON.stringify(detail.before)}, asked for {JSON.stringify(detail.asked)}
                {detail.after !== undefined && `, read back ${JSON.stringify(detail.after)}`}
              </p>
            )}
          </td>
        </tr>
      )}
    </>
  );
}
