// A mapping as it is made or changed, with what it would make of all that is heard now.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useRef } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import type { Item, Mapped, Mapping } from '../../../api/model';
import { commit } from '../../../api/queries';
import { numberOf, textOf, useForm } from '../../../parts/form';
import { counted } from '../../../parts/text';
import { Button, Field, FormTrouble, Input, Tick, Trouble } from '../../../parts/ui';
import { insertInto } from '../insert';
import { useLater } from '../later';
import { BLANK, type Draft, levelsOf, likeTags, takenOf } from './mapping';

interface Props {
  item: Item<'connection'>;
  seen: number;
  draft: Draft;
  /** It maps edge nodes and devices that announce themselves, not topics. */
  announces: boolean;
  onChange: (draft: Draft) => void;
  onClose: () => void;
}

const metricOf = (tag: Mapped) => String((tag.point as { metric?: string }).metric ?? '');

/** Of edge nodes the names of metrics are kept; what is between two commas may be empty while it is typed. */
const mappingOf = ({ saved: _, ...mapping }: Draft, announces: boolean): Mapping => ({
  ...mapping,
  topics: mapping.topics.trim(),
  tags: announces
    ? mapping.tags.flatMap((tag) => (metricOf(tag).trim() ? [{ ...tag, point: { metric: metricOf(tag).trim() } }] : []))
    : mapping.tags,
});

export function MappingForm({ item, seen, draft, announces, onChange, onClose }: Props) {
  const before = item.set.mappings.findIndex((one) => one.id === draft.id);
  const at = `mappings[${before < 0 ? item.set.mappings.length : before}]`;
  const form = useForm({}, [`${at}.topics`, `${at}.place`]);
  const set = (part: Partial<Draft>) => onChange({ ...draft, ...part });
  const setTag = (index: number, part: Partial<Mapped>) =>
    set({ tags: draft.tags.map((tag, i) => (i === index ? { ...tag, ...part } : tag)) });
  const box = useRef<HTMLInputElement>(null);
  const wanted = useLater(draft, 500);
  const body = { mapping: mappingOf(wanted, announces) as unknown as Record<string, never> };
  const tried = useQuery({
    queryKey: ['items', 'mapping', item.id, body],
    queryFn: () => take(http.POST('/api/connections/{id}/arrivals/try', { params: { path: { id: item.id } }, body })),
    enabled: wanted.topics.trim() !== '' && wanted.place.trim() !== '',
    placeholderData: (old) => old,
    refetchInterval: 3000,
    retry: false,
    staleTime: 0,
  });
  const like = likeTags(draft, tried.data ?? []);
  const example = tried.data?.[0]?.key ?? draft.topics.trim();

  async function save() {
    const mapping = mappingOf(draft, announces);
    const all = item.set.mappings;
    const mappings = before < 0 ? [...all, mapping] : all.map((one) => (one.id === mapping.id ? mapping : one));
    const why = `${draft.saved ? 'Changed' : 'Added'} the mapping ${mapping.topics} of ${item.set.name}`;
    const done = await form.run(() => commit(why, seen, [{ op: 'patch', kind: 'connection', id: item.id, set: { mappings } }]));
    if (!done) return;
    toast.success('Saved. The tags of what is heard now are made in a moment.');
    onClose();
  }
  return (
    <form
      aria-label={draft.saved ? 'Mapping' : 'New mapping'}
      className="mb-3 rounded border border-teal bg-raised p-3"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="mb-2 grid grid-cols-[minmax(12rem,1fr)_minmax(14rem,1.2fr)_auto_auto_auto] items-start gap-3">
        <Field
          label={announces ? 'Group / edge node / device, + for any one' : 'Topics, + for any one level'}
          error={form.error(`${at}.topics`)}
        >
          {(p) => (
            <Input
              {...p}
              value={draft.topics}
              placeholder={announces ? 'Works/+/Pump 1' : 'site/+/meter/+/json'}
              onChange={(e) => set({ topics: e.target.value })}
            />
          )}
        </Field>
        <Field label="Place of the tags" error={form.error(`${at}.place`)}>
          {(p) => (
            <Input
              {...p}
              ref={box}
              list="places"
              value={draft.place}
              placeholder={announces ? 'Works / {2} / {3}' : 'Works / Meters / {4}'}
              onChange={(e) => set({ place: e.target.value })}
            />
          )}
        </Field>
        <span className="mt-6">
          <Tick label="Record" checked={draft.record} onChange={(record) => set({ record })} />
        </span>
        <Button kind="main" type="submit" className="mt-5" disabled={form.busy}>
          Save mapping
        </Button>
        <Button kind="quiet" className="mt-5" onClick={onClose}>
          {draft.saved ? 'Close' : 'Discard'}
        </Button>
      </div>
      <p className="mb-2 flex flex-wrap items-center gap-1 text-sm text-soft">
        {announces
          ? '{1} is the group, {2} the edge node, {3} the device:'
          : example
            ? 'Levels of the topic, for place and names:'
            : 'Enter the topics first.'}
        {example &&
          levelsOf(example).map(({ text, level }) => (
            <button
              key={text}
              type="button"
              className="rounded border border-line px-1.5 text-ink hover:border-teal"
              title={`Puts ${text} into the place`}
              onClick={() => insertInto(box.current, text, (place) => set({ place }))}
            >
              <b className="figures font-semibold">{text}</b> {level}
            </button>
          ))}
      </p>
      {like && (
        <p role="status" className="mb-2 flex flex-wrap items-center gap-2">
          Tags read some of these topics already. Named like them: {like.place}, {like.tags.map(({ name }) => name).join(', ')}
          <Button onClick={() => onChange(like)}>Name them like that</Button>
        </p>
      )}
      {announces ? (
        <MetricFilters draft={draft} form={form} at={at} onChange={set} />
      ) : (
        <table className="mb-2 w-full max-w-3xl text-left">
          <thead className="text-sm text-soft">
            <tr>
              <th className="w-56 font-normal">Tag</th>
              <th className="font-normal">Takes of the message</th>
              <th className="w-24 font-normal">Unit</th>
              <th className="w-24 font-normal">Digits</th>
              <th className="w-8" />
            </tr>
          </thead>
          <tbody>
            {draft.tags.map((tag, index) => {
              const wrong = form.problems.filter((p) => p.field.startsWith(`${at}.tags[${index}].`));
              const { format = 'json', member = '' } = tag.point as { format?: string; member?: string };
              const label = (what: string) => `${what} of value ${index + 1}`;
              return (
                // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other name while theirs is typed
                <tr key={index} className="align-top">
                  <td className="pr-2 pb-1">
                    <Input
                      aria-label={label('Name')}
                      aria-invalid={wrong.length > 0}
                      value={tag.name}
                      onChange={(e) => setTag(index, { name: e.target.value })}
                    />
                    {wrong.map((p) => (
                      <p key={p.field} className="text-sm text-act4">
                        {p.message}
                      </p>
                    ))}
                  </td>
                  <td className="pr-2 pb-1">
                    {format === 'json' ? (
                      <Input
                        aria-label={label('Member')}
                        value={member}
                        placeholder="/power; empty: all of it"
                        onChange={(e) => setTag(index, { point: { ...tag.point, member: e.target.value } })}
                      />
                    ) : (
                      <span className="block pt-1 text-soft">{takenOf(tag)}</span>
                    )}
                    {'time' in tag.point && <span className="text-sm text-soft">with the time in {String(tag.point.time)}</span>}
                  </td>
                  <td className="pr-2 pb-1">
                    <Input
                      aria-label={label('Unit')}
                      value={tag.unit}
                      onChange={(e) => setTag(index, { unit: e.target.value })}
                    />
                  </td>
                  <td className="pr-2 pb-1">
                    <Input
                      aria-label={label('Digits')}
                      inputMode="numeric"
                      value={textOf(tag.decimals)}
                      onChange={(e) => setTag(index, { decimals: numberOf(e.target.value) })}
                    />
                  </td>
                  <td>
                    <Button
                      kind="quiet"
                      aria-label={`Leave out value ${index + 1}`}
                      onClick={() => set({ tags: draft.tags.filter((_, i) => i !== index) })}
                    >
                      <X className="size-4" />
                    </Button>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      {!announces && <Button onClick={() => set({ tags: [...draft.tags, BLANK] })}>Add a value</Button>}
      <FormTrouble form={form} className="mt-2" />
      <Trouble error={tried.error} />
      <Tried tried={tried.data} announces={announces} />
    </form>
  );
}

interface FiltersProps {
  draft: Draft;
  form: ReturnType<typeof useForm>;
  at: string;
  onChange: (part: Partial<Draft>) => void;
}

/** Which metrics of a device become tags. */
function MetricFilters({ draft, form, at, onChange }: FiltersProps) {
  const wrong = form.problems.find((p) => p.field.startsWith(`${at}.tags`))?.message;
  return (
    <Field label="Metrics, divided by commas; empty: all" error={wrong} className="mb-2 max-w-3xl">
      {(p) => (
        <Input
          {...p}
          value={draft.tags.map(metricOf).join(',')}
          placeholder="pH, Flow, Pump/#"
          onChange={(e) =>
            onChange({ tags: e.target.value ? e.target.value.split(',').map((metric) => ({ ...BLANK, point: { metric } })) : [] })
          }
        />
      )}
    </Field>
  );
}

/** What it would make of each topic, or of each device. */
function Tried({ tried, announces }: { tried: Schemas['TriedView'][] | undefined; announces: boolean }) {
  if (!tried) return null;
  const fresh = tried.flatMap((one) => one.tags).filter((tag) => !tag.taken && !tag.clash).length;
  return (
    <section aria-label="What it makes of what is heard now" className="mt-3">
      <p role="status" className="mb-1 text-sm text-soft">
        {tried.length === 0
          ? `Nothing ${announces ? 'of these names announced itself' : 'was heard on these topics'} yet; what comes later is taken in then.`
          : `${announces ? counted(tried.length, 'edge node or device', 'edge nodes and devices') : counted(tried.length, 'topic')} ${announces ? 'announced' : 'heard'} now: ${counted(fresh, 'new tag')}. What comes later is taken in then.`}
      </p>
      {tried.length > 0 && (
        // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard
        <div tabIndex={0} className="max-h-48 overflow-auto border border-line">
          <table className="w-full text-left">
            <thead className="sticky top-0 bg-band text-sm">
              <tr>
                <th className="px-2 font-semibold">{announces ? 'Edge node, device' : 'Topic'}</th>
                <th className="px-2 font-semibold">Place</th>
                <th className="px-2 font-semibold">Tags</th>
              </tr>
            </thead>
            <tbody>
              {tried.map((one) => {
                const clash = one.tags.find((tag) => tag.clash);
                const taken = one.tags.filter((tag) => tag.taken).length;
                const [base = ''] = one.tags.map((tag) => tag.place).sort((x, y) => x.length - y.length);
                const named = ({ place, name }: (typeof one.tags)[number]) =>
                  [...place.slice(base.length).split('/').filter(Boolean), name].join(' / ');
                const why = one.refused || (clash && `${clash.name} is another tag there already.`);
                return (
                  <tr key={one.key} className="border-t border-line">
                    <td className="px-2 whitespace-nowrap">{one.key}</td>
                    <td className="px-2 whitespace-nowrap">{base.replaceAll('/', ' / ')}</td>
                    <td className="px-2">
                      {why ? (
                        <span className="text-act4">⨯ {why}</span>
                      ) : (
                        <>
                          {one.tags.map(named).join(', ')}
                          {taken > 0 && (
                            <span className="text-soft"> ({taken === one.tags.length ? 'all' : taken} read by tags already)</span>
                          )}
                        </>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
