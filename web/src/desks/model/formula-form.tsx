// One computed tag: made here, or its formula changed.

import { X } from 'lucide-react';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, newId, type Schemas, take } from '../../api/client';
import { feed } from '../../api/live';
import type { Item } from '../../api/model';
import { commit } from '../../api/queries';
import { useGo } from '../../app/view';
import { complain, useForm } from '../../parts/form';
import { FormulaField, type Mixed } from '../../parts/formula/formula-field';
import { PickField } from '../../parts/picker';
import { moment } from '../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Tick } from '../../parts/ui';
import { UnitField } from '../../parts/unit-field';

type Tag = Item<'tag'>;
type Tried = Schemas['TriedFormula'];

interface Props {
  /** The tag; none yet where one is made. */
  tag: Tag | undefined;
  seen: number;
  /** Where a new one is made: id and path of a place. */
  place: { id: string; title: string } | undefined;
  disabled: boolean;
  onClose: () => void;
}

export function FormulaForm({ tag, seen, place, disabled, onClose }: Props) {
  const go = useGo();
  const start = {
    name: tag?.set.name ?? '',
    place: place ?? null,
    unit: tag?.set.unit ?? '',
    text: tag?.formulas?.formula ?? '',
    mixed: (tag?.set.formula?.mixed ?? 'convert') as Mixed,
    record: tag?.set.record ?? true,
  };
  const known = ['name', 'place', 'unit', 'record', 'formula', 'formula.text', 'formula.mixed'];
  const form = useForm(start, known, { follow: true, draft: `formula ${tag?.id ?? 'new'}` });
  const [tried, setTried] = useState<Tried>();
  const [removing, setRemoving] = useState(false);
  const v = form.values;
  const at = tag?.set.place ?? v.place?.id;
  const wrong = tried !== undefined && tried.wrong.length > 0;
  const complete = v.text.trim() !== '' && (tag !== undefined || (v.name.trim() !== '' && v.place !== null));

  async function save() {
    const formula = { text: v.text, mixed: v.mixed };
    if (tag) {
      await form.run(() =>
        commit(`Changed the formula of ${tag.title}`, seen, [
          { op: 'patch', kind: 'tag', id: tag.id, set: { unit: v.unit, record: v.record, formula } },
        ]),
      );
      return;
    }
    const id = newId();
    const set = { name: v.name, place: v.place?.id ?? '', unit: v.unit, record: v.record, formula, order: Date.now() };
    const done = await form.run(() => commit(`Added the computed tag ${v.name}`, seen, [{ op: 'create', kind: 'tag', id, set }]));
    if (done) go({ formula: id, tag: undefined });
  }

  return (
    <form
      aria-label={tag ? 'Formula' : 'New computed tag'}
      className="mb-3 min-h-0 shrink space-y-2 overflow-auto rounded border border-teal bg-raised p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <div className="flex items-center justify-between gap-2">
        <h2 className="min-w-0 truncate text-[1rem] font-semibold">
          {tag ? tag.title.replaceAll('/', ' / ') : 'New computed tag'}
        </h2>
        <Button kind="quiet" className="px-1.5" aria-label="Close formula" onClick={onClose}>
          <X className="size-4" />
        </Button>
      </div>
      <div className="flex flex-wrap items-start gap-3">
        {!tag && (
          <>
            <Field label="Name" error={form.error('name')} className="w-56">
              {(p) => <Input {...p} disabled={disabled} value={v.name} onChange={(e) => form.set('name', e.target.value)} />}
            </Field>
            <Field label="Place" error={form.error('place')} className="w-64">
              {(p) => (
                <PickField
                  field={p}
                  label="Place"
                  kind="place"
                  disabled={disabled}
                  value={v.place ?? undefined}
                  onChange={(id) => {
                    if (!id) return;
                    void titleOf(id).then((title) => form.set('place', { id, title }));
                  }}
                />
              )}
            </Field>
          </>
        )}
        <Field label="Unit" error={form.error('unit') ?? form.theirs('unit')} className="w-28">
          {(p) => <UnitField {...p} disabled={disabled} value={v.unit} onChange={(unit) => form.set('unit', unit)} />}
        </Field>
        {v.unit === '' && tried?.unit && (
          <Button className="mt-5" disabled={disabled} onClick={() => form.set('unit', tried.unit)}>
            Use {tried.unit}
          </Button>
        )}
        <span className="mt-6">
          <Tick label="Record" checked={v.record} disabled={disabled} onChange={(on) => form.set('record', on)} />
        </span>
      </div>
      <FormulaField
        text={v.text}
        mixed={v.mixed}
        onText={(text) => form.set('text', text)}
        onMixed={(mixed) => form.set('mixed', mixed)}
        unit={v.unit}
        decimals={tag?.set.decimals ?? 2}
        states={tag?.set.states ?? null}
        tag={tag?.id}
        place={at}
        disabled={disabled}
        error={form.error('formula', 'formula.text', 'formula.mixed') ?? form.theirs('text')}
        onTried={setTried}
      />
      <FormTrouble form={form} />
      <div className="flex flex-wrap items-center gap-2">
        <Button kind="main" type="submit" disabled={disabled || form.busy || !form.dirty || !complete || wrong}>
          {tag ? 'Save formula' : 'Create computed tag'}
        </Button>
        <Button disabled={!form.dirty || form.busy} onClick={form.discard}>
          Discard changes
        </Button>
        {tag && <Past tag={tag} disabled={disabled || form.dirty} />}
        <span className="flex-1" />
        {tag?.set.formula && (
          <Button kind="quiet" disabled={disabled} onClick={() => setRemoving(true)}>
            Remove formula…
          </Button>
        )}
      </div>
      {tag && (
        <Confirm
          open={removing}
          title={`Remove the formula of ${tag.set.name}?`}
          action="Remove formula"
          onConfirm={() => {
            setRemoving(false);
            commit(`Removed the formula of ${tag.title}`, seen, [
              { op: 'patch', kind: 'tag', id: tag.id, set: { formula: null } },
            ]).then(onClose, complain);
          }}
          onClose={() => setRemoving(false)}
        >
          The tag stays, without a source. Its recorded history stays too.
        </Confirm>
      )}
    </form>
  );
}

async function titleOf(id: string): Promise<string> {
  const found = await take(http.GET('/api/items/{kind}', { params: { path: { kind: 'place' }, query: { only: id } } }));
  return found.items[0]?.title ?? '';
}

const PASTS: [string, number][] = [
  ['last hour', 3600],
  ['last day', 86_400],
  ['last 7 d', 604_800],
  ['last 30 d', 2_592_000],
  ['last year', 31_622_400],
];

/** Computes what the formula would have given before it was there. */
function Past({ tag, disabled }: { tag: Tag; disabled: boolean }) {
  const [span, setSpan] = useState(86_400);
  const [told, setTold] = useState('');
  async function compute() {
    setTold('');
    try {
      const from = new Date(feed.time() - span * 1000).toISOString();
      const past = await take(http.POST('/api/tags/{id}/past', { params: { path: { id: tag.id } }, body: { from } }));
      toast(`Computing ${tag.set.name} from ${moment(past.from)} to ${moment(past.to)}. How far it is stands at the bottom.`);
    } catch (error) {
      setTold(error instanceof Error ? error.message : String(error));
    }
  }
  return (
    <>
      <span className="ml-3 text-soft">Past values:</span>
      <Choice
        aria-label="How far back"
        className="w-28"
        disabled={disabled}
        value={span}
        onChange={(e) => setSpan(Number(e.target.value))}
      >
        {PASTS.map(([words, seconds]) => (
          <option key={seconds} value={seconds}>
            {words}
          </option>
        ))}
      </Choice>
      <Button disabled={disabled || !tag.set.record} onClick={() => void compute()}>
        Compute from history
      </Button>
      {told && (
        <span role="alert" className="text-sm text-act4">
          {told}
        </span>
      )}
    </>
  );
}
