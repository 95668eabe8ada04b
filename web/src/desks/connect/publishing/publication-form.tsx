// A publication as it is made or changed, beside the messages that it would send.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { Fragment, type ReactNode, type RefObject, useRef } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import type { Item } from '../../../api/model';
import { commit, useTags } from '../../../api/queries';
import { pathOf, useTree } from '../../../api/tree';
import { useForm } from '../../../parts/form';
import { Picker } from '../../../parts/picker';
import { counted, pathEnd } from '../../../parts/text';
import { Button, Choice, Field, FormTrouble, INPUT, Input, Tick, Trouble } from '../../../parts/ui';
import { insertInto } from '../insert';
import { useLater } from '../later';
import { BEGINNINGS, type Draft, PAYLOAD_FIELDS, setOf, TOPIC_FIELDS, whenOf } from './publication';

interface Props {
  item: Item<'connection'>;
  seen: number;
  draft: Draft;
  /** What it sends leaves as metrics of devices. */
  metrics: boolean;
  onChange: (draft: Draft) => void;
  onClose: () => void;
}

interface Part {
  draft: Draft;
  set: (part: Partial<Draft>) => void;
  form: { error: (...names: string[]) => string | undefined };
}

const FIELDS = [
  'name',
  'tags',
  'places',
  'topic',
  'payload',
  'when.deadband',
  'when.shortest_ms',
  'when.longest_s',
  'when.every_ms',
];

export function PublicationForm({ item, seen, draft, metrics, onChange, onClose }: Props) {
  const form = useForm({}, FIELDS);
  const set = (part: Partial<Draft>) => onChange({ ...draft, ...part });
  const topic = useRef<HTMLInputElement>(null);
  const payload = useRef<HTMLTextAreaElement>(null);
  const wanted = useLater(draft, 400);
  const ready = wanted.tags.length + wanted.places.length > 0;
  const body = { publication: { ...setOf(wanted), name: 'x', connection: item.id } as unknown as Record<string, never> };
  const tried = useQuery({
    queryKey: ['items', 'publication', 'try', item.id, body],
    queryFn: () => take(http.POST('/api/connections/{id}/publishing/try', { params: { path: { id: item.id } }, body })),
    enabled: ready,
    placeholderData: (old) => old,
    refetchInterval: 2000,
    retry: false,
    staleTime: 0,
  });

  async function save() {
    const why = `${draft.saved ? 'Changed' : 'Added'} the publication ${draft.name.trim()} of ${item.set.name}`;
    const { id } = draft;
    const done = await form.run(() =>
      draft.saved
        ? commit(why, seen, [{ op: 'patch', kind: 'publication', id, set: setOf(draft) }])
        : commit(why, seen, [{ op: 'create', kind: 'publication', id, set: { ...setOf(draft), connection: item.id } }]),
    );
    if (!done) return;
    toast.success(draft.enabled ? 'Saved. It is being sent from now on.' : 'Saved, and switched off.');
    onClose();
  }
  const beginning = BEGINNINGS.findIndex((one) => one.format === draft.format && one.payload === draft.payload);
  const several = draft.on === 'change' && (tried.data?.tags ?? 0) > (tried.data?.topics ?? 0);
  return (
    <form
      aria-label={draft.saved ? 'Publication' : 'New publication'}
      className="mb-3 grid gap-4 rounded border border-teal bg-raised p-3 xl:grid-cols-[minmax(0,36rem)_minmax(0,1fr)]"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="space-y-2">
        <div className="grid grid-cols-[minmax(0,1fr)_auto] items-start gap-3">
          <Field label="Name" error={form.error('name')}>
            {(p) => (
              <Input
                {...p}
                value={draft.name}
                placeholder="To the energy office"
                onChange={(e) => set({ name: e.target.value })}
              />
            )}
          </Field>
          <span className="mt-6">
            <Tick label="Switched on" checked={draft.enabled} onChange={(enabled) => set({ enabled })} />
          </span>
        </div>
        <Chosen draft={draft} set={set} error={form.error('tags', 'places')} />
        <div className="grid grid-cols-[minmax(0,1fr)_auto] items-start gap-3">
          <Field
            label={metrics ? 'Device / metric' : 'Topic'}
            error={form.error('topic')}
            hint={<Inserts all={TOPIC_FIELDS} into={topic} onInsert={(v) => set({ topic: v })} />}
          >
            {(p) => (
              <Input
                {...p}
                ref={topic}
                className="figures"
                value={draft.topic}
                onChange={(e) => set({ topic: e.target.value })}
              />
            )}
          </Field>
          {!metrics && (
            <span className="mt-6">
              <Tick label="Lower case, “-” for spaces" checked={draft.plain} onChange={(plain) => set({ plain })} />
            </span>
          )}
        </div>
        {!metrics && (
          <>
            <Field label="Message">
              {(p) => (
                <Choice
                  {...p}
                  value={beginning}
                  onChange={(e) => {
                    const one = BEGINNINGS[Number(e.target.value)];
                    if (one) set({ format: one.format, payload: one.payload });
                  }}
                >
                  {BEGINNINGS.map(({ title }, i) => (
                    <option key={title} value={i}>
                      {title}
                    </option>
                  ))}
                  {beginning < 0 && <option value={-1}>as written below</option>}
                </Choice>
              )}
            </Field>
            <Field
              label={draft.format === 'json' ? 'Its payload, in JSON' : 'Its payload, as text'}
              error={form.error('payload')}
              hint={<Inserts all={PAYLOAD_FIELDS} into={payload} onInsert={(v) => set({ payload: v })} />}
            >
              {(p) => (
                <textarea
                  {...p}
                  ref={payload}
                  rows={5}
                  spellCheck={false}
                  className={`${INPUT} figures h-auto py-1`}
                  value={draft.payload}
                  onChange={(e) => set({ payload: e.target.value })}
                />
              )}
            </Field>
          </>
        )}
        <When draft={draft} set={set} form={form} />
        <div className="grid grid-cols-3 items-start gap-3">
          {!metrics && (
            <Field label="Delivery">
              {(p) => (
                <Choice {...p} value={draft.qos} onChange={(e) => set({ qos: Number(e.target.value) })}>
                  <option value={0}>at most once</option>
                  <option value={1}>at least once</option>
                  <option value={2}>exactly once</option>
                </Choice>
              )}
            </Field>
          )}
          <Field
            label={metrics ? 'While the broker or the primary host is away' : 'While the broker is away'}
            className={metrics ? 'col-span-3' : 'col-span-2'}
          >
            {(p) => (
              <Choice {...p} value={draft.keep ? 'keep' : 'newest'} onChange={(e) => set({ keep: e.target.value === 'keep' })}>
                <option value="keep">keep every message on disk, send them in order</option>
                <option value="newest">keep none, send the newest values afterwards</option>
              </Choice>
            )}
          </Field>
        </div>
        {!metrics && (
          <>
            <div className="flex flex-wrap items-center gap-4">
              <Tick label="Retained by the broker" checked={draft.retain} onChange={(retain) => set({ retain })} />
              {several && (
                <Tick label="Only the tags that changed" checked={!draft.all} onChange={(changed) => set({ all: !changed })} />
              )}
            </div>
            <Writes draft={draft} set={set} form={form} />
          </>
        )}
        <div className="flex items-center gap-2 pt-1">
          <Button kind="main" type="submit" disabled={form.busy}>
            Save publication
          </Button>
          <Button kind="quiet" onClick={onClose}>
            {draft.saved ? 'Close' : 'Discard'}
          </Button>
        </div>
        <FormTrouble form={form} />
      </div>
      <section aria-label={metrics ? 'Metrics now' : 'Next messages'} className="min-w-0">
        <h3 className="mb-1 font-semibold">{metrics ? 'Metrics now' : 'Next messages'}</h3>
        {!ready ? (
          <p className="text-soft">Choose tags or a place; their next messages appear here.</p>
        ) : tried.error ? (
          <Trouble error={tried.error} />
        ) : (
          tried.data && <Outline tried={tried.data} interval={whenOf(draft).on === 'interval'} metrics={metrics} />
        )}
      </section>
    </form>
  );
}

/** What stands for something of a tag; a press puts it where the caret is. */
function Inserts({
  all,
  into,
  onInsert,
}: {
  all: string[];
  into: RefObject<HTMLInputElement | HTMLTextAreaElement | null>;
  onInsert: (text: string) => void;
}): ReactNode {
  return (
    <span className="flex flex-wrap gap-1">
      {all.map((field) => (
        <button
          key={field}
          type="button"
          className="figures rounded border border-line px-1 text-ink hover:border-teal"
          onClick={() => insertInto(into.current, field, onInsert)}
        >
          {field}
        </button>
      ))}
    </span>
  );
}

const without = (all: string[], id: string) => all.filter((one) => one !== id);

/** Something that is chosen, and can be left out again. */
const chip = (id: string, name: string, onRemove: () => void) => (
  <li key={id} className="flex items-center gap-1 rounded border border-line px-1.5">
    {name}
    <button type="button" aria-label={`Leave out ${name}`} onClick={onRemove}>
      <X className="size-3" />
    </button>
  </li>
);

/** Tags that others may write, each allowed by itself. */
function Writes({ draft, set, form }: Part) {
  const tags = useTags(draft.write_tags);
  const topic = useRef<HTMLInputElement>(null);
  const some = draft.write_tags.length > 0;
  const allow = (id: string) =>
    set({ write_tags: [...draft.write_tags, id], write_topic: draft.write_topic || `${draft.topic.trim()}/set` });
  return (
    <div>
      <p className="mb-0.5 text-sm text-soft">Tags that others may write through this broker</p>
      {some && (
        <ul aria-label="Others may write" className="mb-1 flex max-h-28 flex-wrap gap-1 overflow-auto">
          {draft.write_tags.map((id) =>
            chip(id, pathEnd(tags.find((tag) => tag.id === id)?.title ?? '…'), () =>
              set({ write_tags: without(draft.write_tags, id) }),
            ),
          )}
        </ul>
      )}
      <Picker label="Allow a tag" kind="tag" accept={(hit) => !draft.write_tags.includes(hit.id)} onPick={allow} />
      {form.error('write_tags') && <p className="mt-0.5 text-sm text-act4">{form.error('write_tags')}</p>}
      {some && (
        <div className="mt-1 grid grid-cols-[minmax(0,1fr)_14rem] items-start gap-3">
          <Field
            label="They write on the topic"
            error={form.error('write_topic')}
            hint={<Inserts all={TOPIC_FIELDS} into={topic} onInsert={(text) => set({ write_topic: text })} />}
          >
            {(p) => (
              <Input
                {...p}
                ref={topic}
                className="figures"
                value={draft.write_topic}
                onChange={(e) => set({ write_topic: e.target.value })}
              />
            )}
          </Field>
          <Field label="Member with the value" error={form.error('write_member')}>
            {(p) => (
              <Input
                {...p}
                className="figures"
                value={draft.write_member}
                placeholder="/value; empty: all of it"
                onChange={(e) => set({ write_member: e.target.value })}
              />
            )}
          </Field>
        </div>
      )}
    </div>
  );
}

/** The tags and places that are chosen. */
function Chosen({ draft, set, error }: { draft: Draft; set: (part: Partial<Draft>) => void; error: string | undefined }) {
  const tree = useTree();
  const tags = useTags(draft.tags);
  return (
    <div>
      <p className="mb-0.5 text-sm text-soft">Values of</p>
      {draft.tags.length + draft.places.length > 0 && (
        <ul aria-label="Chosen" className="mb-1 flex max-h-28 flex-wrap gap-1 overflow-auto">
          {draft.places.map((id) =>
            chip(id, `all below ${pathOf(tree, id).replaceAll('/', ' / ')}`, () => set({ places: without(draft.places, id) })),
          )}
          {draft.tags.map((id) =>
            chip(id, pathEnd(tags.find((tag) => tag.id === id)?.title ?? '…'), () => set({ tags: without(draft.tags, id) })),
          )}
        </ul>
      )}
      <div className="grid grid-cols-2 gap-2">
        <Picker
          label="Add a place"
          kind="place"
          accept={(hit) => !draft.places.includes(hit.id)}
          onPick={(id) => set({ places: [...draft.places, id] })}
        />
        <Picker
          label="Add a tag"
          kind="tag"
          accept={(hit) => !draft.tags.includes(hit.id)}
          onPick={(id) => set({ tags: [...draft.tags, id] })}
        />
      </div>
      {draft.places.length > 0 && (
        <Input
          aria-label="Only tags whose path holds these words"
          className="mt-1"
          placeholder="of these places only tags whose path holds these words, such as temperature"
          value={draft.words}
          onChange={(e) => set({ words: e.target.value })}
        />
      )}
      {error && <p className="mt-0.5 text-sm text-act4">{error}</p>}
    </div>
  );
}

/** When it sends. */
function When({ draft, set, form }: Part) {
  const number = (label: string, key: 'deadband' | 'shortest' | 'longest' | 'every', name: string, placeholder = '') => (
    <Field label={label} error={form.error(name)}>
      {(p) => (
        <Input
          {...p}
          inputMode="decimal"
          placeholder={placeholder}
          value={draft[key]}
          onChange={(e) => set({ [key]: e.target.value })}
        />
      )}
    </Field>
  );
  return (
    <div className="grid grid-cols-[9rem_repeat(4,minmax(0,1fr))] items-start gap-3">
      <Field label="Send">
        {(p) => (
          <Choice {...p} value={draft.on} onChange={(e) => set({ on: e.target.value as Draft['on'] })}>
            <option value="change">on change</option>
            <option value="interval">in a rhythm</option>
          </Choice>
        )}
      </Field>
      {draft.on === 'interval' ? (
        number('Every, s', 'every', 'when.every_ms')
      ) : (
        <>
          {number('of more than', 'deadband', 'when.deadband', 'any')}
          <Field label="in">
            {(p) => (
              <Choice
                {...p}
                value={draft.percent ? 'percent' : 'unit'}
                onChange={(e) => set({ percent: e.target.value === 'percent' })}
              >
                <option value="unit">its unit</option>
                <option value="percent">% of range</option>
              </Choice>
            )}
          </Field>
          {number('At most every, s', 'shortest', 'when.shortest_ms', 'no limit')}
          {number('At least every, s', 'longest', 'when.longest_s', 'never')}
        </>
      )}
    </div>
  );
}

/** What a metric would tell: value, unit and how far to trust it. */
function metricOf(payload: string): string {
  try {
    const { v, u, q } = JSON.parse(payload) as { v: unknown; u: string; q: string };
    return `${v === null ? 'no value' : String(v)} ${u}${q === 'good' ? '' : `, ${q}`}`;
  } catch {
    return payload;
  }
}

function Outline({ tried, interval, metrics }: { tried: Schemas['OutlineView']; interval: boolean; metrics: boolean }) {
  const { tags, topics, problems, next, writes } = tried;
  return (
    <>
      <p role="status" className="mb-1 text-soft">
        {counted(tags, 'tag')} {metrics ? 'as' : 'on'} {counted(topics, metrics ? 'metric' : 'topic')}
        {interval && topics > 0 && `, ${counted(topics, 'message')} each time`}
      </p>
      {problems.map((words) => (
        <p key={words} className="text-act4">
          ⨯ {words}
        </p>
      ))}
      {topics > 0 && next.length === 0 && <p className="text-soft">None yet: none of these tags has a value.</p>}
      <ul className="max-h-[32rem] overflow-auto">
        {next.map((one) => (
          <li key={one.topic} className="border-t border-line py-1 first:border-t-0">
            <p className="flex gap-3">
              <b className="figures min-w-0 flex-1 font-semibold break-all whitespace-normal">{one.topic}</b>
              <span className="shrink-0 text-sm text-soft">
                {one.tags > 1 && `${counted(one.tags, 'tag')}, `}
                {!metrics && counted(one.bytes, 'byte')}
              </span>
            </p>
            <pre className="figures text-sm wrap-anywhere whitespace-pre-wrap">
              {(metrics ? metricOf(one.payload) : one.payload).split(/(?<=,)/).map((part, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: a payload has nothing else to tell its parts by
                <Fragment key={i}>
                  {part}
                  <wbr />
                </Fragment>
              ))}
              {!metrics && one.bytes > one.payload.length && '…'}
            </pre>
          </li>
        ))}
      </ul>
      {topics > next.length && next.length > 0 && (
        <p className="text-soft">
          and {(topics - next.length).toLocaleString('en')} more {metrics ? 'metrics' : 'topics'}
        </p>
      )}
      {writes.length > 0 && (
        <>
          <h3 className="mt-3 mb-1 font-semibold">Where others write</h3>
          <ul className="max-h-48 overflow-auto">
            {writes.map((one) => (
              <li key={one.topic} className="border-t border-line py-1 first:border-t-0">
                <b className="figures font-semibold break-all whitespace-normal">{one.topic}</b>
                <span className="block text-sm text-soft">{one.title.replaceAll('/', ' / ')}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}
