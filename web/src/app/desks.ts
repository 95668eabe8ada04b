// The desks, in the order of the work.

export const DESKS = [
  { path: '/board', name: 'Board' },
  { path: '/connect', name: 'Connect' },
  { path: '/model', name: 'Model' },
  { path: '/alarms', name: 'Alarms' },
  { path: '/record', name: 'Record' },
  { path: '/explore', name: 'Explore' },
  { path: '/reports', name: 'Reports' },
  { path: '/journal', name: 'Journal' },
  { path: '/system', name: 'System' },
] as const;

export type DeskName = (typeof DESKS)[number]['name'];
