// Following a value: every joint on its way from the wire to the tag, the first one that is broken, and where the value goes.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import type { ReactNode } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useMay, useTags } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { Picker } from '../../parts/picker';
import { moment } from '../../parts/text';
import { Button, DeskHead, Empty, Trouble } from '../../parts/ui';
import { Value } from '../../parts/value';

type Followed = Schemas['FollowedView'];
type Joint = Schemas['JointView'];
type User = Schemas['UserView'];

/** The joints are asked for so often, in ms. */
const BEAT = 1000;

const NAMES: Record<string, string> = {
  connection: 'Connection',
  group: 'Polling group',
  place: 'Place',
  point: 'Point',
  scaling: 'Scaling',
  formula: 'Formula',
  by_hand: 'By hand',
  value: 'Value',
};

const MARKS: Record<string, [mark: string, words: string, look: string]> = {
  good: ['●', 'good', 'text-teal'],
  uncertain: ['~', 'uncertain', 'font-bold text-ink'],
  bad: ['⨯', 'broken', 'font-bold text-act4'],
  unreached: ['○', 'not reached', 'text-soft'],
  off: ['–', 'off', 'text-soft'],
};

/** A value of a tag and all that its formula reads, whatever the depth. */
export const withInputs = (followed: Followed): Followed[] => [followed, ...followed.inputs.flatMap(withInputs)];

export function FollowPage({ id }: { id: string }) {
  const go = useGo();
  const { at } = useView();
  const told = useQuery({
    queryKey: ['follow', id],
    queryFn: () => take(http.GET('/api/tags/{id}/follow', { params: { path: { id } } })),
    refetchInterval: BEAT,
    staleTime: 0,
    retry: false,
  });
  const from = told.data?.from;
  const head = from?.title.split('/') ?? [];
  return (
    <div className="flex h-full min-h-0 flex-col">
      <DeskHead path={head.slice(0, -1).join(' / ')} title={`Follow ${head.at(-1) ?? 'a value'}`}>
        <Button onClick={() => go({ tag: id })}>Open tag</Button>
        <Button onClick={() => go({ follow: undefined, tags: id })}>Trend</Button>
        <Button onClick={() => go({ follow: undefined })}>Close</Button>
      </DeskHead>
      <Picker
        label="Follow another value"
        kind="tag"
        under={at}
        accept={(hit) => hit.id !== id}
        onPick={(next) => go({ follow: next })}
        className="mb-3 w-96"
      />
      <Trouble error={told.error} />
      {told.error && !told.data && <Empty title="Nothing to follow">Choose a tag above.</Empty>}
      {told.data && from && (
        <>
          <Verdict told={told.data} />
          <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 overflow-auto">
            <section aria-label="Where it comes from">
              <h2 className="mb-1 font-semibold">Where it comes from</h2>
              <Way followed={from} told={told.data} />
            </section>
            <section aria-label="Where it goes">
              <h2 className="mb-1 font-semibold">Where it goes</h2>
              <ul className="rounded-md border border-line bg-raised">
                {told.data.to.map((user) => (
                  <Goal key={`${user.kind} ${user.id} ${user.words}`} user={user} />
                ))}
              </ul>
            </section>
          </div>
        </>
      )}
    </div>
  );
}

/** Which joint is broken, said once for the whole page. */
function Verdict({ told }: { told: Schemas['FollowView'] }) {
  const go = useGo();
  const all = withInputs(told.from);
  const followed = all.find((one) => one.tag === told.broken_tag);
  const joint = followed?.joints[told.broken_joint ?? -1];
  if (!followed || !joint) {
    return (
      <p role="status" className="mb-3">
        <Mark state="good" /> Every joint is good.
      </p>
    );
  }
  const elsewhere = followed.tag !== told.from.tag;
  return (
    <p role="status" className="mb-3">
      <Mark state={joint.state} />{' '}
      <b>
        First {joint.state === 'uncertain' ? 'uncertain' : 'broken'} joint: {NAMES[joint.kind]} {joint.words}
      </b>
      {joint.reason && <>: {joint.reason}.</>} {joint.cure && <span className="text-soft">{joint.cure}</span>}
      {elsewhere && (
        <>
          {' '}
          It breaks the input{' '}
          <button type="button" className="text-teal hover:underline" onClick={() => go({ follow: followed.tag })}>
            {followed.title.split('/').slice(-2).join(' / ')}
          </button>
          .
        </>
      )}
    </p>
  );
}

function Mark({ state }: { state: string }) {
  const [mark, words, look] = MARKS[state] ?? ['', state, ''];
  return (
    <span role="img" className={clsx('inline-block w-4 text-center', look)} aria-label={words} title={words}>
      {mark}
    </span>
  );
}

/** The joints of a value in the order in which it passes them; what a formula reads comes first. */
function Way({ followed, told }: { followed: Followed; told: Schemas['FollowView'] }) {
  const tag = useTags([followed.tag])[0];
  const go = useGo();
  return (
    <div className="rounded-md border border-line bg-raised">
      {followed.tag !== told.from.tag && (
        <p className="flex items-center gap-2 border-b border-line bg-band px-2 py-1">
          <button
            type="button"
            className="min-w-0 flex-1 truncate text-left hover:text-teal"
            onClick={() => go({ follow: followed.tag })}
          >
            {followed.title.replaceAll('/', ' / ')}
          </button>
          {tag && <Value no={tag.no} set={tag.set} own />}
        </p>
      )}
      {followed.inputs.length > 0 && (
        <div className="space-y-2 border-b border-line p-2">
          {followed.inputs.map((input) => (
            <Way key={input.tag} followed={input} told={told} />
          ))}
        </div>
      )}
      <ol>
        {followed.joints.map((joint, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a joint is known by its place on the way
          <JointRow key={i} joint={joint} first={told.broken_tag === followed.tag && told.broken_joint === i}>
            {joint.kind === 'point' && <Raw tag={followed.tag} />}
            {joint.kind === 'value' && tag && (
              <>
                <Value no={tag.no} set={tag.set} own />
                {followed.value?.time && <span className="figures ml-3 text-soft">{moment(followed.value.time)}</span>}
              </>
            )}
          </JointRow>
        ))}
      </ol>
    </div>
  );
}

function JointRow({ joint, first, children }: { joint: Joint; first: boolean; children: ReactNode }) {
  const go = useGo();
  const there = () => {
    if (joint.item_kind === 'connection') go({ connection: joint.item ?? undefined, part: undefined }, '/connect');
    else if (joint.item_kind === 'place') go({ at: joint.item ?? undefined });
    else go({ tag: joint.item ?? undefined });
  };
  const code = joint.kind === 'point' || joint.kind === 'formula' || joint.kind === 'scaling';
  return (
    <li className={clsx('flex gap-2 border-t border-line px-2 py-1.5 first:border-t-0', first && 'bg-tint')}>
      <Mark state={joint.state} />
      <span className="w-28 shrink-0 text-soft">{NAMES[joint.kind] ?? joint.kind}</span>
      <span className="min-w-0 flex-1">
        {joint.kind !== 'value' && (
          <span
            className={clsx(
              '[overflow-wrap:anywhere]',
              code && 'figures font-normal',
              joint.state === 'unreached' && 'text-soft',
            )}
          >
            {joint.words}
          </span>
        )}
        {children}
        {joint.state === 'unreached' && <span className="text-soft"> · not reached</span>}
        {joint.reason && (
          <span className="block">
            <span className={clsx(joint.state === 'bad' && 'text-act4')}>{joint.reason}</span>{' '}
            <span className="text-soft">{joint.cure}</span>
          </span>
        )}
      </span>
      {joint.item && (
        <Button
          kind="quiet"
          className="-my-0.5"
          aria-label={`Open ${NAMES[joint.kind]?.toLowerCase()} ${joint.words}`}
          onClick={there}
        >
          Open
        </Button>
      )}
    </li>
  );
}

/** What the device sends now, byte by byte, and what that means. */
function Raw({ tag }: { tag: string }) {
  const engineer = useMay('engineer');
  const raw = useQuery({
    queryKey: ['raw', [tag]],
    enabled: engineer,
    queryFn: () => take(http.POST('/api/values/raw', { body: { tags: [tag] } })),
    refetchInterval: BEAT,
    staleTime: 0,
    retry: false,
  }).data?.[0];
  if (!raw?.bytes) return null;
  const decoded = raw.decoded as unknown;
  return (
    <span className="block text-soft">
      bytes <span className="figures">{raw.bytes}</span>
      {decoded !== null && (
        <>
          {' '}
          · decoded <span className="figures">{String(decoded)}</span>
        </>
      )}
    </span>
  );
}

function Goal({ user }: { user: User }) {
  const go = useGo();
  const ways: Record<string, () => void> = {
    tag: () => go({ follow: user.id ?? undefined }),
    report: () => go({ report: user.id ?? undefined }, '/reports'),
    rule: () => go({}, '/alarms'),
    recorder: () => go({ of: user.id ?? undefined }, '/record'),
  };
  const there = ways[user.kind];
  return (
    <li className="flex gap-2 border-t border-line px-2 py-1.5 first:border-t-0">
      <Mark state={user.state} />
      <span className="min-w-0 flex-1">
        {there ? (
          <button type="button" className="text-left text-teal hover:underline" onClick={there}>
            {user.words}
          </button>
        ) : (
          user.words
        )}
        {user.reason && <span className={clsx('block', user.state === 'bad' ? 'text-act4' : 'text-soft')}>{user.reason}</span>}
      </span>
    </li>
  );
}
