// Where a report goes: folders, people and programs, each with its formats.

import { Plus, X } from 'lucide-react';
import type { Section } from '../../api/model';
import { useItems } from '../../api/queries';
import type { Form } from '../../parts/form';
import { useKinds } from '../../parts/kinds';
import { ListField } from '../../parts/picker';
import { Button, Field, Input, Tick } from '../../parts/ui';
import { type DeliveryValues, type DispatchValues, FORMATS, leftOut, USUAL_FILE } from './dispatch';

/** Connections through which a report can leave, and whether each is a mail server. */
export function useCarriers() {
  const kinds = useKinds();
  const connections = useItems('connection').data?.items ?? [];
  return connections.flatMap((one) => {
    const kind = kinds.find(({ kind }) => kind === one.set.kind);
    if (!kind || !(kind.can.files || kind.can.mails || kind.can.hooks)) return [];
    return [{ id: one.id, title: one.set.name, mails: kind.can.mails, about: kind.title }];
  });
}

interface Props {
  form: Form<DispatchValues>;
  sections: readonly Section[];
  /** What the files would be called, by delivery. */
  files: string[][];
  problem: (field: string) => string | undefined;
}

export function DeliveriesField({ form, sections, files, problem }: Props) {
  const carriers = useCarriers();
  const all = form.values.deliveries;
  const set = (index: number, change: Partial<DeliveryValues>) =>
    form.set(
      'deliveries',
      all.map((one, i) => (i === index ? { ...one, ...change } : one)),
    );
  const add = () =>
    form.set('deliveries', [...all, { connection: carriers[0]?.id ?? '', to: '', file: USUAL_FILE, formats: ['pdf'] }]);
  return (
    <div className="space-y-2">
      {all.map((delivery, i) => {
        const carrier = carriers.find(({ id }) => id === delivery.connection);
        const at = (field: string) => problem(`deliveries[${i}].${field}`);
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a delivery is known by its place in the list
          <fieldset key={i} className="rounded border border-line bg-raised p-2">
            <legend className="px-1 text-sm text-soft">Delivery {i + 1}</legend>
            <div className="grid grid-cols-[11rem_minmax(0,1fr)_auto] items-start gap-3">
              <Field label="Through" error={at('connection')} hint={carrier?.about}>
                {(p) => (
                  <ListField
                    label="Through"
                    field={p}
                    none="choose"
                    value={delivery.connection}
                    from={carriers}
                    onChange={(id) => set(i, { connection: id, ...(carriers.find((c) => c.id === id)?.mails ? {} : { to: '' }) })}
                  />
                )}
              </Field>
              {carrier?.mails && (
                <Field label="To" error={at('to')} hint="addresses, divided by commas">
                  {(p) => (
                    <Input
                      {...p}
                      value={delivery.to}
                      placeholder="lead@works.example"
                      onChange={(e) => set(i, { to: e.target.value })}
                    />
                  )}
                </Field>
              )}
              <span className="col-start-3">
                <Button
                  kind="quiet"
                  aria-label={`Remove delivery ${i + 1}`}
                  onClick={() =>
                    form.set(
                      'deliveries',
                      all.filter((_, n) => n !== i),
                    )
                  }
                >
                  <X className="size-3.5" />
                </Button>
              </span>
            </div>
            <fieldset className="mt-2">
              <legend className="text-sm text-soft">As</legend>
              <div className="flex flex-wrap gap-x-4">
                {FORMATS.map((format) => (
                  <Tick
                    key={format}
                    label={format.toUpperCase()}
                    checked={delivery.formats.includes(format)}
                    onChange={(on) =>
                      set(i, { formats: FORMATS.filter((one) => (one === format ? on : delivery.formats.includes(one))) })
                    }
                  />
                ))}
              </div>
              {at('formats') && <p className="text-sm text-act4">{at('formats')}</p>}
              {delivery.formats
                .flatMap((format) => leftOut(format, sections) ?? [])
                .map((words) => (
                  <p key={words} className="text-sm text-soft">
                    {words}
                  </p>
                ))}
            </fieldset>
            <Field
              label="Files are called"
              error={at('file')}
              hint={
                <>
                  {'{report} {place} {dispatch} {from} {to} {date} {time}; “/” makes folders. '}
                  {files[i]?.[0] && <>Next: {files[i]?.[0]}</>}
                </>
              }
              className="mt-2"
            >
              {(p) => <Input {...p} value={delivery.file} onChange={(e) => set(i, { file: e.target.value })} />}
            </Field>
          </fieldset>
        );
      })}
      {form.error('deliveries') && <p className="text-sm text-act4">{form.error('deliveries')}</p>}
      {carriers.length === 0 ? (
        <p className="text-soft">
          There is nothing yet through which a report can leave. Connect one first: Connect, kind Folder, Mail server or Web hook.
        </p>
      ) : (
        <Button onClick={add}>
          <Plus className="size-4" /> Delivery
        </Button>
      )}
      {all.length === 0 && (
        <p className="text-sm text-soft">Without a delivery the edition is made and kept here, and sent nowhere.</p>
      )}
    </div>
  );
}
