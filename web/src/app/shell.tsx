// The frame around every desk: plant column, desks, inspector, watch line.

import { Link, Outlet, useRouterState } from '@tanstack/react-router';
import clsx from 'clsx';
import { LogOut, Unplug } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';
import { useEffect } from 'react';
import { useAlarmCount, useLink, useRevision, useStatus } from '../api/live';
import { configurationMoved, queries, useSession } from '../api/queries';
import { clock } from '../parts/text';
import { TagInspector } from './inspector';
import { PlantColumn } from './plant-column';
import { DESKS, useGo, useView } from './router';
import { signOut } from './session';
import { WatchLine } from './watch-line';

/** Reads anew what the feed says has changed. */
function useFollow() {
  const revision = useRevision();
  const alarms = useAlarmCount();
  useEffect(() => {
    if (revision >= 0) void configurationMoved();
  }, [revision]);
  useEffect(() => {
    if (alarms > 0) void queries.invalidateQueries({ queryKey: ['alarms'] });
  }, [alarms]);
}

export function Shell() {
  useFollow();
  const view = useView();
  const go = useGo();
  const path = useRouterState({ select: (s) => s.location.pathname });
  useEffect(() => {
    document.title = `${DESKS.find((d) => d.path === path)?.name ?? 'Havrel'} – Havrel`;
  }, [path]);
  return (
    <div className="grid h-full grid-cols-[15.25rem_minmax(0,1fr)_auto] grid-rows-[2.75rem_auto_minmax(0,1fr)_2.25rem]">
      <header className="col-span-3 flex items-center border-b border-line">
        <Link
          to="/board"
          search={{ at: view.at } as never}
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
              search={{ at: view.at } as never}
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
        <DemoLink />
        <Account />
      </header>
      <Notice />
      <aside className="row-start-3 overflow-auto border-r border-line">
        <PlantColumn />
      </aside>
      <main className="row-start-3 overflow-auto px-4.5 py-3.5">
        <Outlet />
      </main>
      {view.tag && <TagInspector key={view.tag} id={view.tag} onClose={() => go({ tag: undefined })} />}
      <WatchLine />
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
      search={{ at: view.at } as never}
      className="mr-1 flex h-7 items-center gap-1.5 rounded px-2.5 hover:bg-band"
    >
      <Unplug className="size-4" /> Demo faults
    </Link>
  );
}

function Account() {
  const session = useSession();
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="mr-2 h-7 rounded px-2.5 hover:bg-band">{session.data?.name}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-50 min-w-44 rounded border border-firm bg-raised p-1 shadow">
          <p className="px-2 py-1 text-sm text-soft">Signed in as {session.data?.role}</p>
          <DropdownMenu.Item
            className="flex items-center gap-2 rounded px-2 py-1 data-[highlighted]:bg-band"
            onSelect={() => void signOut()}
          >
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
    const lost = status.lost > 0 ? ` ${status.lost} samples found no room and are lost.` : '';
    words = `The disk of the spool refuses: ${status.spool_trouble}. Make room on it.${lost}`;
  }
  if (link === 'lost') words = 'The server cannot be reached. What you see is old; it is tried again by itself.';
  else if (!words && status && !status.database_ok) {
    const waiting =
      status.spool_frames > 0
        ? ` ${status.spool_frames} frames (${Math.ceil(status.spool_bytes / 1024)} KiB) wait on disk to be stored.`
        : '';
    const lost = status.lost > 0 ? ` ${status.lost} samples found no room and are lost.` : '';
    words = `The database has not answered since ${clock(status.database_since)}. Live values and alarms go on.${waiting}${lost}`;
  }
  if (!words) return null;
  return (
    <div role="status" className="col-span-3 row-start-2 border-b border-act3 bg-band px-4.5 py-1.5 font-semibold text-act3">
      {words}
    </div>
  );
}
