// Reports: what they say beside how they look on real data, the editions made, and how they leave by themselves.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Plus } from 'lucide-react';
import { useState } from 'react';
import { http, newId, take } from '../../api/client';
import { feed } from '../../api/live';
import type { Item, ReportSet } from '../../api/model';
import { commit, itemsNow, useItems, useMay } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { complain } from '../../parts/form';
import { type Period, periodQuery } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { counted, spanWords } from '../../parts/text';
import { Button, DeskHead, DeskPart, Empty, Trouble } from '../../parts/ui';
import { DispatchForm } from './dispatch-form';
import { Dispatches, NEW } from './dispatches';
import { DispatchesOf, Editions, LEAVES } from './editions';
import { ReportEditor } from './report-editor';
import { Runs } from './runs';

/** A first report about a place: its recorded figures, their trend, its alarms. Of the whole plant nobody knows which tags
 * matter: its alarms alone. */
function usual(name: string, place: string | null, tags: readonly Item<'tag'>[], order: number): Partial<ReportSet> {
  const shown = tags.filter((t) => t.recorded && t.holds !== 'text' && t.holds !== 'bool').map((t) => t.id);
  return {
    name,
    order,
    minutes: 15,
    zone: Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC',
    ...(place ? { place } : {}),
    sections: place
      ? [{ kind: 'summary', tags: shown.slice(0, 500) }, { kind: 'trend', tags: shown.slice(0, 4) }, { kind: 'alarms' }]
      : [{ kind: 'alarms' }],
  };
}

/** The desk: reports, their dispatches, and what was sent. */
export function Reports() {
  const { part, of, report } = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const dispatches = useItems('dispatch');
  if (part !== 'dispatches' && part !== 'sent') return <ReportList />;
  const items = dispatches.data?.items ?? [];
  const open = items.find(({ id }) => id === of);
  const making = of === NEW;
  const close = () => go({ of: undefined });
  return (
    <div className="flex h-full flex-col">
      <DeskHead
        path={open || making ? 'Reports · Dispatches' : 'Whole plant'}
        title={open ? open.set.name : making ? 'New dispatch' : 'Reports'}
        note={part === 'dispatches' && !open && !making ? counted(items.length, 'dispatch', 'dispatches') : undefined}
      >
        {open || making ? <Button onClick={close}>All dispatches</Button> : <Parts />}
        {part === 'dispatches' && !open && !making && engineer && (
          <Button kind="main" onClick={() => go({ of: NEW, report: undefined })}>
            <Plus className="size-4" /> Dispatch
          </Button>
        )}
      </DeskHead>
      <Trouble error={dispatches.error} />
      {part === 'sent' && <Runs title="Made and sent by dispatches" />}
      {part === 'dispatches' && dispatches.data && (open || making) && (
        <DispatchForm key={of} item={open} seen={dispatches.data.revision} count={items.length} report={report} onClose={close} />
      )}
      {part === 'dispatches' && dispatches.data && !open && !making && (
        <Dispatches items={items} seen={dispatches.data.revision} />
      )}
    </div>
  );
}

/** The parts of the desk. */
function Parts() {
  const { part } = useView();
  const go = useGo();
  const tab = (name: string, to: string | undefined) => (
    <DeskPart on={part === to} onClick={() => go({ part: to, of: undefined, report: undefined })}>
      {name}
    </DeskPart>
  );
  return (
    <>
      {tab('Reports', undefined)}
      {tab('Dispatches', 'dispatches')}
      {tab('Sent', 'sent')}
    </>
  );
}

function ReportList() {
  const view = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const reports = useItems('report');
  const places = useItems('place').data?.items ?? [];
  const items = reports.data?.items ?? [];
  const open = items.find((r) => r.id === view.report);
  const sending = (useItems('dispatch').data?.items ?? []).filter((one) => one.set.report === open?.id).length;
  const place = places.find((p) => p.id === view.at);

  async function add() {
    const id = newId();
    const [tags, reports] = await Promise.all([itemsNow('tag', { under: view.at }), itemsNow('report')]);
    const names = new Set(reports.items.map((r) => r.set.name));
    const base = `${place?.set.name ?? 'Plant'}, last 15 minutes`;
    let name = base;
    for (let n = 2; names.has(name); n += 1) name = `${base} (${n})`;
    const set = usual(name, view.at ?? null, tags.items, reports.items.length);
    await commit(`Added report ${name}`, reports.revision, [{ op: 'create', kind: 'report', id, set }]);
    go({ report: id });
  }

  if (reports.error) return <Trouble error={reports.error} />;
  if (!reports.data) return null;
  const addButton = engineer && (
    <Button kind={items.length > 0 ? 'plain' : 'main'} onClick={() => void add().catch(complain)}>
      <Plus className="size-4" /> New report{place ? ` on ${place.set.name}` : ''}
    </Button>
  );
  return (
    <>
      <DeskHead
        path={open ? 'Reports' : 'Whole plant'}
        title={open?.set.name ?? 'Reports'}
        note={open ? undefined : counted(items.length, 'report')}
      >
        {open && (
          <Button onClick={() => document.getElementById(LEAVES)?.scrollIntoView()}>
            {sending === 0 ? 'No dispatches yet' : counted(sending, 'dispatch', 'dispatches')}
          </Button>
        )}
        {open ? <Button onClick={() => go({ report: undefined })}>All reports</Button> : <Parts />}
        {!open && items.length > 0 && addButton}
      </DeskHead>
      {items.length === 0 && (
        <Empty title="No report yet" action={addButton}>
          A report is a period and sections: text, a table of figures, trends, alarms. Create it on demand; each edition is kept
          unchanged.
        </Empty>
      )}
      {!open && items.length > 0 && (
        <ul className="max-w-4xl border border-line bg-raised">
          <li aria-hidden className="flex h-7 items-center gap-4 bg-band px-3 text-sm font-semibold">
            <span className="flex-1">Report</span>
            <span className="w-96">Place</span>
            <span className="w-24 text-right">Period</span>
          </li>
          {items.map((report) => (
            <li key={report.id} className="flex h-8 items-center gap-4 border-t border-line px-3 first:border-t-0 hover:bg-band">
              <button
                type="button"
                className="min-w-0 flex-1 truncate text-left hover:text-teal"
                onClick={() => go({ report: report.id })}
              >
                {report.set.name}
              </button>
              <span className="w-96 truncate text-soft">
                {places.find((p) => p.id === report.set.place)?.title.replaceAll('/', ' / ') ?? 'whole plant'}
              </span>
              <span className="w-24 text-right text-soft">last {spanWords(report.set.minutes * 60)}</span>
            </li>
          ))}
        </ul>
      )}
      {open && <OpenReport key={open.id} report={open} seen={reports.data.revision} disabled={!engineer} />}
    </>
  );
}

function OpenReport({ report, seen, disabled }: { report: Item<'report'>; seen: number; disabled: boolean }) {
  // Another period than the report's own, for one edition.
  const [period, setPeriod] = useState<Period>();
  return (
    <div className="grid grid-cols-[21rem_minmax(0,1fr)] items-start gap-4">
      <div className="space-y-5">
        <ReportEditor report={report} seen={seen} disabled={disabled} />
        <Editions report={report} period={period} />
        <DispatchesOf report={report} />
      </div>
      <Preview set={report.set} revision={report.revision} period={period} onPeriod={setPeriod} />
    </div>
  );
}

interface PreviewProps {
  set: ReportSet;
  revision: number;
  period: Period | undefined;
  onPeriod: (period: Period | undefined) => void;
}

function Preview({ set, revision, period, onPeriod }: PreviewProps) {
  const page = useQuery({
    queryKey: ['preview', set, revision, period],
    refetchInterval: period ? false : 15_000,
    staleTime: 0,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(http.POST('/api/reports/preview', { params: { query: periodQuery(period) }, body: set as never, parseAs: 'text' })),
  });
  const own = { span: set.minutes * 60 };
  return (
    <section aria-label="Preview" className="sticky top-0 min-w-0">
      <p className="mb-1 flex items-center gap-2 text-sm text-soft">
        <span className="flex-1">
          Preview: {period ? periodWords(period) : `last ${spanWords(own.span)}`}
          {page.isPlaceholderData && '; updating …'}
        </span>
        {period && <Button onClick={() => onPeriod(undefined)}>The report’s own period</Button>}
        <PeriodPart period={period ?? own} onPick={({ span, end }) => onPeriod({ span, end: end ?? Math.floor(feed.time()) })}>
          Another period…
        </PeriodPart>
      </p>
      <Trouble error={page.error} />
      <div className="h-[calc(100vh-13rem)] min-h-96 rounded-md border border-line bg-raised">
        {/* Only once there is a page: a frame that is sent to a second page while the first still loads may show neither. */}
        {page.data !== undefined && (
          <iframe title="Report preview" sandbox="" srcDoc={page.data} className="size-full rounded-md" />
        )}
      </div>
    </section>
  );
}
