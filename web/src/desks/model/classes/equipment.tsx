// A place as an instance of its class: its parameters, what it leaves out, and what it says itself.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, type Schemas, take } from '../../../api/client';
import type { Item, PlaceSet } from '../../../api/model';
import { commit, type Edit, made, useItems } from '../../../api/queries';
import { together } from '../../../app/of-class';
import { useGo } from '../../../app/view';
import { complain, numberOf, textOf, useForm } from '../../../parts/form';
import { ListField, PickField } from '../../../parts/picker';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Tick } from '../../../parts/ui';
import { fieldWords } from './difference';
import { useClasses } from './use-classes';

type View = Schemas['EquipmentView'];
type Place = Item<'place'>;

export function Equipment({ place, disabled }: { place: Place; disabled: boolean }) {
  const go = useGo();
  const view = useQuery({
    queryKey: ['classes', 'equipment', place.id],
    queryFn: () => take(http.GET('/api/places/{id}/equipment', { params: { path: { id: place.id } } })),
  }).data;
  if (!view) return null;
  return (
    <section aria-label="Equipment class" className="space-y-3">
      <div className="flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">Class</h2>
        <Button kind="quiet" onClick={() => go({ part: 'classes', class: view.class })}>
          {view.class_name}
        </Button>
        {view.part_of && <span className="text-soft">a part of {view.part_of.replaceAll('/', ' / ')}</span>}
        <span className="flex-1" />
        {!view.part_of && <ChangeClass place={place} view={view} disabled={disabled} />}
      </div>
      <ParameterForm key={JSON.stringify(view.parameters)} place={place} view={view} disabled={disabled} />
      <Overrides place={place} view={view} disabled={disabled} />
    </section>
  );
}

/** Makes a place that is of no class an instance of one. */
export function GiveClass({ place, disabled }: { place: Place; disabled: boolean }) {
  const classes = useClasses().data?.classes ?? [];
  const [to, setTo] = useState('');
  const form = useForm({}, []);
  if (classes.length === 0) return null;
  const give = () =>
    form.run(async () => {
      const answer = await take(
        http.POST('/api/places/{id}/class', { params: { path: { id: place.id } }, body: { class: to, taken: [] } }),
      );
      await made(answer.revision);
    });
  return (
    <section aria-label="Equipment class">
      <div className="flex items-center gap-2">
        <h2 className="font-semibold">Class</h2>
        <ListField
          label="Class"
          className="w-52"
          from={classes.map((c) => ({ id: c.id, title: c.name }))}
          none="of no class"
          disabled={disabled}
          value={to}
          onChange={setTo}
        />
        {to !== '' && (
          <Button kind="main" disabled={disabled || form.busy} onClick={() => void give()}>
            Make it an instance
          </Button>
        )}
      </div>
      <FormTrouble form={form} />
    </section>
  );
}

function ParameterForm({ place, view, disabled }: { place: Place; view: View; disabled: boolean }) {
  const connections = useItems('connection').data?.items ?? [];
  const start = {
    values: Object.fromEntries(view.parameters.map((p) => [p.id, textOf(p.value as number | null)])),
    without: view.members.filter((m) => m.without).map((m) => m.id),
  };
  const form = useForm(start, [...view.parameters.map((p) => `parameters.${p.id}`), 'without'], {
    draft: `equipment ${place.id}`,
  });
  const { values, without } = form.values;
  const title = (id: unknown) => connections.find((c) => c.id === id)?.set.name ?? '';
  async function store() {
    const said = view.parameters.flatMap((p) => {
      const text = (values[p.id] ?? '').trim();
      return text === '' ? [] : [[p.id, p.kind === 'number' ? numberOf(text) : text] as const];
    });
    const set = {
      parameters: said.length > 0 ? Object.fromEntries(said) : null,
      without: without.length > 0 ? without : null,
    } as { [F in keyof PlaceSet]?: PlaceSet[F] | null };
    await form.run(() =>
      commit(`Changed the parameters of ${place.title}`, view.revision, [{ op: 'patch', kind: 'place', id: place.id, set }]),
    );
  }
  return (
    <form
      aria-label="Parameters of the equipment"
      onSubmit={(e) => {
        e.preventDefault();
        void store();
      }}
    >
      <div className="flex flex-wrap gap-3">
        {view.parameters.map((p) => {
          const inherited = p.kind === 'connection' ? title(p.inherited) : textOf(p.inherited as number | null);
          const field = form.error(`parameters.${p.id}`);
          return (
            <Field key={p.id} label={p.name} error={field} hint={p.note || undefined} className="w-44">
              {(f) =>
                p.kind === 'connection' ? (
                  <PickField
                    field={f}
                    label={p.name}
                    kind="connection"
                    none={inherited || 'none'}
                    disabled={disabled}
                    value={values[p.id] ? { id: values[p.id] ?? '', title: title(values[p.id]) } : undefined}
                    onChange={(id) => form.set('values', { ...values, [p.id]: id ?? '' })}
                  />
                ) : (
                  <Input
                    {...f}
                    className={p.kind === 'number' ? 'figures text-right' : ''}
                    disabled={disabled}
                    placeholder={inherited}
                    value={values[p.id] ?? ''}
                    onChange={(e) => form.set('values', { ...values, [p.id]: e.target.value })}
                  />
                )
              }
            </Field>
          );
        })}
      </div>
      <details className="mt-2" open={without.length > 0}>
        <summary className="cursor-pointer text-soft">
          {without.length > 0
            ? `${without.length} of ${view.members.length} left out`
            : 'Has all properties and parts of its class'}
        </summary>
        <div className="mt-1 flex flex-wrap gap-x-5 gap-y-1">
          {view.members.map((m) => (
            <Tick
              key={m.id}
              label={m.name}
              checked={!without.includes(m.id)}
              disabled={disabled}
              onChange={(on) => form.set('without', on ? without.filter((id) => id !== m.id) : [...without, m.id])}
            />
          ))}
        </div>
      </details>
      <FormTrouble form={form} />
      {form.dirty && (
        <div className="mt-2 flex gap-2">
          <Button kind="main" type="submit" disabled={disabled || form.busy}>
            Save parameters
          </Button>
          <Button disabled={form.busy} onClick={form.discard}>
            Discard changes
          </Button>
        </div>
      )}
    </form>
  );
}

/** What the equipment says itself, over its class. */
function Overrides({ place, view, disabled }: { place: Place; view: View; disabled: boolean }) {
  async function back(of: View['overrides']) {
    const ids = Map.groupBy(of, (o) => o.id);
    const edits = [...ids].map(([id, all]) => ({
      op: 'patch' as const,
      kind: all[0]?.kind as 'tag',
      id,
      set: Object.fromEntries(all.map((o) => [o.field, null])),
    }));
    const what = of.length === 1 ? `${of[0]?.title} ${fieldWords(of[0]?.field ?? '')}` : `${of.length} overrides`;
    try {
      await commit(`Put back ${what} of ${place.title}`, view.revision, edits as Edit[]);
    } catch (error) {
      complain(error);
    }
  }
  const withIts = (o: View['overrides'][number]) => {
    const same = view.overrides.filter((other) => other.id === o.id);
    const fields = together(
      o.field,
      same.map((s) => s.field),
    );
    return same.filter((s) => fields.includes(s.field));
  };
  if (view.overrides.length === 0) return <p className="text-soft">No overrides: everything is as the class says.</p>;
  return (
    <div>
      <div className="mb-1 flex items-center gap-3">
        <h3 className="font-semibold">Overrides</h3>
        <Button kind="quiet" disabled={disabled} onClick={() => void back(view.overrides)}>
          Put all back
        </Button>
      </div>
      <div className="max-h-64 overflow-auto border border-line bg-raised">
        <table className="w-full text-left" aria-label="Overrides">
          <thead className="sticky top-0 bg-raised text-sm text-soft">
            <tr>
              <th className="px-2 font-normal">Property</th>
              <th className="px-2 font-normal">Setting</th>
              <th className="px-2 font-normal">Here</th>
              <th className="px-2 font-normal">Class</th>
              <th aria-label="Put back" />
            </tr>
          </thead>
          <tbody>
            {view.overrides.map((o) => (
              <tr key={`${o.id} ${o.field}`} className="h-7 border-t border-line">
                <td className="px-2">{o.title}</td>
                <td className="px-2">{fieldWords(o.field)}</td>
                <td className="px-2">{o.own || <span className="text-soft">nothing</span>}</td>
                <td className="px-2 text-soft">{o.inherited || 'nothing'}</td>
                <td className="px-1 text-right">
                  <Button
                    kind="quiet"
                    disabled={disabled}
                    aria-label={`Put back ${fieldWords(o.field)} of ${o.title}`}
                    onClick={() => void back(withIts(o))}
                  >
                    Put back
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

function ChangeClass({ place, view, disabled }: { place: Place; view: View; disabled: boolean }) {
  const classes = useClasses().data?.classes ?? [];
  const [open, setOpen] = useState(false);
  const [to, setTo] = useState('');
  const [taken, setTaken] = useState<Record<string, string>>({});
  const form = useForm({}, []);
  const path = { id: place.id, class: to };
  const offered = useQuery({
    queryKey: ['classes', 'taken', place.id, to],
    enabled: to !== '' && to !== 'none',
    queryFn: () => take(http.GET('/api/places/{id}/class/{class}', { params: { path } })),
  }).data;
  const target = useItems('class', { only: to }, to !== '' && to !== 'none').data?.items[0];
  const properties = Object.entries(target?.set.properties ?? {}).map(([id, p]) => ({ id, title: String(p.tag.name ?? '') }));
  const chosen = (property: string, offer: string | null | undefined) => taken[property] ?? offer ?? '';
  async function change() {
    const body = {
      class: to === 'none' ? null : to,
      taken: (offered ?? []).map((t) => ({ property: t.property, to: chosen(t.property, t.to) || null })),
    };
    const done = await form.run(async () => {
      const answer = await take(http.POST('/api/places/{id}/class', { params: { path: { id: place.id } }, body }));
      await made(answer.revision);
    });
    if (done) setOpen(false);
  }
  return (
    <>
      <Button
        disabled={disabled}
        onClick={() => {
          setTo('');
          setTaken({});
          setOpen(true);
        }}
      >
        Change class…
      </Button>
      <Confirm
        open={open}
        title={`Another class for ${place.set.name}`}
        action="Change class"
        disabled={to === '' || form.busy || (to !== 'none' && !offered)}
        onConfirm={() => void change()}
        onClose={() => setOpen(false)}
      >
        <ListField
          label="Class"
          from={[
            { id: 'none', title: 'no class: keep the tags as they are' },
            ...classes.filter((c) => c.id !== view.class).map((c) => ({ id: c.id, title: c.name })),
          ]}
          none="choose a class"
          value={to}
          onChange={setTo}
        />
        {to === 'none' && <p className="mt-2">The tags keep everything that the class says today, and no longer follow it.</p>}
        {to !== 'none' && offered && (
          <div className="mt-2 max-h-64 overflow-auto">
            <p className="mb-1">Tags go on with their history as the property that you choose.</p>
            <table className="w-full text-left">
              <tbody>
                {offered.map((t) => (
                  <tr key={t.property} className="h-8">
                    <td className="pr-2">{t.name}</td>
                    <td>
                      <Choice
                        aria-label={`${t.name} goes on as`}
                        value={chosen(t.property, t.to)}
                        onChange={(e) => setTaken({ ...taken, [t.property]: e.target.value })}
                      >
                        <option value="">its tag is deleted</option>
                        {properties.map((p) => (
                          <option key={p.id} value={p.id}>
                            {p.title}
                          </option>
                        ))}
                      </Choice>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
        <FormTrouble form={form} />
      </Confirm>
    </>
  );
}
