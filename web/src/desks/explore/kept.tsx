// Trends kept under a name: opened again with their tags, length, cursors and what they are compared with.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { queries, useMay } from '../../api/queries';
import { useGo, type View } from '../../app/view';
import { complain, useForm } from '../../parts/form';
import { counted, moment, spanWords } from '../../parts/text';
import { Button, Confirm, Field, FormTrouble, Input, Popup, Trouble } from '../../parts/ui';

type Kept = Schemas['TrendView'];

function useKept() {
  return useQuery({ queryKey: ['trends'], queryFn: () => take(http.GET('/api/trends')), staleTime: 0 });
}

const refresh = () => queries.invalidateQueries({ queryKey: ['trends'] });

/** The list; choosing one opens it. */
export function KeptTrends({ onOpened }: { onOpened?: () => void }) {
  const kept = useKept();
  const go = useGo();
  const [leaving, setLeaving] = useState<Kept | null>(null);
  function open({ trend }: Kept) {
    const { tags, span, end, a, b, earlier } = trend;
    const some = (value: number | null | undefined) => value ?? undefined;
    go({ tags: tags.join(','), span, end: some(end), a: some(a), b: some(b), earlier: some(earlier) });
    onOpened?.();
  }
  async function forget(id: string) {
    setLeaving(null);
    try {
      await take(http.DELETE('/api/trends/{id}', { params: { path: { id } } }));
      await refresh();
    } catch (error) {
      complain(error);
    }
  }
  return (
    <>
      <Trouble error={kept.error} />
      {kept.data?.length === 0 && <p className="text-soft">No saved trends.</p>}
      <ul aria-label="Saved trends" className="max-h-80 overflow-auto">
        {kept.data?.map((trend) => (
          <li key={trend.id} className="flex items-center gap-2 border-t border-line hover:bg-band">
            <button
              type="button"
              className="flex min-w-0 flex-1 items-baseline gap-3 px-2 py-1 text-left"
              onClick={() => open(trend)}
            >
              <span className="min-w-0 flex-1 truncate font-semibold">{trend.name}</span>
              <span className="shrink-0 text-sm text-soft">
                {counted(trend.trend.tags.length, 'tag')} ·{' '}
                {trend.trend.end === undefined || trend.trend.end === null
                  ? `last ${spanWords(trend.trend.span)}`
                  : `until ${moment(trend.trend.end, 0)}`}{' '}
                · {trend.actor}
              </span>
            </button>
            {trend.removable && (
              <button
                type="button"
                aria-label={`Delete ${trend.name}`}
                className="mr-1 rounded p-0.5 hover:bg-raised"
                onClick={() => setLeaving(trend)}
              >
                <X className="size-3.5" />
              </button>
            )}
          </li>
        ))}
      </ul>
      <Confirm
        open={leaving !== null}
        title={`Delete ${leaving?.name}?`}
        action="Forget"
        onClose={() => setLeaving(null)}
        onConfirm={() => leaving && void forget(leaving.id)}
      >
        <p>It is deleted for everybody. History and tags are not affected.</p>
      </Confirm>
    </>
  );
}

/** Keeps what is seen, and opens what was kept. */
export function KeptDialog({ view, onClose }: { view: View; onClose: () => void }) {
  const form = useForm({ name: '' });
  const may = useMay('operator');
  const kept = useKept().data ?? [];
  const same = (trend: Kept) => trend.name.toLowerCase() === form.values.name.trim().toLowerCase();
  const replaceable = form.error('name') !== undefined && kept.some((trend) => same(trend) && trend.removable);
  const { tags, span = 900, end, a, b, earlier } = view;
  async function keep(replace: boolean) {
    const done = await form.run(async ({ name }) => {
      const trend = { tags: tags?.split(',') ?? [], span, end, a, b, earlier };
      await take(http.POST('/api/trends', { body: { name, trend, replace } }));
      await refresh();
    });
    if (done) form.reset({ name: '' });
  }
  return (
    <Popup open title="Saved trends" onClose={onClose} className="top-24 w-[36rem] p-4">
      {may && tags && (
        <form
          className="mt-2 mb-3"
          onSubmit={(e) => {
            e.preventDefault();
            void keep(false);
          }}
        >
          <div className="flex items-end gap-2">
            <div className="flex-1">
              <Field label="Save this trend as" error={form.error('name')}>
                {(p) => <Input {...p} value={form.values.name} onChange={(e) => form.set('name', e.target.value)} />}
              </Field>
            </div>
            {replaceable && (
              <Button disabled={form.busy} onClick={() => void keep(true)}>
                Replace it
              </Button>
            )}
            <Button kind="main" type="submit" disabled={form.busy || form.values.name.trim() === ''}>
              Save
            </Button>
          </div>
          <p className="mt-1 text-sm text-soft">
            {end === undefined ? `It is live: the last ${spanWords(span)}.` : `It ends at ${moment(end)}.`}
          </p>
          <FormTrouble form={form} />
        </form>
      )}
      <KeptTrends onOpened={onClose} />
    </Popup>
  );
}
