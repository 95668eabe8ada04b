// Alarm rules for many tags: what is written once becomes rows in the sheet, to be looked at before they are saved.

import { Plus, X } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useGo } from '../../app/view';
import { useDraft } from '../../parts/draft';
import { complain } from '../../parts/form';
import { PriorityOptions } from '../../parts/priority-options';
import { hasLevel, RULE_KINDS } from '../../parts/rule-kinds';
import { RULE_WORDS } from '../../parts/text';
import { Button, Choice, Field, Input, Tick } from '../../parts/ui';
import { UnitField } from '../../parts/unit-field';
import { Views } from '../../parts/views';
import type { Written } from '../../parts/written';

/** One rule of a template: texts by column of the table of rules. */
type Template = Record<string, string>;

interface Draft {
  words: string;
  ranged: boolean;
  unit: string;
  rules: Template[];
}

const START: Draft = {
  words: '',
  ranged: true,
  unit: '',
  rules: [
    { kind: 'high', level: '90 %', priority: '2', deadband: '1', deadband_in: 'range' },
    { kind: 'low', level: '10 %', priority: '2', deadband: '1', deadband_in: 'range' },
  ],
};

const AS_IT_IS = { write: (draft: Draft): unknown => draft, read: (draft: unknown) => draft as Draft };

/** Kinds that ask for more than a template holds are set on each rule. */
const KINDS = RULE_KINDS.filter((kind) => kind !== 'expression' && kind !== 'deviation' && kind !== 'state');

interface Props {
  at: string | undefined;
  written: Written;
  onMade: (made: Schemas['MadeRules']) => void;
  onClose: () => void;
}

export function ManyRules({ at, written, onMade, onClose }: Props) {
  const [draft, setDraft] = useDraft<Draft>('many rules', START, AS_IT_IS);
  const [busy, setBusy] = useState(false);
  const go = useGo();
  const set = (change: Partial<Draft>) => {
    setDraft((old) => ({ ...old, ...change }));
  };
  const setRule = (index: number, change: Template) =>
    set({ rules: draft.rules.map((rule, i) => (i === index ? { ...rule, ...change } : rule)) });

  async function make() {
    setBusy(true);
    try {
      const body = {
        under: at ?? null,
        text: draft.words,
        with_range: draft.ranged,
        ...(draft.unit ? { unit: draft.unit } : {}),
        rules: draft.rules.map(sent),
      };
      const done = await take(http.POST('/api/rules/made', { body }));
      written.write(
        done.rows.flatMap(({ id, cells }) => {
          const row = { id, fresh: true, label: `${cells.tag} ${cells.name || cells.kind?.replaceAll('_', ' ')}` };
          return Object.entries(cells).map(([key, text]) => ({ row, key, text, was: '' }));
        }),
      );
      onMade(done);
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }

  return (
    <section aria-label="Add alarm rules to many tags" className="mb-3 shrink-0 rounded border border-teal bg-raised p-3">
      <div className="flex items-center gap-2">
        <h2 className="flex-1 font-semibold">Add alarm rules to many tags</h2>
        <Views
          sheet="rule_templates"
          label="Kept rules"
          kept="these rules, with the tags that they are for,"
          view={{ ...draft, at: at ?? '' }}
          onTake={({ at: place, ...kept }) => {
            set(kept);
            if (place !== undefined) go({ at: place || undefined });
          }}
        />
        <Button kind="quiet" className="px-1.5" aria-label="Close" onClick={onClose}>
          <X className="size-4" />
        </Button>
      </div>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void make();
        }}
      >
        <div className="mt-1 flex flex-wrap items-end gap-3">
          <Field
            label={at ? 'Tags below the chosen place, with the words' : 'Tags of the whole plant, with the words'}
            className="w-72"
          >
            {(p) => (
              <Input
                {...p}
                placeholder="any words of the path"
                value={draft.words}
                onChange={(e) => set({ words: e.target.value })}
              />
            )}
          </Field>
          <Field label="Measured in" className="w-28">
            {(p) => <UnitField {...p} value={draft.unit} onChange={(unit) => set({ unit })} />}
          </Field>
          <span className="mb-1">
            <Tick label="only tags with a range" checked={draft.ranged} onChange={(ranged) => set({ ranged })} />
          </span>
        </div>
        <ul aria-label="Rules for each tag" className="mt-2 space-y-1.5">
          {draft.rules.map((rule, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: the lines have nothing else that tells them apart
            <li key={index} className="flex flex-wrap items-end gap-2">
              <TemplateLine rule={rule} number={index + 1} onChange={(change) => setRule(index, change)} />
              <Button
                kind="quiet"
                className="px-1"
                aria-label={`Remove rule ${index + 1}`}
                disabled={draft.rules.length === 1}
                onClick={() => set({ rules: draft.rules.filter((_, i) => i !== index) })}
              >
                <X className="size-4" />
              </Button>
            </li>
          ))}
        </ul>
        <div className="mt-2 flex flex-wrap items-center gap-2">
          <Button
            disabled={draft.rules.length >= 20}
            onClick={() => set({ rules: [...draft.rules, { kind: 'bad_quality', priority: '2' }] })}
          >
            <Plus className="size-4" /> Rule
          </Button>
          <Button kind="main" type="submit" disabled={busy}>
            Write rows
          </Button>
        </div>
      </form>
    </section>
  );
}

/** Without what does not belong to the kind. */
function sent(rule: Template): Template {
  const { level, deadband, deadband_in, ...rest } = rule;
  const levelled = hasLevel(rule.kind ?? '');
  return { ...rest, ...(levelled ? { level: level ?? '', deadband: deadband ?? '', deadband_in: deadband_in ?? 'unit' } : {}) };
}

interface LineProps {
  rule: Template;
  number: number;
  onChange: (change: Template) => void;
}

function TemplateLine({ rule, number, onChange }: LineProps) {
  const kind = rule.kind ?? 'high';
  const levelled = hasLevel(kind);
  const text = (key: string, label: string, className: string) => (
    <Field label={label} className={className}>
      {(p) => (
        <Input
          {...p}
          className="figures text-right"
          value={rule[key] ?? ''}
          onChange={(e) => onChange({ [key]: e.target.value })}
        />
      )}
    </Field>
  );
  return (
    <>
      <Field label={`Rule ${number}`} className="w-36">
        {(p) => (
          <Choice {...p} value={kind} onChange={(e) => onChange({ kind: e.target.value })}>
            {KINDS.map((one) => (
              <option key={one} value={one}>
                {RULE_WORDS[one]}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      {levelled && text('level', kind === 'rate' ? 'Level' : 'Level, or % of range', 'w-36')}
      <Field label="Priority" className="w-36">
        {(p) => (
          <Choice {...p} value={rule.priority ?? '2'} onChange={(e) => onChange({ priority: e.target.value })}>
            <PriorityOptions />
          </Choice>
        )}
      </Field>
      {levelled && (
        <>
          {text('deadband', 'Deadband', 'w-20')}
          <Field label="in" className="w-28">
            {(p) => (
              <Choice {...p} value={rule.deadband_in ?? 'unit'} onChange={(e) => onChange({ deadband_in: e.target.value })}>
                <option value="range">% of range</option>
                <option value="unit">its unit</option>
              </Choice>
            )}
          </Field>
        </>
      )}
      {text('on_delay_s', kind === 'no_change' ? 'Within, s' : 'On-delay, s', 'w-24')}
      <Field label="What to do" className="min-w-40 flex-1">
        {(p) => <Input {...p} value={rule.action ?? ''} onChange={(e) => onChange({ action: e.target.value })} />}
      </Field>
    </>
  );
}
