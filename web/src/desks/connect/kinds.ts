// The kinds of connections: what each is for, and how a new one begins.

import type { ConnectionSet, SourceKind } from '../../api/model';

interface KindWords {
  name: string;
  /** What it is for, in a sentence. */
  about: string;
  /** The name a new one begins with. */
  first: string;
}

export const KINDS: Record<SourceKind, KindWords> = {
  modbus: {
    name: 'Modbus',
    about: 'A controller or device that is read over TCP, over TCP with serial frames, or over a serial line.',
    first: 'Controller 1',
  },
  push: {
    name: 'Pushed values',
    about: 'Other programs send values over HTTP, with a token and with their own times.',
    first: 'Pushed values',
  },
  memory: {
    name: 'Memory',
    about: 'Values that people set here, such as a product or a batch size; kept over a restart where that is wished.',
    first: 'Memory',
  },
  signals: {
    name: 'Signals',
    about: 'Made-up values, such as a sine or a played table, to try things out without a device.',
    first: 'Signals',
  },
  figures: {
    name: 'Figures of Havrel',
    about: 'How Havrel and its connections fare, as tags that can be recorded and alarmed like any other.',
    first: 'Havrel itself',
  },
};

/** Where a connection leads, in a few words. */
export function whereTo(set: ConnectionSet, path = 0): string {
  if (set.kind !== 'modbus') return KINDS[set.kind]?.name ?? set.kind;
  const s = path === 0 ? set.settings : (set.settings.spare?.[path - 1] ?? set.settings);
  return set.settings.transport === 'serial' ? (s.device ?? '') : `${s.host ?? ''}:${s.port ?? 502}`;
}

/** Whether its device is asked in some rhythm. */
export const isPolled = (kind: SourceKind) => kind === 'modbus' || kind === 'signals';
