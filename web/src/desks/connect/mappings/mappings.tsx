// Mappings of a connection, and what arrived after them: each arrival with its tags, taken back or made again one by one.

import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import type { Item } from '../../../api/model';
import { commit, made } from '../../../api/queries';
import { useGo } from '../../../app/view';
import { useDraft } from '../../../parts/draft';
import { complain } from '../../../parts/form';
import { counted, moment } from '../../../parts/text';
import { Button, Confirm, Trouble } from '../../../parts/ui';
import { blankMapping, type Draft, draftName } from './mapping';
import { MappingForm } from './mapping-form';

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
  /** It maps edge nodes and devices that announce themselves, not topics. */
  announces: boolean;
}

type Arrival = Schemas['ArrivalView'];

export function Mappings({ item, seen, disabled, announces }: Props) {
  const [draft, setDraft] = useDraft<Draft | null>(draftName(item.id), null);
  const [leaving, setLeaving] = useState<string | null>(null);
  const { mappings } = item.set;
  const remove = (id: string) => {
    setLeaving(null);
    const rest = mappings.filter((one) => one.id !== id);
    const why = `Removed the mapping ${mappings.find((one) => one.id === id)?.topics} of ${item.set.name}`;
    return commit(why, seen, [{ op: 'patch', kind: 'connection', id: item.id, set: { mappings: rest } }]).catch(complain);
  };
  return (
    <div>
      {draft && (
        <MappingForm
          item={item}
          seen={seen}
          draft={draft}
          announces={announces}
          onChange={setDraft}
          onClose={() => setDraft(null)}
        />
      )}
      {!draft && (
        <div className="mb-3">
          {mappings.length === 0 && announces ? (
            <p className="mb-2 max-w-3xl text-soft">
              A mapping makes tags of every metric that an edge node or device announces, now or later: all devices of one name,
              such as Works/+/Pump 1, at a place made of their names. Without one, devices wait among the edge nodes to be taken
              in.
            </p>
          ) : mappings.length === 0 ? (
            <p className="mb-2 max-w-3xl text-soft">
              A mapping makes the same tags for every topic that fits, now or later, such as power and energy of each meter on
              site/meter/+/json. Choose the values of one meter among the topics and press “Map every such topic”, or begin with
              an empty mapping.
            </p>
          ) : (
            <ul aria-label="Mappings" className="mb-2 border border-line">
              {mappings.map((one) => (
                <li key={one.id} className="flex min-h-8 items-center gap-4 border-t border-line px-2 first:border-t-0">
                  <span className="figures">{one.topics}</span>
                  <span className="text-soft">to</span>
                  <span>{one.place.replaceAll(/\s*\/\s*/g, ' / ')}</span>
                  <span className="min-w-0 flex-1 truncate text-soft">{metricsOf(one, announces)}</span>
                  <Button disabled={disabled} onClick={() => setDraft({ ...one, saved: true })}>
                    Change
                  </Button>
                  <Button kind="quiet" disabled={disabled} onClick={() => setLeaving(one.id)}>
                    Remove…
                  </Button>
                </li>
              ))}
            </ul>
          )}
          <Button disabled={disabled} onClick={() => setDraft(announces ? { ...blankMapping(), tags: [] } : blankMapping())}>
            Add a mapping
          </Button>
        </div>
      )}
      <Arrivals item={item} disabled={disabled} announces={announces} />
      <Confirm
        open={leaving !== null}
        title="Remove this mapping?"
        action="Remove mapping"
        grave={false}
        onConfirm={() => void remove(leaving ?? '')}
        onClose={() => setLeaving(null)}
      >
        <p>The tags that it made stay. {announces ? 'Devices' : 'Topics'} that come later make no tags any more.</p>
      </Confirm>
    </div>
  );
}

/** What of each source becomes a tag. */
const metricsOf = ({ tags }: Item<'connection'>['set']['mappings'][number], announces: boolean) =>
  announces
    ? tags.map((tag) => String((tag.point as { metric?: string }).metric)).join(', ') || 'every metric'
    : tags.map((tag) => tag.name).join(', ');

function Arrivals({ item, disabled, announces }: Omit<Props, 'seen'>) {
  const queries = useQueryClient();
  const go = useGo();
  const key = ['items', 'arrivals', item.id];
  const path = { id: item.id };
  const list = useQuery({
    queryKey: key,
    queryFn: () => take(http.GET('/api/connections/{id}/arrivals', { params: { path } })),
    refetchInterval: 3000,
    staleTime: 0,
  });
  const act = async (task: () => Promise<unknown>) => {
    await task().catch(complain);
    await queries.invalidateQueries({ queryKey: key });
  };
  const undo = ({ mapping, key: topic }: Arrival) =>
    act(async () => {
      const body = { mapping, key: topic };
      const done = await take(http.POST('/api/connections/{id}/arrivals/undo', { params: { path }, body }));
      await made(done.revision);
      toast.success(`Took away what ${topic} made. It does not come again by itself.`);
    });
  const again = ({ mapping, key: topic }: Arrival) =>
    act(async () => {
      const body = { mapping, key: topic };
      const { now } = await take(http.POST('/api/connections/{id}/arrivals/again', { params: { path }, body }));
      toast.success(
        now ? `Making the tags of ${topic}.` : `The tags of ${topic} are made with its next ${announces ? 'birth' : 'message'}.`,
      );
    });
  const all = list.data?.arrivals ?? [];
  if (all.length === 0 && item.set.mappings.length === 0) return <Trouble error={list.error} />;
  return (
    <section aria-label="Arrivals">
      <h3 className="mb-1 font-semibold">{counted(list.data?.total ?? 0, 'arrival')}</h3>
      <Trouble error={list.error} />
      {all.length === 0 ? (
        <p className="text-soft">Nothing arrived for a mapping yet.</p>
      ) : (
        <div className="max-h-96 overflow-auto border border-line">
          <table className="w-full text-left">
            <thead className="sticky top-0 bg-band text-sm">
              <tr>
                <th className="w-28 px-2 font-semibold">Arrived</th>
                <th className="px-2 font-semibold">{announces ? 'Edge node, device' : 'Topic'}</th>
                <th className="px-2 font-semibold">Tags</th>
                <th className="w-28 px-2" />
              </tr>
            </thead>
            <tbody>
              {all.map((one) => (
                <tr key={`${one.mapping} ${one.key}`} className="h-8 border-t border-line">
                  <td className="figures px-2 whitespace-nowrap">{moment(one.at)}</td>
                  <td className="px-2">{one.key}</td>
                  <td className="px-2">
                    {one.refused ? (
                      <span className="text-act4">⨯ {one.refused}</span>
                    ) : (
                      <Made one={one} go={(tag) => go({ tag })} />
                    )}
                  </td>
                  <td className="px-2 text-right">
                    {one.left > 0 && one.revision ? (
                      <Button kind="quiet" disabled={disabled} aria-label={`Undo: ${one.key}`} onClick={() => void undo(one)}>
                        Undo
                      </Button>
                    ) : one.left < one.tags || one.refused ? (
                      <Button
                        kind="quiet"
                        disabled={disabled}
                        aria-label={`${one.refused ? 'Try' : 'Make'} again: ${one.key}`}
                        onClick={() => void again(one)}
                      >
                        {one.refused ? 'Try again' : 'Make again'}
                      </Button>
                    ) : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {(list.data?.total ?? 0) > all.length && (
            <p className="border-t border-line px-2 py-1 text-soft">and {(list.data?.total ?? 0) - all.length} older ones</p>
          )}
        </div>
      )}
    </section>
  );
}

/** The tags of an arrival that exist, or that they were taken away. */
function Made({ one, go }: { one: Arrival; go: (tag: string) => void }) {
  const [first] = one.named;
  if (!first) return <span className="text-soft">{counted(one.tags, 'tag')} taken away</span>;
  const path = first.title.split('/');
  return (
    <>
      <button type="button" className="text-left hover:text-teal" onClick={() => go(first.id)}>
        {path.slice(0, -1).join(' / ')}
      </button>
      <span className="text-soft">
        {': '}
        {one.named.map(({ title }) => title.split('/').at(-1)).join(', ')}
        {one.left > one.named.length && ` and ${one.left - one.named.length} more`}
        {one.left < one.tags && `; ${one.tags - one.left} taken away`}
        {!one.revision && ' (there before)'}
      </span>
    </>
  );
}
