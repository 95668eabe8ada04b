// Long work: how far it is, and the way to stop it.

import { toast } from 'sonner';
import { http, take } from '../api/client';
import { type Status, useStatus } from '../api/live';
import { useMay } from '../api/queries';
import { Button } from '../parts/ui';

type Job = NonNullable<Status['jobs']>[number];

/** Work that goes on by itself: what, how far, and the way to stop it. */
export function JobLine({ job }: { job: Job }) {
  const may = useMay('engineer');
  const share = Math.floor((job.done / job.total) * 100);
  async function cancel() {
    try {
      await take(http.POST('/api/jobs/{id}/cancel', { params: { path: { id: job.id } } }));
    } catch (error) {
      toast.error(error instanceof Error ? error.message : String(error));
    }
  }
  return (
    <span className="flex shrink-0 items-center gap-2">
      <span className="max-w-72 truncate text-soft" title={job.title}>
        {job.title}
      </span>
      <progress className="h-1.5 w-20" value={job.done} max={job.total} aria-label={job.title} />
      <span className="figures w-[4ch] text-right">{share} %</span>
      {may && (
        <Button kind="quiet" className="h-6 px-1.5" onClick={() => void cancel()}>
          Stop
        </Button>
      )}
    </span>
  );
}

/** The same for one piece of work, where somebody waits for it; nothing as long as it does not run. */
export function Progress({ title }: { title: string }) {
  const job = useStatus()?.jobs?.find((j) => j.title === title);
  return job ? <JobLine job={job} /> : null;
}
