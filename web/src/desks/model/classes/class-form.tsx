// One class: what it says, what a change of it comes to, and who follows it.

import { Plus, X } from 'lucide-react';
import { useRef, useState } from 'react';
import { http, newId, type Schemas, take } from '../../../api/client';
import type { ClassSet, Level, ParameterKind } from '../../../api/model';
import { commit, differenceOf, type Edit, useItems } from '../../../api/queries';
import type { PlantTree } from '../../../api/tree';
import { useGo } from '../../../app/view';
import { type Form, useForm } from '../../../parts/form';
import { ListField, PickField } from '../../../parts/picker';
import { save } from '../../../parts/save';
import { counted } from '../../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, INPUT, Input } from '../../../parts/ui';
import { Compare } from './compare';
import { DifferenceTable } from './difference';
import { Properties } from './properties';
import {
  newParameter,
  newPart,
  ownRenamed,
  type ParameterRow,
  type PartRow,
  parameterRows,
  parametersOf,
  partRows,
  partsOf,
  propertiesOf,
  propertyRows,
  renamed,
} from './rows';
import { usePartNames } from './use-classes';

type View = Schemas['ClassView'];
type ClassRow = Schemas['ClassRow'];

const LEVELS: Level[] = ['site', 'area', 'line', 'unit', 'equipment', 'device'];

interface Props {
  view: View | undefined;
  classes: readonly ClassRow[];
  tree: PlantTree;
  seen: number;
  disabled: boolean;
}

export interface ClassValues {
  name: string;
  note: string;
  extends: string;
  level: string;
  parameters: ParameterRow[];
  properties: ReturnType<typeof propertyRows>;
  parts: PartRow[];
}

export function ClassForm({ view, classes, seen, disabled }: Props) {
  const go = useGo();
  const set = view?.set as unknown as ClassSet | undefined;
  const start: ClassValues = {
    name: set?.name ?? '',
    note: set?.note ?? '',
    extends: set?.extends ?? '',
    level: set?.level ?? 'equipment',
    parameters: parameterRows(set?.parameters ?? {}),
    properties: propertyRows(set?.properties ?? {}),
    parts: partRows(set?.parts ?? {}),
  };
  const form = useForm(start, Object.keys(start), { follow: true, draft: `class ${view?.id ?? 'new'}` });
  const [difference, setDifference] = useState<Schemas['EffectView']>();
  const [comparing, setComparing] = useState(false);
  const [deleting, setDeleting] = useState(false);
  const v = form.values;
  const ofParts = usePartNames(v.parts);
  const parameterKinds = useParameterKinds(classes);
  const wrong = (field: string) => form.problems.find((p) => p.field === field)?.message;

  function edit(): Edit {
    const changed = form.changed();
    const sent = {
      ...('name' in changed || !view ? { name: v.name.trim() } : {}),
      ...('note' in changed ? { note: v.note } : {}),
      ...('level' in changed || !view ? { level: (v.level || null) as Level | null } : {}),
      ...('extends' in changed ? { extends: v.extends || null } : {}),
      ...('parameters' in changed ? { parameters: parametersOf(v.parameters) } : {}),
      ...('properties' in changed ? { properties: propertiesOf(v.properties) } : {}),
      ...('parts' in changed ? { parts: partsOf(v.parts, parameterKinds) } : {}),
    };
    return view
      ? { op: 'patch', kind: 'class', id: view.id, set: sent }
      : { op: 'create', kind: 'class', id: newId(), set: sent };
  }

  const review = () => form.probe(async () => setDifference(await differenceOf(seen, [edit()])));
  async function take_in() {
    const wish = edit();
    const why = view ? `Changed the class ${v.name}` : `Created the class ${v.name}`;
    const done = await form.run(() => commit(why, seen, [wish]));
    setDifference(undefined);
    if (done && !view) go({ class: wish.id });
  }
  const follows = view ? view.count : 0;
  const put = <F extends keyof ClassValues>(field: F, value: ClassValues[F]) => {
    setDifference(undefined);
    form.set(field, value);
  };

  return (
    <form
      aria-label={view ? `Class ${set?.name}` : 'New class'}
      className="space-y-4 pb-2"
      onSubmit={(e) => {
        e.preventDefault();
        void (follows > 0 && !difference ? review() : take_in());
      }}
    >
      <div className="grid grid-cols-[2fr_1.4fr_1fr_3fr] items-start gap-3">
        <Field label="Name of the class" error={form.error('name') ?? form.theirs('name')}>
          {(p) => <Input {...p} disabled={disabled} value={v.name} onChange={(e) => put('name', e.target.value)} />}
        </Field>
        <Field label="Extends" error={form.error('extends')}>
          {(p) => (
            <ListField
              field={p}
              label="Extends"
              from={classes.filter((c) => c.id !== view?.id).map((c) => ({ id: c.id, title: c.name }))}
              none="no other class"
              disabled={disabled}
              value={v.extends}
              onChange={(id) => put('extends', id)}
            />
          )}
        </Field>
        <Field label="Level" error={form.error('level')}>
          {(p) => (
            <Choice {...p} disabled={disabled} value={v.level} onChange={(e) => put('level', e.target.value)}>
              {LEVELS.map((level) => (
                <option key={level}>{level}</option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="Note" error={form.error('note') ?? form.theirs('note')}>
          {(p) => <Input {...p} disabled={disabled} value={v.note} onChange={(e) => put('note', e.target.value)} />}
        </Field>
      </div>
      <Properties
        rows={v.properties}
        parameters={v.parameters}
        ofParts={ofParts}
        problems={form.problems}
        own={view && set?.extends ? ((view.own as unknown as ClassSet).properties ?? {}) : undefined}
        disabled={disabled}
        onChange={(rows) => put('properties', rows)}
      />
      <Parameters form={form} put={put} wrong={wrong} disabled={disabled} />
      <Parts form={form} put={put} wrong={wrong} classes={classes} disabled={disabled} />
      <FormTrouble form={form} />
      {difference && (
        <section aria-label="What changes" className="rounded border border-teal bg-raised p-3">
          <h3 className="mb-1 font-semibold">What changes on the equipment</h3>
          <DifferenceTable difference={difference} />
        </section>
      )}
      <div className="flex flex-wrap gap-2">
        {follows > 0 && !difference ? (
          <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy}>
            Show what changes
          </Button>
        ) : (
          <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy || !v.name.trim()}>
            {!view ? 'Create class' : follows > 0 ? `Change class and ${counted(follows, 'instance')}` : 'Save class'}
          </Button>
        )}
        <Button
          disabled={!form.dirty || form.busy}
          onClick={() => {
            setDifference(undefined);
            form.discard();
          }}
        >
          Discard changes
        </Button>
        <span className="flex-1" />
        {view && (
          <>
            <Button kind="quiet" onClick={() => setComparing(!comparing)}>
              Compare…
            </Button>
            <Button kind="quiet" onClick={() => void exported(view, v.name)}>
              Export
            </Button>
            <Button kind="quiet" disabled={disabled} onClick={() => setDeleting(true)}>
              Delete class…
            </Button>
          </>
        )}
      </div>
      {view && comparing && <Compare id={view.id} classes={classes} />}
      {view && <Instances view={view} />}
      {view && <DeleteClass view={view} name={v.name} seen={seen} open={deleting} onClose={() => setDeleting(false)} />}
    </form>
  );
}

/** Which parameters of which class are numbers. */
function useParameterKinds(classes: readonly ClassRow[]) {
  const items = useItems('class', {}, classes.length > 0).data?.items ?? [];
  return (of: string, parameter: string) => items.find((c) => c.id === of)?.set.parameters[parameter]?.kind === 'number';
}

async function exported(view: View, name: string) {
  const path = { id: view.id };
  const file = await take(http.GET('/api/classes/{id}/file', { params: { path }, parseAs: 'blob' }));
  save(`${name}.json`, file as unknown as Blob);
}

interface PartProps {
  form: Form<ClassValues>;
  put: <F extends keyof ClassValues>(field: F, value: ClassValues[F]) => void;
  wrong: (field: string) => string | undefined;
  disabled: boolean;
}

const KINDS: [ParameterKind, string][] = [
  ['number', 'number'],
  ['text', 'text'],
  ['connection', 'connection'],
];

function Parameters({ form, put, wrong, disabled }: PartProps) {
  const rows = form.values.parameters;
  const before = useRef('');
  /** What names the parameter follows its new name. */
  const follow = (name: string) => {
    const old = before.current.trim();
    if (!old || !name.trim() || old === name.trim()) return;
    put('properties', ownRenamed(renamed(form.values.properties, old, name.trim()), old, name.trim()));
    put('parts', renamed(form.values.parts, old, name.trim()));
  };
  const connections = useItems('connection').data?.items ?? [];
  const change = (id: string, part: Partial<ParameterRow>) =>
    put(
      'parameters',
      rows.map((row) => (row.id === id ? { ...row, ...part } : row)),
    );
  return (
    <section aria-label="Parameters">
      <h3 className="mb-1 font-semibold">Parameters</h3>
      <p className="mb-1 text-soft">
        What differs from one piece of equipment to the next. Write it in double brackets wherever a setting stands:{' '}
        <span className="figures">[[Base + 3]]</span>. <span className="figures">[[Name]]</span> is the name of the equipment.
      </p>
      {rows.length > 0 && (
        <table className="text-left">
          <thead className="text-sm text-soft">
            <tr>
              <th className="w-44 px-0.5 font-normal">Name</th>
              <th className="w-32 px-0.5 font-normal">Kind</th>
              <th className="w-44 px-0.5 font-normal">Default</th>
              <th className="w-64 px-0.5 font-normal">Note</th>
              <th aria-label="Remove" />
            </tr>
          </thead>
          <tbody>
            {rows.map((row, i) => {
              const trouble = wrong(`parameters.${row.id}.name`) ?? wrong(`parameters.${row.id}.default`);
              const of = `parameter ${i + 1}`;
              return (
                <tr key={row.id}>
                  <td className="p-0.5">
                    <Input
                      aria-label={`Name of ${of}`}
                      aria-invalid={Boolean(wrong(`parameters.${row.id}.name`))}
                      disabled={disabled}
                      value={row.name}
                      onFocus={() => {
                        before.current = row.name;
                      }}
                      onBlur={(e) => follow(e.target.value)}
                      onChange={(e) => change(row.id, { name: e.target.value })}
                    />
                  </td>
                  <td className="p-0.5">
                    <Choice
                      aria-label={`Kind of ${of}`}
                      disabled={disabled}
                      value={row.kind}
                      onChange={(e) => change(row.id, { kind: e.target.value as ParameterKind, default: '' })}
                    >
                      {KINDS.map(([kind, words]) => (
                        <option key={kind} value={kind}>
                          {words}
                        </option>
                      ))}
                    </Choice>
                  </td>
                  <td className="p-0.5">
                    {row.kind === 'connection' ? (
                      <PickField
                        label={`Default of ${of}`}
                        kind="connection"
                        none="none"
                        disabled={disabled}
                        value={connections
                          .filter((c) => c.id === row.default)
                          .map((c) => ({ id: c.id, title: c.set.name }))
                          .at(0)}
                        onChange={(id) => change(row.id, { default: id ?? '' })}
                      />
                    ) : (
                      <Input
                        aria-label={`Default of ${of}`}
                        aria-invalid={Boolean(wrong(`parameters.${row.id}.default`))}
                        disabled={disabled}
                        className={row.kind === 'number' ? 'figures text-right' : ''}
                        value={row.default}
                        onChange={(e) => change(row.id, { default: e.target.value })}
                      />
                    )}
                  </td>
                  <td className="p-0.5">
                    <Input
                      aria-label={`Note of ${of}`}
                      disabled={disabled}
                      value={row.note}
                      onChange={(e) => change(row.id, { note: e.target.value })}
                    />
                  </td>
                  <td>
                    <Button
                      kind="quiet"
                      disabled={disabled}
                      aria-label={`Remove ${of}`}
                      onClick={() =>
                        put(
                          'parameters',
                          rows.filter((other) => other.id !== row.id),
                        )
                      }
                    >
                      <X className="size-3.5" />
                    </Button>
                  </td>
                  {trouble && <td className="text-sm text-act4">{trouble}</td>}
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      <Button disabled={disabled} className="mt-1" onClick={() => put('parameters', [...rows, newParameter()])}>
        <Plus className="size-4" /> Parameter
      </Button>
    </section>
  );
}

function Parts({ form, put, wrong, classes, disabled }: PartProps & { classes: readonly ClassRow[] }) {
  const rows = form.values.parts;
  const items = useItems('class', {}, rows.length > 0).data?.items ?? [];
  const change = (id: string, part: Partial<PartRow>) =>
    put(
      'parts',
      rows.map((row) => (row.id === id ? { ...row, ...part } : row)),
    );
  return (
    <section aria-label="Parts">
      <h3 className="mb-1 font-semibold">Parts</h3>
      {rows.length === 0 && (
        <p className="mb-1 text-soft">Equipment of other classes that each instance is made of: four zones, each with a fan.</p>
      )}
      {rows.map((row, i) => {
        const of = items.find((c) => c.id === row.class);
        const trouble = form.problems.filter((p) => p.field.startsWith(`parts.${row.id}`)).map((p) => p.message)[0];
        const parameters = Object.entries(of?.set.parameters ?? {}).sort(([, a], [, b]) => a.order - b.order);
        return (
          <div key={row.id} className="mb-1 flex flex-wrap items-start gap-2">
            <Field label={`Part ${i + 1}`} className="w-48" error={wrong(`parts.${row.id}.name`)}>
              {(p) => (
                <Input
                  {...p}
                  disabled={disabled}
                  placeholder="Zone [[Number]]"
                  value={row.name}
                  onChange={(e) => change(row.id, { name: e.target.value })}
                />
              )}
            </Field>
            <Field label="Class" className="w-40">
              {(p) => (
                <ListField
                  field={p}
                  label={`Class of part ${i + 1}`}
                  from={classes.map((c) => ({ id: c.id, title: c.name }))}
                  disabled={disabled}
                  value={row.class}
                  onChange={(id) => change(row.id, { class: id, parameters: {} })}
                />
              )}
            </Field>
            <Field label="Count" className="w-16">
              {(p) => (
                <Input
                  {...p}
                  className="figures text-right"
                  disabled={disabled}
                  value={row.count}
                  onChange={(e) => change(row.id, { count: e.target.value })}
                />
              )}
            </Field>
            <Button
              kind="quiet"
              className="mt-5"
              disabled={disabled}
              aria-label={`Remove part ${i + 1}`}
              onClick={() =>
                put(
                  'parts',
                  rows.filter((other) => other.id !== row.id),
                )
              }
            >
              <X className="size-3.5" />
            </Button>
            {parameters.map(([id, parameter]) => (
              <Field key={id} label={parameter.name} className="w-36">
                {(p) => (
                  <Input
                    {...p}
                    disabled={disabled}
                    placeholder="as above"
                    value={row.parameters[id] ?? ''}
                    onChange={(e) => change(row.id, { parameters: { ...row.parameters, [id]: e.target.value } })}
                  />
                )}
              </Field>
            ))}
            {trouble && <p className="w-full text-sm text-act4">{trouble}</p>}
          </div>
        );
      })}
      {wrong('parts') && <p className="text-sm text-act4">{wrong('parts')}</p>}
      {classes.length > 0 && (
        <Button disabled={disabled} onClick={() => put('parts', [...rows, newPart(classes[0]?.id ?? '')])}>
          <Plus className="size-4" /> Part
        </Button>
      )}
    </section>
  );
}

function Instances({ view }: { view: View }) {
  const go = useGo();
  return (
    <section aria-label="Instances">
      <h3 className="mb-1 font-semibold">
        {view.count === 0 ? 'No equipment is of this class' : counted(view.count, 'instance')}
      </h3>
      {view.used.length > 0 && <p className="mb-1 text-soft">Used elsewhere: {view.used.join('; ')}.</p>}
      {view.instances.length > 0 && (
        <ul className={`${INPUT} h-auto max-h-48 overflow-auto px-0`}>
          {view.instances.map((one) => (
            <li key={one.id} className="flex h-7 items-center gap-3 px-2 hover:bg-band">
              <button
                type="button"
                className="min-w-0 flex-1 truncate text-left hover:text-teal"
                onClick={() => go({ at: one.id, part: 'place' })}
              >
                {one.path.replaceAll('/', ' / ')}
              </button>
              {one.without > 0 && <span className="text-sm text-soft">{one.without} left out</span>}
              {one.own > 0 && <span className="text-sm text-soft">{counted(one.own, 'override')}</span>}
            </li>
          ))}
        </ul>
      )}
      {view.count > view.instances.length && (
        <p className="mt-1 text-sm text-soft">{view.count - view.instances.length} more are not shown.</p>
      )}
    </section>
  );
}

interface DeleteProps {
  view: View;
  name: string;
  seen: number;
  open: boolean;
  onClose: () => void;
}

function DeleteClass({ view, name, seen, open, onClose }: DeleteProps) {
  const go = useGo();
  const form = useForm({}, []);
  const used = view.count > 0 || view.used.length > 0;
  return (
    <Confirm
      open={open}
      title={`Delete the class ${name}?`}
      action="Delete class"
      disabled={used || form.busy}
      onConfirm={() =>
        void form
          .run(() => commit(`Deleted the class ${name}`, seen, [{ op: 'delete', kind: 'class', id: view.id }]))
          .then((done) => done && go({ class: undefined }))
      }
      onClose={onClose}
    >
      {used && (
        <p className="text-act4">
          It cannot be deleted yet:{' '}
          {[...(view.count > 0 ? [`${counted(view.count, 'place')} of it`] : []), ...view.used].join('; ')}. Give that equipment
          another class first.
        </p>
      )}
      <FormTrouble form={form} />
    </Confirm>
  );
}
