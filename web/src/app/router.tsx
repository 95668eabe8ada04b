// The pages behind the addresses.

import { createRootRoute, createRoute, createRouter, lazyRouteComponent, redirect } from '@tanstack/react-router';
import { DESKS, type DeskName } from './desks';
import { Shell } from './shell';
import { readView } from './view';

/** Each desk is a bundle of its own: a first visit loads the one that it opens. */
const PAGES: Record<DeskName, ReturnType<typeof lazyRouteComponent>> = {
  Board: lazyRouteComponent(() => import('../desks/board/board'), 'Board'),
  Connect: lazyRouteComponent(() => import('../desks/connect/connect'), 'Connect'),
  Model: lazyRouteComponent(() => import('../desks/model/model'), 'Model'),
  Alarms: lazyRouteComponent(() => import('../desks/alarms/alarms'), 'Alarms'),
  Record: lazyRouteComponent(() => import('../desks/record/record'), 'Record'),
  Explore: lazyRouteComponent(() => import('../desks/explore/explore'), 'Explore'),
  Reports: lazyRouteComponent(() => import('../desks/reports/reports'), 'Reports'),
  Journal: lazyRouteComponent(() => import('../desks/journal/journal'), 'Journal'),
  System: lazyRouteComponent(() => import('../desks/system/system'), 'System'),
};

const root = createRootRoute({ component: Shell, validateSearch: readView });
const home = createRoute({
  getParentRoute: () => root,
  path: '/',
  beforeLoad: () => {
    throw redirect({ to: '/board' });
  },
});
const desks = DESKS.map(({ path, name }) => createRoute({ getParentRoute: () => root, path, component: PAGES[name] }));

const Faults = lazyRouteComponent(() => import('./faults'), 'Faults');
const faults = createRoute({ getParentRoute: () => root, path: '/faults', component: Faults });

export const router = createRouter({ routeTree: root.addChildren([home, ...desks, faults]), defaultPreload: false });
