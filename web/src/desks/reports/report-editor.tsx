// What a report says: period and sections.

import { ArrowDown, ArrowUp, X } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { FIGURES, type Item, type LookupEvery, type Section } from '../../api/model';
import { commit, useItems, useTags } from '../../api/queries';
import { PROOF_WORDS, type Proof } from '../../app/loop-check';
import { useGo } from '../../app/view';
import { FIGURE_NAMES, SPAN_UNITS } from '../../parts/figure-names';
import { numberOf, textOf, useForm } from '../../parts/form';
import { Picker, PickField } from '../../parts/picker';
import { counted, pathEnd } from '../../parts/text';
import { Button, ChangedElsewhere, Choice, Confirm, Field, FormTrouble, INPUT, Input, Tick } from '../../parts/ui';

const NAMES: Record<Section['kind'], string> = {
  text: 'Text',
  summary: 'Statistics',
  values: 'Values at the end',
  table: 'Table',
  trend: 'Trend',
  alarms: 'Alarms',
  alarm_figures: 'Alarm performance',
  loop_checks: 'Loop checks',
};

/** What a new section begins as. */
const FRESH: Record<Section['kind'], Section> = {
  text: { kind: 'text', text: '' },
  summary: { kind: 'summary', tags: [] },
  values: { kind: 'values', tags: [] },
  table: { kind: 'table', tags: [], every: { count: 1, unit: 'hour' }, figure: 'average', below: [] },
  trend: { kind: 'trend', tags: [] },
  alarms: { kind: 'alarms' },
  alarm_figures: { kind: 'alarm_figures' },
  loop_checks: { kind: 'loop_checks', proofs: ['never', 'failed', 'changed'] },
};

const labelOf = (label: { width: string; height: string } | null) =>
  label && { width: numberOf(label.width) ?? 0, height: numberOf(label.height) ?? 0 };

interface Props {
  report: Item<'report'>;
  seen: number;
  disabled: boolean;
}

export function ReportEditor({ report, seen, disabled }: Props) {
  const { set } = report;
  const go = useGo();
  const places = useItems('place').data?.items ?? [];
  const sending = (useItems('dispatch').data?.items ?? []).filter((one) => one.set.report === report.id).length;
  const form = useForm(
    {
      name: set.name,
      place: set.place,
      minutes: textOf(set.minutes),
      zone: set.zone,
      sections: set.sections,
      label: set.label ? { width: textOf(set.label.width), height: textOf(set.label.height) } : null,
    },
    undefined,
    { follow: true, draft: `report ${report.id}` },
  );
  const [deleting, setDeleting] = useState(false);
  const [unit, setUnit] = useState<number>(() => unitOf(textOf(set.minutes)));
  const v = form.values;
  const sections = (next: Section[]) => form.set('sections', next);
  const replace = (index: number, section: Section) => sections(v.sections.map((s, i) => (i === index ? section : s)));
  const swap = (a: number, b: number) => {
    const next = [...v.sections];
    const [x, y] = [next[a], next[b]];
    if (!x || !y) return;
    next[a] = y;
    next[b] = x;
    sections(next);
  };
  const save = () =>
    form.run((values) =>
      commit(`Changed report ${values.name}`, seen, [
        {
          op: 'patch',
          kind: 'report',
          id: report.id,
          set: { ...values, minutes: numberOf(values.minutes), label: labelOf(values.label) },
        },
      ]),
    );
  return (
    <form
      aria-label="Report"
      className="space-y-2"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <Field label="Name" error={form.error('name') ?? form.theirs('name')}>
        {(p) => <Input {...p} disabled={disabled} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <ChangedElsewhere form={form} field="place" what="the place" />
      <Field label="Place" error={form.error('place')}>
        {(p) => (
          <PickField
            field={p}
            label="Place"
            kind="place"
            none="whole plant"
            disabled={disabled}
            value={places.find((place) => place.id === v.place)}
            onChange={(id) => form.set('place', id)}
          />
        )}
      </Field>
      <div className="grid grid-cols-2 gap-2">
        <Field label="Period: the last" error={form.error('minutes') ?? form.theirs('minutes')}>
          {(p) => (
            <div className="flex gap-1">
              <Input
                {...p}
                disabled={disabled}
                className="figures w-14 shrink-0 text-right"
                value={amount(v.minutes, unit)}
                onChange={(e) => form.set('minutes', minutesOf(e.target.value, unit))}
              />
              <Choice
                aria-label="Unit of the period"
                className="min-w-0 flex-1"
                disabled={disabled}
                value={unit}
                onChange={(e) => {
                  const next = Number(e.target.value);
                  form.set('minutes', minutesOf(amount(v.minutes, unit), next));
                  setUnit(next);
                }}
              >
                {PERIODS.map(([minutes, word]) => (
                  <option key={minutes} value={minutes}>
                    {word}
                  </option>
                ))}
              </Choice>
            </div>
          )}
        </Field>
        <Field label="Time zone" error={form.error('zone') ?? form.theirs('zone')}>
          {(p) => <Input {...p} disabled={disabled} value={v.zone} onChange={(e) => form.set('zone', e.target.value)} />}
        </Field>
      </div>
      <ChangedElsewhere form={form} field="label" what="what it is printed on" />
      <div className="grid grid-cols-[1fr_5rem_5rem] items-end gap-2">
        <Field label="Printed on" error={form.error('label')}>
          {(p) => (
            <Choice
              {...p}
              disabled={disabled}
              value={v.label ? 'label' : 'page'}
              onChange={(e) => form.set('label', e.target.value === 'label' ? { width: '80', height: '50' } : null)}
            >
              <option value="page">A4 pages</option>
              <option value="label">a label</option>
            </Choice>
          )}
        </Field>
        {v.label &&
          (['width', 'height'] as const).map((side) => (
            <Field key={side} label={`${side === 'width' ? 'Width' : 'Height'}, mm`}>
              {(p) => (
                <Input
                  {...p}
                  disabled={disabled}
                  className="figures text-right"
                  value={v.label?.[side] ?? ''}
                  onChange={(e) => v.label && form.set('label', { ...v.label, [side]: e.target.value })}
                />
              )}
            </Field>
          ))}
      </div>
      <h2 className="pt-1 font-semibold">Sections</h2>
      <ChangedElsewhere form={form} field="sections" what="the sections" />
      <ol className="space-y-2">
        {v.sections.map((section, i) => {
          const error = form.error(`sections[${i}].tags`, `sections[${i}].text`, `sections[${i}].proofs`);
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: a section is known by its place in the list
            <li key={i} className="rounded border border-line bg-raised p-2">
              <div className="flex items-center gap-1">
                <span className="flex-1 font-semibold">{NAMES[section.kind]}</span>
                <IconButton label={`Move section ${i + 1} up`} disabled={disabled || i === 0} onClick={() => swap(i, i - 1)}>
                  <ArrowUp className="size-3.5" />
                </IconButton>
                <IconButton
                  label={`Move section ${i + 1} down`}
                  disabled={disabled || i === v.sections.length - 1}
                  onClick={() => swap(i, i + 1)}
                >
                  <ArrowDown className="size-3.5" />
                </IconButton>
                <IconButton
                  label={`Remove section ${i + 1}`}
                  disabled={disabled}
                  onClick={() => sections(v.sections.filter((_, n) => n !== i))}
                >
                  <X className="size-3.5" />
                </IconButton>
              </div>
              {section.kind === 'text' && (
                <textarea
                  aria-label="Text"
                  rows={3}
                  className={`${INPUT} mt-1 h-auto py-1`}
                  disabled={disabled}
                  value={section.text}
                  onChange={(e) => replace(i, { kind: 'text', text: e.target.value })}
                />
              )}
              {'tags' in section && (
                <TagChoice
                  ids={section.tags}
                  texts={section.kind === 'values'}
                  under={v.place ?? undefined}
                  disabled={disabled}
                  onChange={(tags) => replace(i, { ...section, tags })}
                />
              )}
              {section.kind === 'table' && (
                <TablePart
                  section={section}
                  disabled={disabled}
                  error={form.error(`sections[${i}].every.count`, `sections[${i}].figure`)}
                  onChange={(part) => replace(i, { ...section, ...part })}
                />
              )}
              {section.kind === 'alarms' && <p className="text-sm text-soft">All that happened under the place in the period.</p>}
              {section.kind === 'alarm_figures' && (
                <p className="text-sm text-soft">The figures of the alarms under the place in the period, against the guides.</p>
              )}
              {section.kind === 'loop_checks' && (
                <fieldset className="mt-1 grid grid-cols-2 gap-x-3">
                  <legend className="text-sm text-soft">Points under the place whose loop is</legend>
                  {(Object.keys(PROOF_WORDS) as Proof[]).map((proof) => (
                    <Tick
                      key={proof}
                      label={PROOF_WORDS[proof]}
                      checked={section.proofs.includes(proof)}
                      disabled={disabled}
                      onChange={(on) =>
                        replace(i, {
                          ...section,
                          proofs: on ? [...section.proofs, proof] : section.proofs.filter((other) => other !== proof),
                        })
                      }
                    />
                  ))}
                </fieldset>
              )}
              {error && <p className="text-sm text-act4">{error}</p>}
            </li>
          );
        })}
      </ol>
      {!disabled && (
        <div className="flex flex-wrap gap-1.5">
          {(Object.keys(NAMES) as Section['kind'][]).map((kind) => (
            <Button key={kind} className="h-6.5" onClick={() => sections([...v.sections, FRESH[kind]])}>
              + {NAMES[kind]}
            </Button>
          ))}
        </div>
      )}
      <FormTrouble form={form} />
      <div className="flex justify-between pt-1">
        <Button kind="main" type="submit" disabled={disabled || !form.dirty || form.busy}>
          Save report
        </Button>
        <Button kind="quiet" disabled={disabled} onClick={() => setDeleting(true)}>
          Delete report…
        </Button>
      </div>
      <Confirm
        open={deleting}
        title={`Delete ${set.name}?`}
        action="Delete report"
        onClose={() => setDeleting(false)}
        onConfirm={() =>
          void form
            .run(() =>
              commit(`Deleted report ${set.name}`, seen, [{ op: 'delete', kind: 'report', id: report.id, contents: true }]),
            )
            .then((done) => done && go({ report: undefined }))
        }
      >
        <p>
          Its editions stay in the database but are no longer listed.
          {sending > 0 &&
            ` The ${counted(sending, 'dispatch that sends', 'dispatches that send')} it ${sending === 1 ? 'goes' : 'go'} with it.`}
        </p>
      </Confirm>
    </form>
  );
}

type TableSection = Extract<Section, { kind: 'table' }>;

/** Figures that a table of a report can show; the time in each state needs more columns than a page has. */
const TABLED = FIGURES.filter((figure) => figure !== 'states');

/** How the rows of a table lie, what they show, and what stands below them. */
function TablePart({
  section,
  disabled,
  error,
  onChange,
}: {
  section: TableSection;
  disabled: boolean;
  error: string | undefined;
  onChange: (part: Partial<TableSection>) => void;
}) {
  const { every, figure, below } = section;
  return (
    <div className="mt-1 space-y-1">
      <div className="grid grid-cols-[1fr_4rem_1fr] items-end gap-2">
        <Field label="Shows the">
          {(p) => (
            <Choice
              {...p}
              disabled={disabled}
              value={figure}
              onChange={(e) => onChange({ figure: e.target.value as TableSection['figure'] })}
            >
              {TABLED.map((one) => (
                <option key={one} value={one}>
                  {FIGURE_NAMES[one]}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="of every">
          {(p) => (
            <Input
              {...p}
              inputMode="numeric"
              disabled={disabled}
              className="figures text-right"
              value={every.count || ''}
              onChange={(e) => onChange({ every: { ...every, count: Number(e.target.value.replace(/\D/g, '')) } })}
            />
          )}
        </Field>
        <Choice
          aria-label="Unit of the spans"
          disabled={disabled}
          value={every.unit}
          onChange={(e) => onChange({ every: { ...every, unit: e.target.value as LookupEvery['unit'] } })}
        >
          {Object.entries(SPAN_UNITS).map(([unit, name]) => (
            <option key={unit} value={unit}>
              {name}
            </option>
          ))}
        </Choice>
      </div>
      <div className="flex gap-4">
        {(['sum', 'average'] as const).map((one) => (
          <Tick
            key={one}
            label={`${one === 'sum' ? 'Sum' : 'Average'} below`}
            disabled={disabled}
            checked={below.includes(one)}
            onChange={(on) => onChange({ below: on ? [...below, one] : below.filter((other) => other !== one) })}
          />
        ))}
      </div>
      {error && <p className="text-sm text-act4">{error}</p>}
    </div>
  );
}

function IconButton({ label, ...rest }: { label: string; disabled: boolean; onClick: () => void; children: ReactNode }) {
  return <button type="button" aria-label={label} className="rounded p-1 hover:bg-band disabled:opacity-40" {...rest} />;
}

/** Most tags of a section. */
const MOST = 500;

/** What a period is counted in: minutes of one, and the word. */
const PERIODS = [
  [1, 'minutes'],
  [60, 'hours'],
  [1440, 'days'],
] as const;

/** The largest unit in which so many minutes are a whole number. */
const unitOf = (minutes: string) => PERIODS.findLast(([unit]) => Number(minutes) > 0 && Number(minutes) % unit === 0)?.[0] ?? 1;
const amount = (minutes: string, unit: number) =>
  Number(minutes) % unit === 0 && minutes ? String(Number(minutes) / unit) : minutes;
/** What is not a whole number goes to the server as it was typed, to be refused there. */
const minutesOf = (text: string, unit: number) => (/^\d+$/.test(text.trim()) ? String(Number(text) * unit) : text);

function TagChoice({
  ids,
  texts,
  under,
  disabled,
  onChange,
}: {
  ids: string[];
  /** Whether tags that hold text make sense there. */
  texts: boolean;
  under: string | undefined;
  disabled: boolean;
  onChange: (ids: string[]) => void;
}) {
  const chosen = useTags(ids);
  const offered = useItems('tag', { under }, under !== undefined).data?.items ?? [];
  const rest = offered.filter((t) => t.recorded && !ids.includes(t.id) && (texts || t.holds !== 'text'));
  const name = (tag: Item<'tag'>) => pathEnd(tag.title);
  return (
    <div className="mt-1 space-y-1">
      <ul className="flex flex-wrap gap-1">
        {ids.map((id) => {
          const tag = chosen.find((t) => t.id === id);
          return (
            <li key={id} className="flex items-center gap-1 rounded border border-line px-1.5 text-sm">
              {tag ? name(tag) : '…'}
              <button
                type="button"
                disabled={disabled}
                aria-label={`Remove ${tag?.set.name ?? 'tag'}`}
                onClick={() => onChange(ids.filter((i) => i !== id))}
              >
                <X className="size-3" />
              </button>
            </li>
          );
        })}
      </ul>
      {!disabled && (
        <div className="flex items-center gap-2">
          <Picker
            label="Add a tag"
            kind="tag"
            under={under}
            accept={(hit) => !ids.includes(hit.id) && (texts || hit.tag?.holds !== 'text')}
            onPick={(id) => onChange([...ids, id])}
            className="flex-1"
          />
          {rest.length > 0 && (
            <Button
              title={`${under ? 'All recorded tags of the place' : 'All recorded tags'}, at most ${MOST}`}
              onClick={() => onChange([...ids, ...rest.map((t) => t.id)].slice(0, MOST))}
            >
              Add all {Math.min(rest.length, MOST - ids.length)}
            </Button>
          )}
        </div>
      )}
    </div>
  );
}
