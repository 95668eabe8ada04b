// Editions of a report: made on demand, kept unchanged.

import { useQuery } from '@tanstack/react-query';
import { Download } from 'lucide-react';
import { useState } from 'react';
import { http, refused, type Schemas, take } from '../../api/client';
import type { Item } from '../../api/model';
import { queries } from '../../api/queries';
import { complain } from '../../parts/form';
import { type Period, periodQuery } from '../../parts/period';
import { periodWords } from '../../parts/period-part';
import { save } from '../../parts/save';
import { moment } from '../../parts/text';
import { Button } from '../../parts/ui';

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
  const kinds = report.set.sections.map((s) => s.kind);
  const left = [...(kinds.includes('text') ? ['texts'] : []), ...(kinds.includes('trend') ? ['trends'] : [])];
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
      <p className="mb-2 text-sm text-soft">
        {left.length > 0
          ? `CSV carries the tables; this report’s ${left.join(' and ')} ${left.length > 1 || left[0]?.endsWith('s') ? 'are' : 'is'} left out of it.`
          : 'HTML, PDF and CSV carry the whole report.'}
      </p>
      {editions.data?.length === 0 && <p className="text-soft">No editions yet.</p>}
      <ul className="max-h-60 overflow-auto">
        {editions.data?.map((edition) => (
          <li key={edition.id} className="flex flex-wrap items-center gap-x-2 gap-y-1 border-t border-line py-1.5">
            <span className="figures">{moment(edition.made_at)}</span>
            <span className="min-w-0 flex-1 truncate text-sm text-soft">{edition.made_by}</span>
            <span className="w-full text-sm text-soft">
              {moment(edition.from)} to {moment(edition.to)}
            </span>
            {(['html', 'csv'] as const).map((format) => (
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
