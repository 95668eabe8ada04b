// What leaves through a connection: its publications with what they sent, the queue, and a message by hand.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../../api/client';
import { useNow } from '../../../api/live';
import type { Item } from '../../../api/model';
import { commit, useItems } from '../../../api/queries';
import { useDraft } from '../../../parts/draft';
import { complain, useForm } from '../../../parts/form';
import { counted, lasting } from '../../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, INPUT, Input, Tick, Trouble } from '../../../parts/ui';
import { blank, type Draft, draftName, draftOf, troubleOf, whenWords } from './publication';
import { PublicationForm } from './publication-form';

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
  /** What it sends leaves as metrics of devices. */
  metrics: boolean;
}

export function Publishing({ item, seen, disabled, metrics }: Props) {
  const [draft, setDraft] = useDraft<Draft | null>(draftName(item.id), null);
  const [leaving, setLeaving] = useState<Item<'publication'> | null>(null);
  const all = useItems('publication', { connection: item.id }).data?.items ?? [];
  const state = useQuery({
    queryKey: ['items', 'publishing', item.id],
    queryFn: () => take(http.GET('/api/connections/{id}/publishing', { params: { path: { id: item.id } } })),
    enabled: !disabled,
    refetchInterval: 2000,
    staleTime: 0,
  });
  const edit = (why: string, one: Item<'publication'>, set: { enabled: boolean }) =>
    commit(why, seen, [{ op: 'patch', kind: 'publication', id: one.id, set }]).catch(complain);
  const remove = (one: Item<'publication'>) => {
    setLeaving(null);
    const why = `Removed the publication ${one.set.name} of ${item.set.name}`;
    return commit(why, seen, [{ op: 'delete', kind: 'publication', id: one.id }]).catch(complain);
  };
  return (
    <div>
      {draft && (
        <PublicationForm
          item={item}
          seen={seen}
          draft={draft}
          metrics={metrics}
          onChange={setDraft}
          onClose={() => setDraft(null)}
        />
      )}
      {!draft && (
        <>
          {all.length === 0 && metrics ? (
            <p className="mb-2 max-w-3xl text-soft">
              A publication announces chosen tags as metrics of devices, and tells their values on change or in a rhythm. What
              cannot leave waits on disk and arrives later with its own times.
            </p>
          ) : all.length === 0 ? (
            <p className="mb-2 max-w-3xl text-soft">
              A publication sends the values of chosen tags to the broker, on change or in a rhythm, each on a topic of its own or
              several in one message. What cannot leave waits on disk.
            </p>
          ) : (
            <table aria-label="Publications" className="mb-2 w-full border border-line text-left">
              <thead className="bg-band text-sm">
                <tr>
                  <th className="px-2 font-semibold">Publication</th>
                  <th className="px-2 font-semibold">{metrics ? 'Device / metric' : 'Topic'}</th>
                  <th className="px-2 font-semibold">Sends</th>
                  <th className="w-16 px-2 text-right font-semibold">{metrics ? 'Metrics' : 'Topics'}</th>
                  <th className="w-20 px-2 text-right font-semibold">Sent</th>
                  <th className="w-24 px-2 font-semibold">Last</th>
                  <th className="w-56 px-2" />
                </tr>
              </thead>
              <tbody>
                {all.map((one) => (
                  <Row
                    key={one.id}
                    one={one}
                    state={state.data?.publications.find(({ id }) => id === one.id)}
                    disabled={disabled}
                    onChange={() => setDraft(draftOf(one.id, one.set))}
                    onSwitch={() => {
                      const enabled = !one.set.enabled;
                      const why = `${enabled ? 'Resumed' : 'Paused'} the publication ${one.set.name} of ${item.set.name}`;
                      void edit(why, one, { enabled });
                    }}
                    onRemove={() => setLeaving(one)}
                  />
                ))}
              </tbody>
            </table>
          )}
          <Button disabled={disabled} onClick={() => setDraft(blank(metrics))}>
            Add a publication
          </Button>
        </>
      )}
      <Trouble error={state.error} />
      {state.data && <Queue state={state.data} any={all.length > 0} />}
      {!disabled && !metrics && <ByHand item={item} />}
      <Confirm
        open={leaving !== null}
        title={`Remove ${leaving?.set.name ?? ''}?`}
        action="Remove publication"
        grave={false}
        onConfirm={() => leaving && void remove(leaving)}
        onClose={() => setLeaving(null)}
      >
        <p>
          {metrics
            ? 'Its metrics are announced no more.'
            : 'Messages that wait already are still sent. What the broker retains stays there.'}
        </p>
      </Confirm>
    </div>
  );
}

function Row({
  one,
  state,
  disabled,
  onChange,
  onSwitch,
  onRemove,
}: {
  one: Item<'publication'>;
  state: Schemas['PublicationView'] | undefined;
  disabled: boolean;
  onChange: () => void;
  onSwitch: () => void;
  onRemove: () => void;
}) {
  const now = useNow();
  const { name, topic, when, enabled } = one.set;
  const trouble = state ? troubleOf(state) : '';
  return (
    <>
      <tr className="h-8 border-t border-line">
        <td className="px-2 font-semibold">{name}</td>
        <td className="figures px-2">{topic}</td>
        <td className="px-2 text-soft">{enabled ? whenWords(when) : 'paused'}</td>
        <td className="figures px-2 text-right">{state?.topics?.toLocaleString('en') ?? '–'}</td>
        <td className="figures px-2 text-right">{state?.sent.toLocaleString('en') ?? '–'}</td>
        <td className="px-2 whitespace-nowrap text-soft">
          {state?.last ? `${lasting(Math.max(0, now - Date.parse(state.last)))} ago` : 'none yet'}
        </td>
        <td className="px-2 text-right whitespace-nowrap">
          <Button disabled={disabled} aria-label={`Change ${name}`} onClick={onChange}>
            Change
          </Button>{' '}
          <Button kind="quiet" disabled={disabled} aria-label={`${enabled ? 'Pause' : 'Resume'} ${name}`} onClick={onSwitch}>
            {enabled ? 'Pause' : 'Resume'}
          </Button>{' '}
          <Button kind="quiet" disabled={disabled} aria-label={`Remove ${name}…`} onClick={onRemove}>
            Remove…
          </Button>
        </td>
      </tr>
      {state && state.written > 0 && (
        <tr>
          <td colSpan={7} className="px-2 pb-1 text-soft">
            {counted(state.written, 'write')} by others
            {state.write_last && `, the last one ${lasting(Math.max(0, now - Date.parse(state.write_last)))} ago`}
          </td>
        </tr>
      )}
      {trouble && (
        <tr>
          <td colSpan={7} className="px-2 pb-1 text-act4">
            ⨯ {trouble}
          </td>
        </tr>
      )}
    </>
  );
}

const mebibytes = (bytes: number) => `${(bytes / 1048576).toFixed(1)} MiB`;

/** How the queue on disk stands. */
function Queue({ state, any }: { state: Schemas['PublishingView']; any: boolean }) {
  const now = useNow();
  const { waiting, oldest, bytes, room, lost, trouble } = state;
  if (!any && waiting === 0 && lost === 0) return null;
  return (
    <p role="status" className="mt-2 text-soft">
      {waiting === 0
        ? 'Nothing waits: all messages have left.'
        : `${counted(waiting, 'message')} ${waiting === 1 ? 'waits' : 'wait'}${
            oldest ? `, the oldest for ${lasting(Math.max(0, now - Date.parse(oldest)))}` : ''
          }; ${mebibytes(bytes)} of ${mebibytes(room)} on disk.`}
      {lost > 0 && <span className="text-act4"> {counted(lost, 'message')} lost because the queue was full.</span>}
      {trouble && <span className="text-act4"> The disk refuses: {trouble}.</span>}
    </p>
  );
}

const EMPTY = { topic: '', payload: '', qos: '1', retain: false };

/** A message by hand, to see that it arrives. */
function ByHand({ item }: { item: Item<'connection'> }) {
  const form = useForm(EMPTY, ['topic', 'payload', 'qos'], { draft: `message ${item.id}` });
  const { topic, payload, qos, retain } = form.values;
  async function send() {
    const params = { path: { id: item.id } };
    const body = { topic: topic.trim(), payload, qos: Number(qos), retain };
    const done = await form.probe(() => take(http.POST('/api/connections/{id}/publishing/message', { params, body })));
    if (done) toast.success(qos === '0' ? `Sent on ${topic.trim()}.` : `The broker has the message on ${topic.trim()}.`);
  }
  return (
    <form
      aria-label="Send a message by hand"
      className="mt-4 max-w-4xl"
      onSubmit={(event) => {
        event.preventDefault();
        void send();
      }}
    >
      <h3 className="mb-1 font-semibold">Send a message by hand</h3>
      <div className="grid grid-cols-[minmax(0,1fr)_9rem_auto_auto] items-start gap-3">
        <Field label="On the topic" error={form.error('topic')}>
          {(p) => (
            <Input
              {...p}
              className="figures"
              value={topic}
              placeholder="works/test"
              onChange={(e) => form.set('topic', e.target.value)}
            />
          )}
        </Field>
        <Field label="Delivery" error={form.error('qos')}>
          {(p) => (
            <Choice {...p} value={qos} onChange={(e) => form.set('qos', e.target.value)}>
              <option value="0">at most once</option>
              <option value="1">at least once</option>
              <option value="2">exactly once</option>
            </Choice>
          )}
        </Field>
        <span className="mt-6">
          <Tick label="Retained" checked={retain} onChange={(on) => form.set('retain', on)} />
        </span>
        <Button className="mt-5" type="submit" disabled={form.busy}>
          Send message
        </Button>
      </div>
      <Field label="Payload" error={form.error('payload')}>
        {(p) => (
          <textarea
            {...p}
            rows={2}
            spellCheck={false}
            className={`${INPUT} figures h-auto py-1`}
            value={payload}
            onChange={(e) => form.set('payload', e.target.value)}
          />
        )}
      </Field>
      <FormTrouble form={form} className="mt-1" />
    </form>
  );
}
