// The frame around every desk: plant column, desks, inspector, watch line.

import { useQuery } from '@tanstack/react-query';
import { Link, Outlet, useRouterState } from '@tanstack/react-router';
import clsx from 'clsx';
import { ALargeSmall, Keyboard, LogOut, Moon, Search, Sun, SunMoon, Unplug } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';
import { Suspense, useEffect, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, take } from '../api/client';
import { type Status, useAlarmCount, useLink, useRevision, useStatus } from '../api/live';
import { configurationMoved, madeHere, queries, useItems, useSession } from '../api/queries';
import { usePast } from '../api/shown';
import { ALARM_SIZES, type AlarmSize, setAlarmSize, useAlarmSize } from '../parts/alarm-text';
import { useKinds } from '../parts/kinds';
import { learnChanging, learnStates, learnUnits } from '../parts/reading';
import { clock } from '../parts/text';
import { choose, useWish, type Wish } from '../parts/theme';
import { useTab } from './attention';
import { DESKS } from './desks';
import { newsOf } from './elsewhere';
import { KeyList, useKeys } from './keys';
import { late } from './late';
import { LookBack, useLookBack } from './look-back';
import { PlantColumn } from './plant-column';
import { signOut } from './session';
import { useGo, useView } from './view';
import { WatchLine } from './watch-line';

const inspector = late(async () => (await import('./inspector')).TagInspector);
const palette = late(async () => (await import('./palette')).Palette);
const alarmPage = late(async () => (await import('./alarm-page')).AlarmPage);
const [TagInspector, AlarmPage, Palette] = [inspector.component, alarmPage.component, palette.component];
/** When the page has settled, in ms. */
const SETTLED = 1000;

/** Loads what is likely to be wanted next, once the page stands. */
function useLate() {
  useEffect(() => {
    const timer = setTimeout(() => palette.load().catch(() => undefined), SETTLED);
    // Whoever only looks, as on a wall, opens nothing.
    const begin = () => {
      for (const part of [inspector, alarmPage]) part.load().catch(() => undefined);
    };
    const acts = ['pointermove', 'keydown'];
    for (const act of acts) window.addEventListener(act, begin, { once: true });
    return () => {
      clearTimeout(timer);
      for (const act of acts) window.removeEventListener(act, begin);
    };
  }, []);
}

/** The least time between two readings of the alarms, in ms: 2.5 s for 10,000. */
const readEvery = () => (queries.getQueryData<{ alarms: unknown[] }>(['alarms', 'standing'])?.alarms.length ?? 0) / 4;

/** Reads anew what the feed says has changed. */
function useFollow() {
  const revision = useRevision();
  const alarms = useAlarmCount();
  const known = useRef(-1);
  useEffect(() => {
    if (revision < 0) return;
    void configurationMoved(revision);
    // The first is only where we came in.
    if (known.current >= 0 && revision > known.current && !madeHere(revision)) void tell(revision);
    known.current = revision;
  }, [revision]);
  const hands = useStatus()?.by_hand.version;
  useEffect(() => {
    if (hands !== undefined) void queries.invalidateQueries({ queryKey: ['hands'] });
  }, [hands]);
  const asked = useRef(0);
  useEffect(() => {
    if (alarms === 0) return;
    // The longer the list, the longer it takes to read: a flood does not ask for thousands of alarms at every one that comes.
    const rest = asked.current + readEvery() - Date.now();
    const timer = setTimeout(
      () => {
        asked.current = Date.now();
        void queries.invalidateQueries({ queryKey: ['alarms'] });
      },
      Math.max(0, rest),
    );
    return () => clearTimeout(timer);
  }, [alarms]);
}

/** Tells of connections that break and come back, wherever somebody looks meanwhile. */
function useNews() {
  const status = useStatus();
  const connections = useItems('connection').data?.items;
  const isPast = usePast();
  const before = useRef<Status | null>(null);
  useEffect(() => {
    if (!status) return;
    if (isPast) {
      before.current = null;
      return;
    }
    if (before.current) {
      const names = new Map(connections?.map((c) => [c.id, c.set.name]));
      for (const { key, well, words, more } of newsOf(before.current, status, names))
        (well ? toast.success : toast.warning)(words, { id: `news ${key}`, ...(more ? { description: more } : {}) });
    }
    before.current = status;
  }, [status, connections, isPast]);
}

/** Makes known how values are read: units, the names of states, and which connections send what changes. */
function useWords() {
  const units = useQuery({
    queryKey: ['units'],
    queryFn: () => take(http.GET('/api/units')),
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  const states = useItems('states').data?.items;
  useEffect(() => {
    if (units) learnUnits(units);
  }, [units]);
  useEffect(() => {
    if (states) learnStates(states);
  }, [states]);
  const kinds = useKinds();
  const connections = useItems('connection').data?.items;
  useEffect(() => {
    const changes = new Set(kinds.filter((kind) => kind.can.changes).map(({ kind }) => kind));
    learnChanging((connections ?? []).filter(({ set }) => changes.has(set.kind)).map(({ id }) => id));
  }, [kinds, connections]);
}

/** Says who changed the configuration elsewhere. */
async function tell(revision: number) {
  try {
    const found = await take(http.GET('/api/revisions', { params: { query: { before: revision + 1, limit: 1 } } }));
    // It may have become known meanwhile that it was made here.
    if (found[0] && !madeHere(revision)) toast(`${found[0].actor}: ${found[0].why}`, { description: `revision ${revision}` });
  } catch {
    // Nobody waits for this; the journal has it.
  }
}

export function Shell() {
  useFollow();
  useLate();
  useNews();
  useWords();
  const view = useView();
  const go = useGo();
  const path = useRouterState({ select: (s) => s.location.pathname });
  useLookBack(view.instant);
  const [open, setOpen] = useState<'palette' | 'keys' | null>(null);
  const keys = useMemo(
    () => ({
      palette: () => setOpen('palette'),
      list: () => setOpen('keys'),
      desk: (to: string) => go({}, to),
    }),
    [go],
  );
  useKeys(keys);
  useTab(DESKS.find((d) => d.path === path)?.name ?? 'Havrel');
  const wall = path === '/board' && view.part === 'wall';
  return (
    <div
      className={clsx(
        'frame grid h-full grid-cols-[15.25rem_minmax(0,1fr)_auto]',
        wall
          ? 'grid-rows-[0_auto_minmax(0,1fr)_minmax(2.25rem,auto)]'
          : 'grid-rows-[2.75rem_auto_minmax(0,1fr)_minmax(2.25rem,auto)]',
      )}
    >
      <header className={clsx('col-span-3 items-center border-b border-line', wall ? 'hidden' : 'flex')}>
        <Link
          to="/board"
          search={{ at: view.at, instant: view.instant } as never}
          className="flex w-[15.25rem] shrink-0 items-center gap-2 px-3.5 text-[1.0625rem] font-semibold"
        >
          <img src="/mark.svg" alt="" className="size-6" />
          Havrel
        </Link>
        <nav aria-label="Desks" className="flex h-full min-w-0 flex-1">
          {DESKS.map((desk) => (
            <Link
              key={desk.path}
              to={desk.path}
              search={{ at: view.at, instant: view.instant } as never}
              className={clsx(
                'flex h-full items-center border-b-2 px-3.5',
                path === desk.path ? 'border-teal font-semibold' : 'border-transparent hover:bg-band',
              )}
              aria-current={path === desk.path ? 'page' : undefined}
            >
              {desk.name}
            </Link>
          ))}
        </nav>
        <button
          type="button"
          onClick={keys.palette}
          className="mr-1 flex h-7 items-center gap-1.5 rounded px-2.5 text-soft hover:bg-band"
        >
          <Search className="size-4" aria-hidden /> Find <kbd className="figures text-sm">Ctrl K</kbd>
        </button>
        <DemoLink />
        <Account onKeys={keys.list} />
      </header>
      <Notice />
      {view.instant !== undefined && <LookBack instant={view.instant} />}
      {!wall && (
        <aside className="row-start-3 min-h-0 border-r border-line">
          <PlantColumn />
        </aside>
      )}
      <main className={clsx('relative row-start-3 overflow-auto px-4.5 py-3.5', wall && 'col-span-3')}>
        <Outlet />
      </main>
      {view.tag && !wall && (
        <Suspense fallback={<aside className="row-start-3 w-80 border-l border-line bg-raised" />}>
          <TagInspector key={view.tag} id={view.tag} onClose={() => go({ tag: undefined })} />
        </Suspense>
      )}
      {view.alarm && !view.tag && !wall && (
        <Suspense fallback={<aside className="row-start-3 w-80 border-l border-line bg-raised" />}>
          <AlarmPage key={view.alarm} rule={view.alarm} onClose={() => go({ alarm: undefined })} />
        </Suspense>
      )}
      <WatchLine />
      {open === 'palette' && (
        <Suspense>
          <Palette open onClose={() => setOpen(null)} onKeys={keys.list} />
        </Suspense>
      )}
      <KeyList open={open === 'keys'} onClose={() => setOpen(null)} />
    </div>
  );
}

/** The way to the faults, where there is a simulated plant. */
function DemoLink() {
  const session = useSession();
  const view = useView();
  if (!session.data?.demo) return null;
  return (
    <Link
      to="/faults"
      search={{ at: view.at, instant: view.instant } as never}
      className="mr-1 flex h-7 items-center gap-1.5 rounded px-2.5 hover:bg-band"
    >
      <Unplug className="size-4" /> Demo faults
    </Link>
  );
}

const THEMES: { wish: Wish; name: string; icon: typeof Sun }[] = [
  { wish: 'day', name: 'Day theme', icon: Sun },
  { wish: 'night', name: 'Night theme', icon: Moon },
  { wish: 'system', name: 'Theme of the system', icon: SunMoon },
];
const ENTRY = 'flex items-center gap-2 rounded px-2 py-1 data-[highlighted]:bg-band';

function Account({ onKeys }: { onKeys: () => void }) {
  const session = useSession();
  const wished = useWish();
  const size = useAlarmSize();
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="mr-2 h-7 rounded px-2.5 hover:bg-band">{session.data?.name}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-50 min-w-44 rounded border border-firm bg-raised p-1 shadow">
          <p className="px-2 py-1 text-sm text-soft">Signed in as {session.data?.role}</p>
          <DropdownMenu.RadioGroup value={wished} onValueChange={(next) => choose(next as Wish)}>
            {THEMES.map(({ wish, name, icon: Icon }) => (
              <DropdownMenu.RadioItem key={wish} value={wish} className={ENTRY}>
                <Icon className="size-4" /> {name}
                <DropdownMenu.ItemIndicator className="ml-auto pl-2">✓</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          <p className="px-2 py-1 text-sm text-soft">Alarm list and watch line</p>
          <DropdownMenu.RadioGroup value={size} onValueChange={(next) => setAlarmSize(next as AlarmSize)}>
            {Object.entries(ALARM_SIZES).map(([value, name]) => (
              <DropdownMenu.RadioItem key={value} value={value} className={ENTRY}>
                <ALargeSmall className="size-4" /> Alarm text, {name}
                <DropdownMenu.ItemIndicator className="ml-auto pl-2">✓</DropdownMenu.ItemIndicator>
              </DropdownMenu.RadioItem>
            ))}
          </DropdownMenu.RadioGroup>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          <DropdownMenu.Item className={ENTRY} onSelect={onKeys}>
            <Keyboard className="size-4" /> Keyboard shortcuts
          </DropdownMenu.Item>
          <DropdownMenu.Item className={ENTRY} onSelect={() => void signOut()}>
            <LogOut className="size-4" /> Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Says what is not as it should be with Havrel itself. */
function Notice() {
  const link = useLink();
  const status = useStatus();
  let words = '';
  if (status?.spool_trouble) {
    const lost = status.lost > 0 ? ` ${status.lost} samples were lost for lack of space.` : '';
    words = `The spool cannot be written: ${status.spool_trouble}. Free space on its disk.${lost}`;
  }
  if (link === 'lost') words = 'The server cannot be reached. What you see is out of date; Havrel keeps trying.';
  else if (!words && status && !status.database_ok) {
    const waiting =
      status.spool_frames > 0
        ? ` ${status.spool_frames} frames (${Math.ceil(status.spool_bytes / 1024)} KiB) wait on disk to be stored.`
        : '';
    const lost = status.lost > 0 ? ` ${status.lost} samples were lost for lack of space.` : '';
    const said = status.database_trouble ? ` It says: ${status.database_trouble}.` : '';
    words = `The database has stored no values since ${clock(status.database_since)}. Live values and alarms continue.${waiting}${lost}${said}`;
  }
  if (status?.faults.length) {
    words = `Restarting after a fault: ${status.faults.join(', ')}. It does nothing until then.`;
  }
  if (!words) return null;
  return (
    <div role="status" className="col-span-3 row-start-2 border-b border-act3 bg-band px-4.5 py-1.5 font-semibold text-act3">
      {words}
    </div>
  );
}
