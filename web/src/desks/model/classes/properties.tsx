// The properties of a class: a row each, and one of them open with all that it says.

import { ChevronDown, ChevronRight, Plus, X } from 'lucide-react';
import { useRef, useState } from 'react';
import type { Wrong } from '../../../api/client';
import type { PropertyKind, RollUp } from '../../../api/model';
import { useItems } from '../../../api/queries';
import { PointFields } from '../../../app/point-fields';
import { OwnFormula } from '../../../parts/formula/own-formula';
import { useKinds } from '../../../parts/kinds';
import { ListField, PickField } from '../../../parts/picker';
import { StatesField } from '../../../parts/states-field';
import { Button, Choice, Field, Input, Tick } from '../../../parts/ui';
import { UnitField } from '../../../parts/unit-field';
import { ClassRules } from './class-rules';
import { newProperty, ownRenamed, type ParameterRow, type PropertyRow } from './rows';

export const PROPERTY_WORDS: Record<PropertyKind, string> = {
  measured: 'measured',
  setting: 'setting',
  command: 'command',
  computed: 'computed',
};
const ROLL_UPS: Record<RollUp, string> = {
  none: 'none',
  sum: 'sum',
  average: 'average',
  lowest: 'lowest',
  highest: 'highest',
  count: 'how many are on',
};

interface Props {
  rows: PropertyRow[];
  parameters: readonly ParameterRow[];
  /** What formulas can name of the parts: “Zone 1/Temperature”. */
  ofParts: readonly string[];
  problems: readonly Wrong[];
  /** Of a class that extends another: what it says itself of properties. */
  own: Record<string, unknown> | undefined;
  disabled: boolean;
  onChange: (rows: PropertyRow[]) => void;
}

export function Properties({ rows, parameters, ofParts, problems, own, disabled, onChange }: Props) {
  const [open, setOpen] = useState<string>();
  const before = useRef('');
  const change = (id: string, part: Partial<PropertyRow>) =>
    onChange(rows.map((row) => (row.id === id ? { ...row, ...part } : row)));
  const field = (row: PropertyRow, name: keyof PropertyRow['fields'], value: string) =>
    change(row.id, { fields: { ...row.fields, [name]: value } });
  const namesBeside = (row: PropertyRow) => {
    const others = rows.filter((other) => other.id !== row.id).map((other) => other.fields.name.trim());
    return [...others, ...parameters.map((p) => p.name.trim()), ...ofParts].filter(Boolean);
  };
  const shift = (index: number, by: number) => {
    const next = [...rows];
    const [row] = next.splice(index, 1);
    if (row) next.splice(index + by, 0, row);
    onChange(next);
  };
  return (
    <section aria-label="Properties">
      <h3 className="mb-1 font-semibold">Properties</h3>
      <div className="border border-line bg-raised">
        <div className="grid grid-cols-[1.75rem_minmax(9rem,1.6fr)_6.75rem_4.5rem_4.25rem_4.25rem_2.5rem_minmax(5rem,1fr)_2rem] items-center gap-1 px-1 py-0.5 text-sm text-soft">
          <span />
          <span>Name</span>
          <span>Kind</span>
          <span>Unit</span>
          <span>Range from</span>
          <span>to</span>
          <span>Main</span>
          <span>Source</span>
          <span />
        </div>
        {rows.map((row, i) => {
          const wrong = problems.filter((p) => p.field.startsWith(`properties.${row.id}.`));
          const at = (name: string) => wrong.some((p) => p.field === `properties.${row.id}.tag.${name}`);
          const of = row.fields.name || `property ${i + 1}`;
          return (
            <div key={row.id} className="border-t border-line">
              <div className="grid grid-cols-[1.75rem_minmax(9rem,1.6fr)_6.75rem_4.5rem_4.25rem_4.25rem_2.5rem_minmax(5rem,1fr)_2rem] items-center gap-1 px-1 py-0.5">
                <Button
                  kind="quiet"
                  className="px-1"
                  aria-label={`Details of ${of}`}
                  aria-expanded={open === row.id}
                  onClick={() => setOpen(open === row.id ? undefined : row.id)}
                >
                  {open === row.id ? <ChevronDown className="size-4 shrink-0" /> : <ChevronRight className="size-4 shrink-0" />}
                </Button>
                <Input
                  aria-label={`Name of property ${i + 1}`}
                  aria-invalid={at('name')}
                  disabled={disabled}
                  value={row.fields.name}
                  onFocus={() => {
                    before.current = row.fields.name;
                  }}
                  onBlur={(e) => {
                    // Formulas of the others follow the new name.
                    const [old, name] = [before.current.trim(), e.target.value.trim()];
                    if (old && name && old !== name) onChange(ownRenamed(rows, old, name));
                  }}
                  onChange={(e) => field(row, 'name', e.target.value)}
                  onKeyDown={(e) => {
                    if (!e.altKey || (e.key !== 'ArrowUp' && e.key !== 'ArrowDown')) return;
                    e.preventDefault();
                    shift(i, e.key === 'ArrowUp' ? -1 : 1);
                  }}
                />
                <Choice
                  aria-label={`Kind of ${of}`}
                  disabled={disabled}
                  value={row.kind}
                  onChange={(e) => change(row.id, { kind: e.target.value as PropertyKind })}
                >
                  {Object.entries(PROPERTY_WORDS).map(([kind, words]) => (
                    <option key={kind} value={kind}>
                      {words}
                    </option>
                  ))}
                </Choice>
                <UnitField
                  aria-label={`Unit of ${of}`}
                  aria-invalid={at('unit')}
                  disabled={disabled}
                  value={row.fields.unit}
                  onChange={(unit) => field(row, 'unit', unit)}
                />
                {(['range_low', 'range_high'] as const).map((name) => (
                  <Input
                    key={name}
                    aria-label={`Range ${name === 'range_low' ? 'from' : 'to'} of ${of}`}
                    aria-invalid={at(name)}
                    className="figures text-right"
                    disabled={disabled}
                    value={row.fields[name]}
                    onChange={(e) => field(row, name, e.target.value)}
                  />
                ))}
                <span className="flex justify-center">
                  <Tick
                    hideLabel
                    label={`${of} is a main value`}
                    checked={row.main}
                    disabled={disabled}
                    onChange={(main) => change(row.id, { main })}
                  />
                </span>
                <Source row={row} />
                <Button
                  kind="quiet"
                  className="px-1"
                  disabled={disabled}
                  aria-label={`Remove ${of}`}
                  onClick={() => onChange(rows.filter((other) => other.id !== row.id))}
                >
                  <X className="size-3.5 shrink-0" />
                </Button>
              </div>
              {own && !(row.id in own) && <p className="px-9 text-sm text-soft">Inherited from the base class.</p>}
              {[...new Set(wrong.map((p) => p.message))].map((message) => (
                <p className="px-9 pb-1 text-sm text-act4" key={message}>
                  {message}
                </p>
              ))}
              {open === row.id && (
                <Details
                  row={row}
                  rows={rows}
                  parameters={parameters}
                  names={namesBeside(row)}
                  disabled={disabled}
                  field={(name, value) => field(row, name, value)}
                  change={(part) => change(row.id, part)}
                />
              )}
            </div>
          );
        })}
      </div>
      <div className="mt-1 flex items-center gap-3">
        <Button
          disabled={disabled}
          onClick={() => {
            const row = newProperty();
            onChange([...rows, row]);
            setOpen(row.id);
          }}
        >
          <Plus className="size-4" /> Property
        </Button>
        {rows.length > 1 && <span className="text-sm text-soft">Alt with the arrow keys moves the row of a name.</span>}
      </div>
    </section>
  );
}

/** Where a property is read, in short. */
function Source({ row }: { row: PropertyRow }) {
  const { address, block, member, index, ...rest } = row.point;
  const first = address ?? Object.values(rest).find((value) => typeof value === 'string');
  const words =
    row.kind === 'computed'
      ? row.formula
      : block
        ? `block, instance ${index ?? 0}`
        : String(first ?? (row.connection ? '' : '—'));
  return (
    <span className="truncate text-sm text-soft" title={words}>
      {words}
    </span>
  );
}

interface DetailProps {
  row: PropertyRow;
  rows: readonly PropertyRow[];
  parameters: readonly ParameterRow[];
  /** What its formulas can name. */
  names: readonly string[];
  disabled: boolean;
  field: (name: keyof PropertyRow['fields'], value: string) => void;
  change: (part: Partial<PropertyRow>) => void;
}

function Details({ row, rows, parameters, names, disabled, field, change }: DetailProps) {
  const text = (name: keyof PropertyRow['fields'], label: string, className: string) => (
    <Field label={label} className={className}>
      {(p) => <Input {...p} disabled={disabled} value={row.fields[name]} onChange={(e) => field(name, e.target.value)} />}
    </Field>
  );
  const others = rows.filter((other) => other.id !== row.id && other.fields.name.trim());
  const writes = row.kind === 'setting' || row.kind === 'command';
  return (
    <div className="space-y-2 border-t border-line bg-paper px-9 py-2">
      {row.kind === 'computed' ? (
        <Computed row={row} names={names} disabled={disabled} change={change} />
      ) : (
        <Binding row={row} parameters={parameters} disabled={disabled} change={change} />
      )}
      <div className="flex flex-wrap items-start gap-2">
        {text('decimals', 'Decimals', 'w-20')}
        <Field label="State names" className="w-40">
          {(p) => (
            <StatesField
              {...p}
              disabled={disabled}
              value={row.states || null}
              onChange={(states) => change({ states: states ?? '' })}
            />
          )}
        </Field>
        <Field label="Setpoint" className="w-40">
          {(p) => (
            <ListField
              field={p}
              label="Setpoint"
              from={others.map((other) => ({ id: other.id, title: other.fields.name }))}
              none="none"
              disabled={disabled}
              value={row.setpoint}
              onChange={(setpoint) => change({ setpoint })}
            />
          )}
        </Field>
        <Field label="Figure of an area" className="w-36">
          {(p) => (
            <Choice {...p} disabled={disabled} value={row.rollUp} onChange={(e) => change({ rollUp: e.target.value as RollUp })}>
              {Object.entries(ROLL_UPS).map(([how, words]) => (
                <option key={how} value={how}>
                  {words}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        {writes && text('write_low', 'Write from', 'w-24')}
        {writes && text('write_high', 'to', 'w-24')}
        <span className="mt-6">
          <Tick label="Record" checked={row.record} disabled={disabled} onChange={(record) => change({ record })} />
        </span>
        {row.record && text('record_deadband', 'Deadband', 'w-24')}
        {text('note', 'Note', 'min-w-40 flex-1')}
      </div>
      <ClassRules
        rows={row.rules}
        names={[row.fields.name.trim(), ...names]}
        disabled={disabled}
        onChange={(rules) => change({ rules })}
      />
    </div>
  );
}

function Binding({ row, parameters, disabled, change }: Pick<DetailProps, 'row' | 'parameters' | 'disabled' | 'change'>) {
  const connections = useItems('connection').data?.items ?? [];
  const kinds = useKinds();
  const [like, setLike] = useState<string>();
  const named = /^\[\[(.+)\]\]$/.exec(row.connection)?.[1]?.trim();
  const parameter = parameters.find((p) => p.kind === 'connection' && p.name === named);
  const connection = connections.find((c) => c.id === (parameter ? parameter.default : row.connection));
  const fits = kinds.find((kind) => {
    const keys = kind.point.map((f) => f.key.split('.')[0]);
    const said = Object.keys(row.point);
    return said.length > 0 && kind.point.length > 0 && said.every((key) => keys.includes(key));
  });
  const kind = like ?? connection?.set.kind ?? fits?.kind ?? '';
  const ofParameters = parameters.filter((p) => p.kind === 'connection' && p.name.trim());
  return (
    <div className="flex flex-wrap items-start gap-2">
      <Field label="Connection" className="w-48">
        {(p) => (
          <Choice
            {...p}
            disabled={disabled}
            value={named === undefined ? (row.connection ? 'one' : '') : row.connection}
            onChange={(e) => change({ connection: e.target.value === 'one' ? (connections[0]?.id ?? '') : e.target.value })}
          >
            <option value="">not read from anywhere</option>
            {ofParameters.map((p) => (
              <option key={p.id} value={`[[${p.name}]]`}>{`parameter ${p.name}`}</option>
            ))}
            {named !== undefined && !parameter && <option value={row.connection}>{row.connection}</option>}
            <option value="one">the same for all</option>
          </Choice>
        )}
      </Field>
      {row.connection && named === undefined && (
        <Field label="Which" className="w-44">
          {(p) => (
            <PickField
              field={p}
              label="Which connection"
              kind="connection"
              disabled={disabled}
              value={connection && { id: connection.id, title: connection.set.name }}
              onChange={(id) => change({ connection: id ?? '' })}
            />
          )}
        </Field>
      )}
      {row.connection && named !== undefined && !connection && (
        <Field label="Address as for" className="w-44">
          {(p) => (
            <Choice {...p} disabled={disabled} value={kind} onChange={(e) => setLike(e.target.value)}>
              <option value="">choose a kind</option>
              {kinds
                .filter((k) => k.point.length > 0)
                .map((k) => (
                  <option key={k.kind} value={k.kind}>
                    {k.title}
                  </option>
                ))}
            </Choice>
          )}
        </Field>
      )}
      {row.connection && row.point.block && (
        <Field label="Instance of the block" className="w-44">
          {(p) => (
            <Input
              {...p}
              disabled={disabled}
              value={String(row.point.index ?? 0)}
              onChange={(e) => change({ point: { ...row.point, index: e.target.value as never } })}
            />
          )}
        </Field>
      )}
      {row.connection && kind && !row.point.block && (
        <div className="min-w-80 flex-1">
          <PointFields
            kind={kind}
            source=""
            point={row.point}
            onChange={(point) => change({ point })}
            error={() => undefined}
            check={undefined}
            disabled={disabled}
          />
        </div>
      )}
    </div>
  );
}

function Computed({ row, names, disabled, change }: Pick<DetailProps, 'row' | 'names' | 'disabled' | 'change'>) {
  return (
    <div className="space-y-1">
      <OwnFormula
        label="Formula"
        text={row.formula}
        onText={(formula) => change({ formula })}
        names={names}
        disabled={disabled}
        placeholder="Type a number, a function, a property, or words of a tag’s path"
        hint={'own("Level") is the property Level of the same equipment; at("…") is a tag by its path.'}
      />
      <div className="flex gap-2">
        <Choice
          aria-label="Where units are mixed"
          className="w-56"
          disabled={disabled}
          value={row.mixed}
          onChange={(e) => change({ mixed: e.target.value as 'convert' | 'refuse' })}
        >
          <option value="convert">mixed units are converted</option>
          <option value="refuse">mixed units are refused</option>
        </Choice>
      </div>
    </div>
  );
}
