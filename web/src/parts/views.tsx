// Views of a sheet that are kept under a name, for everybody.

import { useQuery } from '@tanstack/react-query';
import { Bookmark, X } from 'lucide-react';
import { Popover } from 'radix-ui';
import { useState } from 'react';
import { http, take } from '../api/client';
import { queries, useMay } from '../api/queries';
import { complain, useForm } from './form';
import { Button, Field, Input, NARROW } from './ui';

interface Props<V> {
  sheet: 'tags' | 'alarms' | 'rules' | 'rule_templates';
  /** What the button says; without it “Views”. */
  label?: string;
  /** What is kept of the sheet, in words. */
  kept: string;
  view: V;
  onTake: (view: Partial<V>) => void;
}

export function Views<V extends object>({ sheet, label, kept: what, view, onTake }: Props<V>) {
  const key = ['views', sheet];
  const [open, setOpen] = useState(false);
  const kept = useQuery({
    queryKey: key,
    queryFn: () => take(http.GET('/api/views/{sheet}', { params: { path: { sheet } } })),
    enabled: open,
    staleTime: 0,
  });
  const operator = useMay('operator');
  const form = useForm({ name: '' });
  const refresh = () => queries.invalidateQueries({ queryKey: key });
  const keep = () =>
    form
      .run(({ name }) =>
        take(http.POST('/api/views/{sheet}', { params: { path: { sheet } }, body: { name, view: view as never } })),
      )
      .then((done) => {
        if (done) form.reset({ name: '' });
        return refresh();
      });
  const forget = (id: string) =>
    take(http.DELETE('/api/views/{id}', { params: { path: { id } } }))
      .then(refresh)
      .catch(complain);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button title={label ?? 'Views'}>
          <Bookmark className="size-4" /> <span className={label ? undefined : NARROW}>{label ?? 'Views'}</span>
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="z-50 w-72 rounded-md border border-firm bg-raised p-3 shadow-lg">
          {kept.data?.length === 0 && <p className="mb-2 text-soft">No saved views.</p>}
          <ul aria-label="Saved views" className="mb-2 max-h-60 overflow-auto">
            {kept.data?.map((k) => (
              <li key={k.id} className="flex items-center border-t border-line first:border-t-0 hover:bg-band">
                <button
                  type="button"
                  className="flex min-w-0 flex-1 items-baseline gap-2 px-1 py-0.5 text-left"
                  onClick={() => {
                    onTake(k.view as Partial<V>);
                    setOpen(false);
                  }}
                >
                  <span className="min-w-0 flex-1 truncate font-semibold">{k.name}</span>
                  <span className="shrink-0 text-sm text-soft">{k.actor}</span>
                </button>
                {operator && (
                  <button
                    type="button"
                    className="rounded p-0.5 hover:bg-raised"
                    aria-label={`Delete ${k.name}`}
                    onClick={() => void forget(k.id)}
                  >
                    <X className="size-3.5" />
                  </button>
                )}
              </li>
            ))}
          </ul>
          {operator && (
            <form
              className="flex items-start gap-2"
              onSubmit={(e) => {
                e.preventDefault();
                void keep();
              }}
            >
              <Field label={`Save ${what} as`} error={form.error('name', 'view') ?? form.other} className="flex-1">
                {(p) => <Input {...p} value={form.values.name} onChange={(e) => form.set('name', e.target.value)} />}
              </Field>
              <Button type="submit" className="mt-5" disabled={!form.values.name.trim() || form.busy}>
                Save
              </Button>
            </form>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
