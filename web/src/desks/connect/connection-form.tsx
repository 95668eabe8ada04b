// The form of a connection: only the fields that its kind needs, with its test as a ladder of steps.

import { useRef, useState } from 'react';
import { newId, Refused } from '../../api/client';
import type { ConnectionSet, Group, Item } from '../../api/model';
import { commit } from '../../api/queries';
import { stream } from '../../api/stream';
import { useGo } from '../../app/view';
import { type FormField, isShown, settingsOf, taken, type Values, valuesOf } from '../../parts/described';
import { DescribedFields } from '../../parts/described-fields';
import { keepDraft, useDraft } from '../../parts/draft';
import { useForm } from '../../parts/form';
import { type KindView, useKinds } from '../../parts/kinds';
import { Button, ChangedElsewhere, Choice, Field, FormTrouble, Input } from '../../parts/ui';
import { DeleteConnection } from './delete-connection';
import { GroupRows } from './groups';
import { Ladder, type Offer, type Step } from './ladder';
import { OwnCertificate } from './own-certificate';

const fieldsOf = (kind: KindView): FormField[] => kind.sections.flatMap((section) => section.fields);

function setOf(kind: KindView, { name, ...values }: Values, before: ConnectionSet | undefined): Partial<ConnectionSet> {
  const set = settingsOf(fieldsOf(kind), values, before ?? {});
  // What has a page of its own, such as accounts, stays as it is.
  const shown = new Set(fieldsOf(kind).map(({ key }) => key.split('.')[1]));
  const others = Object.entries(before?.settings ?? {}).filter(([key]) => !shown.has(key));
  const settings = { ...Object.fromEntries(others), ...(set.settings as Record<string, unknown> | undefined) };
  return { name: String(name), kind: kind.kind, ...set, settings };
}

export function NewConnection({ seen }: { seen: number }) {
  const go = useGo();
  const kinds = useKinds();
  const [chosen, setChosen] = useDraft('connection kind', '');
  const kind = kinds.find((k) => k.kind === chosen) ?? kinds[0];
  if (!kind) return null;
  return (
    <section aria-label="New connection" className="mb-3 rounded-md border border-line bg-raised p-4">
      <h2 className="mb-2 text-[1rem] font-semibold">New connection</h2>
      <div className="mb-3 flex flex-wrap items-start gap-3">
        <Field label="Kind" className="w-56" hint={kind.about}>
          {(p) => (
            <Choice {...p} value={kind.kind} onChange={(e) => setChosen(e.target.value)}>
              {kinds.map((k) => (
                <option key={k.kind} value={k.kind}>
                  {k.title}
                </option>
              ))}
            </Choice>
          )}
        </Field>
      </div>
      <ConnectionForm
        key={kind.kind}
        kind={kind}
        seen={seen}
        onMade={(id) => {
          keepDraft('connection kind', undefined);
          go({ connection: id, part: undefined });
        }}
      />
    </section>
  );
}

interface Props {
  kind: KindView;
  item?: Item<'connection'>;
  seen: number;
  onMade?: (id: string) => void;
}

export function ConnectionForm({ kind, item, seen, onMade }: Props) {
  const go = useGo();
  const fields = fieldsOf(kind);
  const initial: Values = { name: item?.set.name ?? kind.first, ...valuesOf(fields, item?.set ?? {}) };
  const form = useForm(initial, ['name', ...fields.map((f) => f.key)], {
    follow: true,
    draft: `connection ${item?.id ?? 'new'} ${kind.kind}`,
    secret: fields.filter((f) => f.control === 'pem_secret' || f.control === 'password').map((f) => f.key),
  });
  const [steps, setSteps] = useState<Step[] | null>(null);
  const [deleting, setDeleting] = useState(false);
  const climbing = useRef<AbortController | null>(null);
  const [busy, setBusy] = useState(false);
  const v = form.values;

  async function test() {
    climbing.current?.abort();
    const controller = new AbortController();
    climbing.current = controller;
    setSteps([]);
    setBusy(true);
    await form.probe(async (values) => {
      try {
        const body = { ...setOf(kind, values, item?.set), name: values.name || 'test' };
        const url = item ? `/api/connections/test?id=${item.id}` : '/api/connections/test';
        const climb = stream<Step>(url, { body, signal: controller.signal });
        for await (const step of climb) setSteps((old) => [...(old ?? []), step]);
      } catch (error) {
        if (controller.signal.aborted) return;
        setSteps(null);
        throw error instanceof Refused ? error : new Refused(0, 'The server cannot be reached.');
      }
    });
    setBusy(false);
  }

  // What a test found out goes into the form, and the test goes on from there when it is asked again.
  function takeOffer(offer: Offer) {
    change(taken(fields, v, offer.field, offer.value));
    setSteps(null);
  }

  async function save() {
    const id = item?.id ?? newId();
    const done = await form.run((values) => {
      const set = setOf(kind, values, item?.set);
      const why = item ? `Changed connection ${values.name}` : `Added connection ${values.name}`;
      return commit(why, seen, [
        item ? { op: 'patch', kind: 'connection', id, set } : { op: 'create', kind: 'connection', id, set },
      ]);
    });
    if (done) onMade?.(id);
  }

  const change = (next: Values) => {
    for (const [key, value] of Object.entries(next)) if (value !== v[key]) form.set(key, value);
  };
  const described = (some: readonly FormField[]) => (
    <DescribedFields
      fields={some}
      values={v}
      onChange={change}
      error={(key) => form.error(key) ?? form.theirs(key)}
      above={(field) => <ChangedElsewhere form={form} field={field.key} what={`“${field.label}”`} />}
      special={(field) =>
        field.control === 'own_certificate' ? (
          <OwnCertificate label={field.label} />
        ) : field.control !== 'groups' ? undefined : (
          <>
            <ChangedElsewhere form={form} field={field.key} what="the groups" />
            <GroupRows
              groups={(v[field.key] ?? []) as unknown as Group[]}
              problems={form.problems}
              onChange={(groups) => form.set(field.key, groups as unknown as Values[string])}
            />
          </>
        )
      }
    />
  );

  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      {kind.sections.map((section) => {
        const inside = described(section.fields);
        if (!section.title) {
          return (
            <div key="" className="grid max-w-3xl grid-cols-6 gap-x-3 gap-y-2.5">
              <Field label="Name" error={form.error('name') ?? form.theirs('name')} className="col-span-2">
                {(p) => <Input {...p} value={String(v.name ?? '')} onChange={(e) => form.set('name', e.target.value)} />}
              </Field>
              {inside}
            </div>
          );
        }
        if (!section.fields.some((field) => isShown(field, v))) return null;
        return section.folded ? (
          <details key={section.title} className="mt-3 max-w-3xl">
            <summary className="cursor-pointer text-teal">{section.title}</summary>
            <div className="mt-2 grid grid-cols-6 gap-x-3 gap-y-2.5">{inside}</div>
          </details>
        ) : (
          <fieldset key={section.title} className="mt-3 max-w-3xl rounded border border-line p-3">
            <legend className="px-1 text-sm text-soft">{section.title}</legend>
            <div className="grid grid-cols-6 gap-x-4 gap-y-2.5">{inside}</div>
          </fieldset>
        );
      })}
      <FormTrouble form={form} className="mt-2" />
      <div className="mt-3 flex flex-wrap gap-2">
        {kind.can.test && (
          <Button onClick={() => void test()} disabled={busy}>
            Test
          </Button>
        )}
        {busy && <Button onClick={() => climbing.current?.abort()}>Stop the test</Button>}
        <Button kind="main" type="submit" disabled={form.busy || Boolean(item && !form.dirty)}>
          {item ? 'Save connection' : 'Add this connection'}
        </Button>
        {item ? (
          <Button kind="quiet" className="ml-auto" onClick={() => setDeleting(true)}>
            Delete connection…
          </Button>
        ) : (
          <Button
            kind="quiet"
            onClick={() => {
              form.discard();
              keepDraft('connection kind', undefined);
              go({ connection: undefined });
            }}
          >
            Cancel
          </Button>
        )}
      </div>
      {steps && <Ladder steps={steps} busy={busy} onTake={takeOffer} />}
      {item && deleting && <DeleteConnection item={item} seen={seen} onClose={() => setDeleting(false)} />}
    </form>
  );
}
