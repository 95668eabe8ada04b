// Lookup: a table asked of history, its question beside its rows.

import { useQuery } from '@tanstack/react-query';
import { ArrowDown, ArrowUp, Download, Plug, RefreshCw } from 'lucide-react';
import { useEffect, useMemo, useRef, useState } from 'react';
import { http, Refused, type Schemas, take } from '../../../api/client';
import { feed } from '../../../api/live';
import type { LookupSet } from '../../../api/model';
import { useTags } from '../../../api/queries';
import { useGo, useView } from '../../../app/view';
import { PeriodPart, periodWords } from '../../../parts/period-part';
import { useSettled } from '../../../parts/settled';
import { counted, moment, spanWords } from '../../../parts/text';
import { Trend } from '../../../parts/trend';
import { Button, DeskHead, Empty, Trouble } from '../../../parts/ui';
import { KeptDialog, type KeptKind, KeptList } from '../kept';
import { ExploreParts } from '../parts';
import { FileDialog } from './file-dialog';
import { asksForTags, between, fromAddress, type Look, lookOf, setOf, toAddress } from './look';
import { Pages } from './pages';
import { ProgramsDialog } from './programs-dialog';
import { QuestionForm } from './question-form';
import { Result } from './result';
import { type Sums, useSums } from './sums';

type Kept = Schemas['LookupView'];

const LOOKUPS: KeptKind<Kept> = {
  noun: 'lookup',
  plural: 'lookups',
  key: 'lookups',
  all: () => take(http.GET('/api/lookups')),
  remove: (id) => take(http.DELETE('/api/lookups/{id}', { params: { path: { id } } })),
  describe: ({ lookup }) => {
    const { look, period } = lookOf(lookup as unknown as LookupSet);
    const rows = { stored: 'as stored', instants: 'even instants', spans: 'spans' }[look.of];
    return `${rows} · ${period.end === undefined ? `last ${spanWords(period.span)}` : `until ${moment(period.end, 0)}`}`;
  },
};

/** Most tags of the plot beside the rows. */
const PLOTTED = 4;

export function Lookup() {
  const view = useView();
  const go = useGo();
  const { span = 3600, end } = view;
  const period = useMemo(() => (end === undefined ? { span } : { span, end }), [span, end]);
  const [look, setLook] = useLook();
  const [shown, setShown] = useState<'kept' | 'file' | 'programs' | null>(null);
  const [plot, setPlot] = useState(false);
  // A period that ends now stands still while its rows are looked at.
  const [asked, setAsked] = useState(() => feed.time());
  // biome-ignore lint/correctness/useExhaustiveDependencies: another period is asked for anew
  useEffect(() => setAsked(feed.time()), [period]);
  const settled = useSettled(look);
  const fixed = useMemo(() => between(period, asked), [period, asked]);
  const asks = asksForTags(settled);
  const set = useMemo(() => setOf(settled, fixed), [settled, fixed]);
  const key = JSON.stringify(set);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key stands for the lookup
  const pages = useMemo(
    () =>
      new Pages((place, rows) => {
        const body = { lookup: set as unknown as Record<string, never>, rows, ...(place === null ? {} : { place }) };
        return take(http.POST('/api/lookup/rows', { body }));
      }, set.newest_first),
    [key],
  );
  const first = useQuery({
    queryKey: ['lookup', key],
    enabled: asks,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
    queryFn: async () => {
      await pages.begin();
      return pages;
    },
  });
  const ready = first.data;
  const sums = useSums(ready?.first ? set : undefined);
  const error = (...names: string[]) =>
    first.error instanceof Refused ? names.map((name) => (first.error as Refused).field(name)).find(Boolean) : undefined;
  const open = ({ lookup }: Kept) => {
    const kept = lookOf(lookup as unknown as LookupSet);
    setLook(kept.look);
    go({ span: kept.period.span, end: kept.period.end });
  };
  const kept = setOf(look, end === undefined ? { last_s: span } : between(period, 0));
  return (
    <div className="flex h-full min-h-0 flex-col">
      <DeskHead path={periodWords(period)} title="Lookup">
        <ExploreParts />
        <PeriodPart period={period} onPick={(next) => go({ span: next.span, end: next.end })} className="min-w-32 justify-start">
          {end === undefined ? `Last ${spanWords(span)}` : spanWords(span)}
        </PeriodPart>
        <Button onClick={() => setLook({ ...look, newest: !look.newest })}>
          {look.newest ? <ArrowDown className="size-4" /> : <ArrowUp className="size-4" />}
          {look.newest ? 'Newest first' : 'Oldest first'}
        </Button>
        {end === undefined && (
          <Button aria-label="Read up to now" onClick={() => setAsked(feed.time())}>
            <RefreshCw className="size-4" />
          </Button>
        )}
        <Button onClick={() => setShown('kept')}>Saved…</Button>
        <Button disabled={!ready} onClick={() => setShown('file')}>
          <Download className="size-4" /> File…
        </Button>
        <Button onClick={() => setShown('programs')}>
          <Plug className="size-4" /> Programs…
        </Button>
      </DeskHead>
      <div className="grid min-h-0 flex-1 grid-cols-[19rem_minmax(0,1fr)] grid-rows-[minmax(0,1fr)] gap-4">
        <div className="relative min-h-0 overflow-y-auto pr-2">
          <QuestionForm look={look} onChange={(part) => setLook({ ...look, ...part })} error={error} />
        </div>
        <div className="flex min-h-0 min-w-0 flex-col">
          {first.error && (!(first.error instanceof Refused) || first.error.problems.length === 0) && (
            <Trouble error={first.error} />
          )}
          {first.error instanceof Refused && first.error.field('lookup') && <Trouble error={first.error} />}
          <Trouble error={sums.failed && new Error(sums.failed)} />
          {!asks && (
            <>
              <Empty title="Choose tags to look up their values">
                Choose them singly, or by what they are: all below a place, all of a class, all in °C. Their stored values, values
                at even instants or figures of spans stand here as a table, to be read, plotted, written as a file, or asked for
                by a program.
              </Empty>
              <section aria-label="Saved lookups" className="mt-6 max-w-2xl">
                <h2 className="mb-1 font-semibold">Saved lookups</h2>
                <KeptList kind={LOOKUPS} onOpen={open} />
              </section>
            </>
          )}
          {asks && ready && (
            <>
              <p className="mb-1 flex items-center gap-3">
                <Count pages={ready} sums={sums} />
                <Button kind="quiet" className="ml-auto" aria-pressed={plot} onClick={() => setPlot(!plot)}>
                  {plot ? 'Hide plot' : 'Plot'}
                </Button>
              </p>
              {plot && <Plot pages={ready} period={fixed} />}
              <Result key={key} pages={ready} source={[key]} sums={sums} />
            </>
          )}
        </div>
      </div>
      {shown === 'kept' && (
        <KeptDialog
          kind={LOOKUPS}
          keep={
            asks
              ? (name, replace) =>
                  take(http.POST('/api/lookups', { body: { name, lookup: kept as unknown as Record<string, never>, replace } }))
              : undefined
          }
          note={end === undefined ? `Its period moves: the last ${spanWords(span)}.` : `Its period ends at ${moment(end)}.`}
          onOpen={open}
          onClose={() => setShown(null)}
        />
      )}
      {shown === 'file' && <FileDialog lookup={set} onClose={() => setShown(null)} />}
      {shown === 'programs' && <ProgramsDialog kind={LOOKUPS} onClose={() => setShown(null)} />}
    </div>
  );
}

/** What is asked for, in the address: so it is there after a reload, and can be sent to somebody. */
function useLook(): [Look, (look: Look) => void] {
  const { look: given } = useView();
  const go = useGo();
  const [look, setLook] = useState(() => fromAddress(given));
  const text = JSON.stringify(given);
  const written = useRef(text);
  // Somebody went back, or opened another address.
  if (text !== written.current) {
    written.current = text;
    setLook(fromAddress(given));
  }
  const set = (next: Look) => {
    const own = toAddress(next);
    setLook(next);
    written.current = JSON.stringify(own);
    go({ look: own });
  };
  return [look, set];
}

function Count({ pages, sums }: { pages: Pages; sums: Sums }) {
  const known = pages.first?.total ?? undefined;
  const done = sums.columns !== undefined;
  const rows = counted(known ?? sums.rows, 'row');
  const columns = counted(pages.first?.tags.length ?? 0, 'tag');
  return (
    <span role="status">
      {known === undefined && !done ? `${rows} so far, ${Math.floor(sums.share * 100)} %` : rows} · {columns}
    </span>
  );
}

/** The first tags of the lookup as a trend of its period. */
function Plot({ pages, period }: { pages: Pages; period: { from: string; to: string } }) {
  const ids = useMemo(() => (pages.first?.tags ?? []).slice(0, PLOTTED).map((tag) => tag.id), [pages]);
  const tags = useTags(ids).filter((tag) => tag.holds !== 'text');
  const [from, to] = [Date.parse(period.from), Date.parse(period.to)];
  const left = (pages.first?.tags.length ?? 0) - tags.length;
  return (
    <section aria-label="Plot" className="mb-2 rounded border border-line bg-raised p-2">
      <Trend tags={tags} span={(to - from) / 1000} end={to} height={170} />
      {left > 0 && <p className="text-sm text-soft">{counted(left, 'more tag')} not plotted.</p>}
    </section>
  );
}
