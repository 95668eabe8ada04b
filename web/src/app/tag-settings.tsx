// A tag's own settings, in the inspector.

import { useQuery } from '@tanstack/react-query';
import { Suspense, useState } from 'react';
import { http, take } from '../api/client';
import type { Item, Point } from '../api/model';
import { commit, useItems, useTags } from '../api/queries';
import { numberOf, textOf, useForm } from '../parts/form';
import { FormulaText } from '../parts/formula/formula-text';
import { ListField, PickField } from '../parts/picker';
import { ScalingField } from '../parts/scaling-field';
import { StatesField } from '../parts/states-field';
import { Button, Confirm, Field, FormTrouble, Input, Tick } from '../parts/ui';
import { UnitField } from '../parts/unit-field';
import { late } from './late';
import { leaveOut, OfClass } from './of-class';
import { PointFields } from './point-fields';
import { usesOf } from './uses';
import { useGo } from './view';

const FindSource = late(async () => (await import('./find-source')).FindSource).component;

/** The address as it goes on the wire, or what is wrong with it, while it is typed. */
export function usePointCheck(connection: string | null, point: Partial<Point>) {
  return useQuery({
    queryKey: ['point', connection, point],
    enabled: Boolean(connection && (point.address || point.block)),
    queryFn: () =>
      take(http.POST('/api/points/check', { body: { connection: connection ?? '', point: point as Record<string, never> } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
}

/** What a field that was emptied sends: null would only put back what the class of its equipment says. */
export function emptied({ inherited }: Pick<Item<'tag'>, 'inherited'>, field: string, value: unknown): unknown {
  const said = inherited?.[field] ?? null;
  return value === null && said !== null ? { empty: true } : value;
}

export function TagSettings({ tag, seen, disabled }: { tag: Item<'tag'>; seen: number; disabled: boolean }) {
  const { set } = tag;
  const go = useGo();
  const connections = useItems('connection').data?.items ?? [];
  const [deleting, setDeleting] = useState(false);
  const [finding, setFinding] = useState(false);
  const start = {
    name: set.name,
    unit: set.unit,
    states: set.states,
    decimals: textOf(set.decimals),
    range_low: textOf(set.range_low),
    range_high: textOf(set.range_high),
    record_deadband: textOf(set.record_deadband),
    connection: set.connection,
    group: set.group,
    point: set.point,
    scaling: set.scaling,
    writable: set.writable,
    setpoint: set.setpoint,
    note: set.note,
  };
  const form = useForm(start, Object.keys(start), { follow: true, draft: `tag ${tag.id}` });
  const v = form.values;
  const check = usePointCheck(v.connection, v.point);
  const connection = connections.find((c) => c.id === v.connection);
  const setpoint = useTags(v.setpoint ? [v.setpoint] : [])[0];

  const save = () =>
    form.run(() => {
      // Only what was changed here: what somebody else changed beside it stays.
      const own = form.changed();
      const numbers = (['decimals', 'range_low', 'range_high', 'record_deadband'] as const).filter((f) => own[f] !== undefined);
      const read = Object.fromEntries(numbers.map((f) => [f, numberOf(own[f] ?? '')]));
      const set = Object.fromEntries(
        Object.entries({ ...own, ...read }).map(([field, value]) => [field, emptied(tag, field, value)]),
      );
      return commit(`Changed ${tag.title}`, seen, [{ op: 'patch', kind: 'tag', id: tag.id, set: set as TagPatch }]);
    });

  const text = (
    field: 'name' | 'decimals' | 'range_low' | 'range_high' | 'record_deadband' | 'note',
    label: string,
    className = '',
  ) => (
    <Field label={label} error={form.error(field) ?? form.theirs(field)} className={className}>
      {(p) => <Input {...p} disabled={disabled} value={v[field]} onChange={(e) => form.set(field, e.target.value)} />}
    </Field>
  );

  return (
    <form
      className="space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      {tag.set.property && <OfClass tag={tag} seen={seen} disabled={disabled} />}
      {text('name', 'Name')}
      <div className="grid grid-cols-3 gap-2">
        <Field label="Unit" error={form.error('unit') ?? form.theirs('unit')}>
          {(p) => <UnitField {...p} disabled={disabled} value={v.unit} onChange={(next) => form.set('unit', next)} />}
        </Field>
        {text('decimals', 'Decimals')}
        {text('record_deadband', 'Deadband')}
        {text('range_low', 'Range from')}
        {text('range_high', 'to')}
      </div>
      <Field label="State names" error={form.error('states') ?? form.theirs('states')}>
        {(p) => <StatesField {...p} disabled={disabled} value={v.states} onChange={(next) => form.set('states', next)} />}
      </Field>
      {tag.set.formula ? (
        <Computed tag={tag} />
      ) : (
        <Field label="Connection" error={form.error('connection') ?? form.theirs('connection')}>
          {(p) => (
            <PickField
              field={p}
              label="Connection"
              kind="connection"
              none="none"
              disabled={disabled}
              value={connection && { id: connection.id, title: connection.set.name }}
              onChange={(id) => {
                form.set('connection', id);
                // A group and a place in a device belong to their connection.
                form.set('group', null);
                if (id !== v.connection) form.set('point', {});
              }}
            />
          )}
        </Field>
      )}
      {!tag.set.formula && !finding && (
        <Button kind="quiet" disabled={disabled} onClick={() => setFinding(true)}>
          Find its source…
        </Button>
      )}
      {finding && (
        <Suspense>
          <FindSource
            tag={tag}
            disabled={disabled}
            onClose={() => setFinding(false)}
            onPick={(connection, point) => {
              form.set('connection', connection);
              form.set('group', null);
              form.set('point', point as Point);
            }}
          />
        </Suspense>
      )}
      {!tag.set.formula && !v.connection && (
        <Button kind="quiet" disabled={disabled} onClick={() => go({ part: 'formulas', formula: tag.id }, '/model')}>
          Compute it by a formula…
        </Button>
      )}
      {connection && (
        <PointFields
          kind={connection.set.kind}
          source={tag.source}
          point={v.point}
          onChange={(next) => form.set('point', next)}
          error={(field) => form.error(`point.${field}`, ...(field === 'address' ? ['point'] : []))}
          check={check.data}
          disabled={disabled}
        />
      )}
      {connection && connection.set.groups.length > 0 && (
        <Field label="Polling group" error={form.error('group') ?? form.theirs('group')}>
          {(p) => (
            <ListField
              label="Polling group"
              from={connection.set.groups.map((g) => ({ id: g.id, title: `${g.name}, every ${g.interval_ms / 1000} s` }))}
              none="the connection's own rhythm"
              field={p}
              disabled={disabled}
              value={v.group ?? ''}
              onChange={(id) => form.set('group', id || null)}
            />
          )}
        </Field>
      )}
      <Field label="Setpoint" error={form.error('setpoint') ?? form.theirs('setpoint')}>
        {(p) => (
          <PickField
            field={p}
            label="Setpoint"
            kind="tag"
            none="none"
            under={set.place}
            accept={(hit) => hit.id !== tag.id && hit.tag?.holds !== 'text'}
            disabled={disabled}
            value={setpoint && { id: setpoint.id, title: setpoint.title }}
            onChange={(id) => form.set('setpoint', id)}
          />
        )}
      </Field>
      {!tag.set.formula && (
        <>
          <ScalingField
            value={v.scaling}
            onChange={(s) => form.set('scaling', s)}
            disabled={disabled}
            error={form.error('scaling', 'scaling.raw_low', 'scaling.raw_high', 'scaling.high') ?? form.theirs('scaling')}
          />
          <Tick
            label="Values may be written"
            checked={v.writable}
            disabled={disabled}
            onChange={(on) => form.set('writable', on)}
          />
          {form.error('writable') && <p className="text-sm text-act4">{form.error('writable')}</p>}
        </>
      )}
      {text('note', 'Note')}
      <FormTrouble form={form} />
      <div className="flex justify-between pt-1">
        <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy}>
          Save settings
        </Button>
        <Button kind="quiet" disabled={disabled} onClick={() => setDeleting(true)}>
          {tag.set.property ? 'Leave out…' : 'Delete tag…'}
        </Button>
      </div>
      {deleting && <DeleteTag tag={tag} seen={seen} onClose={() => setDeleting(false)} />}
    </form>
  );
}

/** What a computed tag is computed from; changed where there is room for it. */
function Computed({ tag }: { tag: Item<'tag'> }) {
  const go = useGo();
  return (
    <div>
      <p className="text-sm text-soft">Formula</p>
      <p className="my-0.5">
        <FormulaText text={tag.formulas?.formula ?? ''} />
      </p>
      <Button onClick={() => go({ part: 'formulas', formula: tag.id }, '/model')}>Open formula</Button>
    </div>
  );
}

type TagPatch = { [F in keyof Item<'tag'>['set']]?: Item<'tag'>['set'][F] | null };

function DeleteTag({ tag, seen, onClose }: { tag: Item<'tag'>; seen: number; onClose: () => void }) {
  const form = useForm({}, []);
  const uses = useQuery(usesOf('tag', tag.id));
  const rules = uses.data?.contents.rule ?? 0;
  const held = uses.data?.referrers ?? [];
  const remove = () =>
    form
      .run(() =>
        tag.set.property
          ? leaveOut(tag)
          : commit(`Deleted ${tag.title}`, seen, [{ op: 'delete', kind: 'tag', id: tag.id, contents: true }]),
      )
      .then((done) => done && onClose());
  return (
    <Confirm
      open
      title={tag.set.property ? `Leave out ${tag.set.name} here?` : `Delete ${tag.set.name}?`}
      action={tag.set.property ? 'Leave out' : 'Delete tag'}
      disabled={!uses.data || held.length > 0 || form.busy}
      onConfirm={() => void remove()}
      onClose={onClose}
    >
      {tag.set.property && <p>Other equipment of the class keeps it. It comes back when it is no longer left out.</p>}
      {rules > 0 && <p>Its {rules} alarm rules are deleted too. Recorded history stays in the database.</p>}
      {held.length > 0 && <p className="text-act4">It cannot be deleted yet: {held.map((r) => r.words).join('; ')}.</p>}
      <FormTrouble form={form} />
    </Confirm>
  );
}
