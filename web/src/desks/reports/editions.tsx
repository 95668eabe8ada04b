// Editions of a report: made on demand, kept unchanged.

import { useQuery } from '@tanstack/react-query';
import { Download } from 'lucide-react';
import { useState } from 'react';
import { http, refused, type Schemas, take } from '../../api/client';
import type { Item } from '../../api/model';
import { queries, useItems, useMay } from '../../api/queries';
import { useGo } from '../../app/view';
import { complain } from '../../parts/form';
import { type Period, periodQuery } from '../../parts/period';
import { periodWords } from '../../parts/period-part';
import { save } from '../../parts/save';
import { moment } from '../../parts/text';
import { Button } from '../../parts/ui';
import { FORMATS, leftOut, valuesOf, whenWords } from './dispatch';

const LINK = 'inline-flex h-6.5 items-center gap-1 rounded border border-line bg-raised px-2 hover:bg-band';

/** The PDF is printed when it is first asked for; that takes a moment, and may not be possible yet. */
function Paper({ edition }: { edition: Schemas['EditionView'] }) {
  const [busy, setBusy] = useState(false);
  async function fetchPdf() {
    setBusy(true);
    try {
      const response = await fetch(`/api/editions/${edition.id}/pdf`);
      if (!response.ok) throw refused(response.status, await response.json().catch(() => null));
      save(`${edition.title}.pdf`, await response.blob());
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
  return (
    <button type="button" className={LINK} disabled={busy} onClick={() => void fetchPdf()}>
      <Download className="size-3.5" /> {busy ? 'printing…' : 'PDF'}
    </button>
  );
}

export function Editions({ report, period }: { report: Item<'report'>; period: Period | undefined }) {
  const [busy, setBusy] = useState(false);
  const editions = useQuery({
    queryKey: ['editions', report.id],
    queryFn: () => take(http.GET('/api/reports/{id}/editions', { params: { path: { id: report.id } } })),
    staleTime: 0,
  });
  const left = FORMATS.flatMap((format) => leftOut(format, report.set.sections) ?? []);
  async function make() {
    setBusy(true);
    try {
      await take(http.POST('/api/reports/{id}/editions', { params: { path: { id: report.id }, query: periodQuery(period) } }));
      await queries.invalidateQueries({ queryKey: ['editions', report.id] });
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
  return (
    <section aria-label="Editions">
      <div className="mb-1 flex items-center">
        <h2 className="flex-1 font-semibold">Editions</h2>
        <Button kind="main" disabled={busy} onClick={() => void make()}>
          Create edition
        </Button>
      </div>
      {period && <p className="text-sm">The next edition covers {periodWords(period)}.</p>}
      <p className="mb-2 text-sm text-soft">{left.length > 0 ? left.join(' ') : 'Every format carries the whole report.'}</p>
      {editions.data?.length === 0 && <p className="text-soft">No editions yet.</p>}
      <ul className="max-h-60 overflow-auto">
        {editions.data?.map((edition) => (
          <li key={edition.id} className="flex flex-wrap items-center gap-x-2 gap-y-1 border-t border-line py-1.5">
            <span className="figures">{moment(edition.made_at)}</span>
            <span className="min-w-0 flex-1 truncate text-sm text-soft">{edition.made_by}</span>
            <span className="w-full text-sm text-soft">
              {moment(edition.from)} to {moment(edition.to)}
            </span>
            {(['html', 'xlsx', 'csv', 'json'] as const).map((format) => (
              <a key={format} href={`/api/editions/${edition.id}/${format}`} download className={LINK}>
                <Download className="size-3.5" /> {format.toUpperCase()}
              </a>
            ))}
            <Paper edition={edition} />
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Where they stand on the page. */
export const LEAVES = 'dispatches-of-report';

/** The dispatches that send a report. */
export function DispatchesOf({ report }: { report: Item<'report'> }) {
  const engineer = useMay('engineer');
  const go = useGo();
  const dispatches = (useItems('dispatch').data?.items ?? []).filter((one) => one.set.report === report.id);
  const open = (of: string) => go({ part: 'dispatches', of, report: report.id });
  return (
    <section id={LEAVES} aria-label="Dispatches of this report">
      <div className="mb-1 flex items-center">
        <h2 className="flex-1 font-semibold">Leaves by itself</h2>
        {engineer && <Button onClick={() => open('new')}>New dispatch</Button>}
      </div>
      {dispatches.length === 0 && <p className="text-soft">No dispatch sends this report yet.</p>}
      <ul>
        {dispatches.map((one) => (
          <li key={one.id} className="border-t border-line py-1">
            <button type="button" className="font-semibold hover:text-teal" onClick={() => open(one.id)}>
              {one.set.name}
            </button>
            <span className="text-sm text-soft">
              {' '}
              {whenWords(valuesOf(one.set, one.formulas?.trigger ?? '', ''), '', '')}
              {!one.set.running && ', paused'}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
