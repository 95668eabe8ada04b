// A recorder as it is made or changed, beside what it would record.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { toast } from 'sonner';
import { http, newId, type Schemas, take } from '../../api/client';
import type { Item } from '../../api/model';
import { commit, useMay } from '../../api/queries';
import { complain, type Form, useForm } from '../../parts/form';
import { FormEnd } from '../../parts/form-end';
import { useSettled } from '../../parts/settled';
import { TagChoices } from '../../parts/tag-choices';
import { bytesWords, counted, pathEnd } from '../../parts/text';
import { Field, Input, Tick, Trouble } from '../../parts/ui';
import { RecordedRows } from './recorded-rows';
import { manyWords, type RecorderValues, setOf, TRACKS, valuesOf } from './recorder';
import { WhenField } from './when-field';

interface Props {
  item: Item<'recorder'> | undefined;
  seen: number;
  count: number;
  /** The chosen place, with which a new recorder begins. */
  at: string | undefined;
  onClose: () => void;
}

const FIELDS = [
  'name',
  'note',
  'tags',
  'choices',
  'when.every_ms',
  'when.offset_ms',
  'when.keep',
  'when.deadband',
  'trigger',
  'trigger.text',
  'keep_days',
];

export function RecorderForm({ item, seen, count, at, onClose }: Props) {
  const engineer = useMay('engineer');
  const start = valuesOf(item?.set, item?.formulas?.trigger ?? '', at);
  const choiceFields = start.choices.flatMap((_, i) =>
    ['place', 'class', 'connection', 'unit', 'name', 'words'].map((f) => `choices.${i}.${f}`),
  );
  const form = useForm(start, [...FIELDS, ...choiceFields], { follow: true, draft: `recorder ${item?.id ?? 'new'}` });
  const tried = useTried(form.values, item?.id);
  const save = async () => {
    const set = setOf(form.values);
    const id = item?.id ?? newId();
    const edit = item
      ? ({ op: 'patch', kind: 'recorder', id, set } as const)
      : ({ op: 'create', kind: 'recorder', id, set: { ...set, order: count } } as const);
    const done = await form.run(() => commit(`${item ? 'Changed' : 'Added'} recorder ${set.name}`, seen, [edit]));
    if (!done) return;
    toast.success(set.running ? 'Saved. It records from now on.' : 'Saved, and paused.');
    onClose();
  };
  const remove = () => {
    if (!item) return;
    commit(`Deleted recorder ${item.set.name}`, seen, [{ op: 'delete', kind: 'recorder', id: item.id }]).then(onClose, complain);
  };
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] gap-5">
      <form
        aria-label={item ? `Recorder ${item.set.name}` : 'New recorder'}
        className="min-h-0 space-y-4 overflow-y-auto pr-2"
        onSubmit={(event) => {
          event.preventDefault();
          void save();
        }}
      >
        <fieldset disabled={!engineer} className="space-y-4">
          <Head form={form} />
          <section aria-label="What it records" className="space-y-1">
            <h2 className="font-semibold">What it records</h2>
            <TagChoices
              tags={form.values.tags}
              choices={form.values.choices}
              onTags={(tags) => form.set('tags', tags)}
              onChoices={(choices) => form.set('choices', choices)}
              error={form.error}
              found={tried.data?.found}
            />
          </section>
          <section aria-label="When it records" className="space-y-1">
            <h2 className="font-semibold">When</h2>
            <WhenField form={form} disabled={!engineer} />
          </section>
          <section aria-label="How long it is kept" className="space-y-1">
            <h2 className="font-semibold">How long it is kept</h2>
            <Kept form={form} tooOld={tried.data?.too_old ?? 0} />
          </section>
        </fieldset>
        <FormEnd
          form={form}
          noun="recorder"
          title={item && `recorder “${item.set.name}”`}
          deleted="It records nothing more. What it recorded stays in history."
          disabled={!engineer}
          onClose={onClose}
          onDelete={remove}
        />
      </form>
      <div className="flex min-h-0 flex-col gap-4">
        <Preview tried={tried.data} error={tried.error} values={form.values} />
        {item && <RecordedRows item={item} />}
      </div>
    </div>
  );
}

function Head({ form }: { form: Form<RecorderValues> }) {
  const v = form.values;
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,1.3fr)_auto] items-start gap-3">
      <Field label="Name" error={form.error('name')}>
        {(p) => <Input {...p} value={v.name} placeholder="Minute figures" onChange={(e) => form.set('name', e.target.value)} />}
      </Field>
      <Field label="What it is for" error={form.error('note')}>
        {(p) => <Input {...p} value={v.note} onChange={(e) => form.set('note', e.target.value)} />}
      </Field>
      <span className="mt-6">
        <Tick label="Running" checked={v.running} onChange={(on) => form.set('running', on)} />
      </span>
    </div>
  );
}

function Kept({ form, tooOld }: { form: Form<RecorderValues>; tooOld: number }) {
  return (
    <>
      <Field label="Removed after, days" error={form.error('keep_days')} className="w-40">
        {(p) => (
          <Input
            {...p}
            className="figures w-28 text-right"
            inputMode="numeric"
            placeholder="never"
            value={form.values.keep_days}
            onChange={(e) => form.set('keep_days', e.target.value)}
          />
        )}
      </Field>
      <p className="text-sm text-soft">
        Values that another recorder keeps for longer, or that the tag itself records, stay as long as those say.
      </p>
      {tooOld > 0 && (
        <p role="alert" className="text-act4">
          {tooOld >= 10_000 && 'At least '}
          {counted(tooOld, 'stored sample')} of the tags shown here {tooOld === 1 ? 'is' : 'are'} older than that and will be
          removed for good within an hour, unless something else keeps them.
        </p>
      )}
    </>
  );
}

type Tried = Schemas['TriedRecorderView'];

/** What the settings come to, a moment after they were typed. */
function useTried(values: RecorderValues, id: string | undefined) {
  const settled = useSettled(values);
  const engineer = useMay('engineer');
  const recorder = { ...setOf(settled), name: settled.name.trim() || '…' } as unknown as Record<string, never>;
  const body = { recorder, ...(id ? { id } : {}) };
  return useQuery({
    queryKey: ['items', 'recorder', 'try', body],
    queryFn: () => take(http.POST('/api/recorders/try', { body })),
    enabled: engineer,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 0,
  });
}

function Preview({ tried, error, values }: { tried: Tried | undefined; error: Error | null; values: RecorderValues }) {
  return (
    <section aria-label="What it comes to" className="flex min-h-32 flex-1 flex-col">
      <h2 className="font-semibold">What it comes to</h2>
      <Trouble error={error} />
      {tried && (
        <>
          <Amount tried={tried} values={values} />
          {tried.tags === 0 ? (
            <p className="mt-1 text-soft">No tag fits yet.</p>
          ) : (
            <ul aria-label="Recorded tags" className="mt-1 min-h-0 flex-1 overflow-y-auto border border-line bg-raised">
              {tried.shown.map((tag) => (
                <li key={tag.id} className="flex h-6 items-center gap-2 border-b border-line px-2 last:border-b-0">
                  <span className="min-w-0 flex-1 truncate" title={tag.title.replaceAll('/', ' / ')}>
                    {pathEnd(tag.title)}
                    <span className="text-sm text-soft"> · {tag.title.split('/').slice(0, -2).join(' / ')}</span>
                  </span>
                  <span className="w-16 truncate text-soft">{tag.unit}</span>
                  <span className="w-28 truncate text-sm text-soft">{tag.by_itself ? 'recorded already' : ''}</span>
                </li>
              ))}
              {tried.tags > tried.shown.length && (
                <li className="px-2 text-soft">and {(tried.tags - tried.shown.length).toLocaleString('en')} more</li>
              )}
            </ul>
          )}
        </>
      )}
    </section>
  );
}

function Amount({ tried, values }: { tried: Tried; values: RecorderValues }) {
  const { estimate, tags, texts } = tried;
  const figures = values.on === 'interval' && values.keep.some((track) => track !== 'value');
  const basis =
    values.on === 'interval'
      ? ''
      : [
          estimate.by_history > 0 && `${counted(estimate.by_history, 'tag')} counted by the last day`,
          estimate.at_most > 0 && `${counted(estimate.at_most, 'tag')} as often as asked for at most`,
          estimate.unknown > 0 &&
            (values.on === 'change'
              ? `${counted(estimate.unknown, 'tag')} not known beforehand`
              : 'how often that happens is not known beforehand'),
        ]
          .filter(Boolean)
          .join(', ');
  return (
    <div role="status">
      <p>
        <span className="figures font-semibold">{counted(tags, 'tag')}</span>
        {estimate.samples_a_day > 0 && (
          <>
            , {values.on === 'interval' || estimate.at_most === 0 ? 'about' : 'at most'}{' '}
            <span className="figures font-semibold">{manyWords(estimate.samples_a_day)}</span> samples and{' '}
            <span className="figures font-semibold">{bytesWords(estimate.bytes_a_day)}</span> on disk a day
          </>
        )}
      </p>
      {basis && <p className="text-sm text-soft">{basis}</p>}
      {figures && texts > 0 && (
        <p className="text-sm text-soft">
          {counted(texts, 'tag holds', 'tags hold')} text, of which there is no{' '}
          {TRACKS.filter(({ track }) => track !== 'value' && values.keep.includes(track))
            .map(({ title }) => title)
            .join(' or ')}
          .
        </p>
      )}
    </div>
  );
}
