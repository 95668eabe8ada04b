// The journal, newest first; what a revision changed, and undo of the newest.

import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { Undo2 } from 'lucide-react';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../api/client';
import { useRevision } from '../../api/live';
import { configurationMoved, queries, useMay } from '../../api/queries';
import { complain } from '../../parts/form';
import { counted, moment } from '../../parts/text';
import { Button, Choice, Confirm, DeskHead, Trouble } from '../../parts/ui';

const PAGE = 100;
const KINDS: Record<string, string> = {
  configuration: 'configuration',
  write: 'write',
  acknowledge: 'acknowledge',
  report: 'report',
  sign_in: 'sign-in',
  system: 'system',
};

export function Journal() {
  const [kind, setKind] = useState('');
  const [asking, setAsking] = useState(false);
  const revision = useRevision();
  const engineer = useMay('engineer');
  const entries = useInfiniteQuery({
    queryKey: ['journal', kind, revision],
    initialPageParam: undefined as number | undefined,
    staleTime: 0,
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

  async function undo(number: number) {
    try {
      await take(http.POST('/api/undo', { body: { revision: number } }));
      toast.success(`Revision ${number} is undone.`);
      await configurationMoved();
      await queries.invalidateQueries({ queryKey: ['journal'] });
    } catch (error) {
      complain(error);
    }
  }

  const rows = entries.data?.pages.flat() ?? [];
  return (
    <>
      <DeskHead
        path="Whole plant"
        title="Journal"
        note={last ? `revision ${last.number} of the configuration, by ${last.actor}` : 'no revision yet'}
      >
        <Choice aria-label="Kind" className="w-40" value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="">every kind</option>
          {Object.entries(KINDS).map(([value, name]) => (
            <option key={value} value={value}>
              {name}
            </option>
          ))}
        </Choice>
        {engineer && last && (
          <Button onClick={() => setAsking(true)}>
            <Undo2 className="size-4" /> Undo revision {last.number}
          </Button>
        )}
      </DeskHead>
      <Trouble error={entries.error} />
      {last && (
        <Confirm
          open={asking}
          title={`Undo revision ${last.number}?`}
          action="Undo it"
          grave={false}
          onClose={() => setAsking(false)}
          onConfirm={() => {
            setAsking(false);
            void undo(last.number);
          }}
        >
          <p>
            “{last.why}”, by {last.actor}: {counted(last.total, 'item')} go back to how they were. The undo is a revision of its
            own.
          </p>
          <Changes revision={last.number} />
        </Confirm>
      )}
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
            <Entry key={entry.id} entry={entry} />
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

function Entry({ entry }: { entry: Schemas['EntryView'] }) {
  const [open, setOpen] = useState(false);
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
              <Changes revision={detail.revision} />
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

type Fields = Record<string, unknown> | null | undefined;

function Changes({ revision }: { revision: number }) {
  const found = useQuery({
    queryKey: ['revisions', revision],
    queryFn: () => take(http.GET('/api/revisions', { params: { query: { before: revision + 1, limit: 1 } } })),
  });
  const view = found.data?.[0];
  if (!view) return null;
  return (
    <ul className="max-h-64 overflow-auto text-sm">
      {view.changes.map((change) => {
        const [before, after] = [change.before as Fields, change.after as Fields];
        const verb = !before ? 'made' : !after ? 'deleted' : 'changed';
        return (
          <li key={change.id} className="py-0.5">
            <span className="text-soft">
              {verb} {change.kind}
            </span>{' '}
            {change.title.replaceAll('/', ' / ')}
            {before && after && (
              <span className="figures ml-2 text-soft">
                {Object.keys(after)
                  .map((field) => `${field} ${JSON.stringify(before[field])} → ${JSON.stringify(after[field])}`)
                  .join(', ')}
              </span>
            )}
          </li>
        );
      })}
      {view.total > view.changes.length && <li className="text-soft">and {view.total - view.changes.length} more</li>}
    </ul>
  );
}
