// The settings of each kind of item, as the server's core defines them.

export type Level = 'site' | 'area' | 'line' | 'unit' | 'equipment' | 'device';

export interface PlaceSet {
  parent: string | null;
  name: string;
  level: Level;
  order: number;
  note: string;
  in_service: boolean;
  /** How what is wrong counts above; null goes by the level. */
  counts: 'each' | 'one' | null;
}

export type SourceKind = 'modbus' | 'push' | 'memory' | 'signals' | 'figures';

/** One address under which a device is reached. */
export interface DevicePath {
  host?: string;
  port?: number;
  device?: string;
}

/** A secret as it is typed, or that there is one: it never comes back. */
export type Secret = { secret: string } | { kept: true };

/** With whom a secured connection is made, and as whom. */
export interface TlsSettings {
  trust?: string;
  fingerprint?: string;
  certificate?: string;
  key?: Secret | null;
}

export interface ModbusSettings extends DevicePath {
  transport?: 'tcp' | 'tls' | 'rtu_over_tcp' | 'serial';
  baud?: number;
  parity?: 'none' | 'odd' | 'even';
  stop_bits?: number;
  unit?: number;
  base?: number;
  order?: string;
  limit?: number;
  gap?: number;
  spacing_ms?: number;
  parallel?: number;
  writes?: number[];
  spare?: DevicePath[];
  takeover?: boolean;
  tls?: TlsSettings;
}

/** Tags of a connection that are read together, in a rhythm of their own. */
export interface Group {
  id: string;
  name: string;
  interval_ms: number;
  enabled: boolean;
}

/** A layout mapped onto a connection. */
export interface Block {
  id: string;
  name: string;
  layout: string;
  point: Partial<Point>;
  count: number;
  stride: number;
}

export interface ConnectionSet {
  name: string;
  kind: SourceKind;
  enabled: boolean;
  writing: boolean;
  interval_ms: number;
  timeout_ms: number;
  settings: ModbusSettings;
  groups: Group[];
  blocks: Block[];
  order: number;
}

/** One value of a layout, an array of them, or a layout within. */
export interface Member {
  id: string;
  name: string;
  offset: number;
  count: number;
  stride: number;
  layout: string | null;
  point: Partial<Point>;
  scaling: Scaling | null;
  unit: string;
  states: string | null;
  decimals: number;
  range_low: number | null;
  range_high: number | null;
}

export interface LayoutSet {
  name: string;
  note: string;
  members: Member[];
  order: number;
}

export interface Scaling {
  raw_low: number;
  raw_high: number;
  low: number;
  high: number;
  clamp?: boolean;
  curve?: 'linear' | 'root';
}

/** How the bytes of a value stand in its registers. */
export const ORDERS: readonly string[] = ['ABCD', 'CDAB', 'BADC', 'DCBA'];
/** With those in which halves and registers of 64 bits are not turned alike. */
export const LONG_ORDERS: readonly string[] = [...ORDERS, 'EFGHABCD', 'CDABGHEF', 'FEHGBADC', 'DCBAHGFE'];

/** How values of up to 32 bits stand where those of 64 bits stand in an order. */
export const halfOrder = (order: string) => ORDERS[LONG_ORDERS.indexOf(order) - ORDERS.length] ?? order;

/** The orders that values of a type can stand in; one that was chosen already stays among them. */
export const ordersOf = (type: string, chosen = '') => (type.endsWith('64') || chosen.length > 4 ? LONG_ORDERS : ORDERS);

/** Everything a register may hold. */
export const TYPES = ['u16', 'i16', 'u32', 'i32', 'u64', 'i64', 'f32', 'f64', 'bcd', 'bool', 'text'] as const;

/** Where a tag is read: fields of its connection's kind, or the member of a block. */
export interface Point {
  address: string;
  type: string;
  order: string;
  length: number;
  bit: number;
  bits: number;
  unit: number;
  block: string;
  index: number;
  member: [string, number][];
  signal: string;
  figure: string;
  connection: string;
  keep: boolean;
}

/** Names for whole numbers; switches count 0 and 1. */
export interface StatesSet {
  name: string;
  note: string;
  states: { value: number; name: string }[];
  order: number;
}

export interface TagSet {
  place: string;
  name: string;
  note: string;
  order: number;
  connection: string | null;
  group: string | null;
  point: Partial<Point>;
  scaling: Scaling | null;
  unit: string;
  /** The set that names its numbers. */
  states: string | null;
  decimals: number;
  range_low: number | null;
  range_high: number | null;
  writable: boolean;
  write_low: number | null;
  write_high: number | null;
  setpoint: string | null;
  record: boolean;
  record_mode: 'each_poll' | 'on_change';
  record_deadband: number;
}

export type LimitKind = 'low_low' | 'low' | 'high' | 'high_high';

export interface RuleSet {
  tag: string;
  kind: LimitKind;
  level: number;
  priority: number;
  deadband: number;
  on_delay_s: number;
  off_delay_s: number;
  enabled: boolean;
  cause: string;
  action: string;
}

export type Section =
  | { kind: 'text'; text: string }
  | { kind: 'summary'; tags: string[] }
  | { kind: 'values'; tags: string[] }
  | { kind: 'trend'; tags: string[] }
  | { kind: 'alarms' };

export interface ReportSet {
  name: string;
  place: string | null;
  minutes: number;
  zone: string;
  sections: Section[];
  /** In millimetres; null prints on pages. */
  label: { width: number; height: number } | null;
  order: number;
}

export interface Sets {
  place: PlaceSet;
  layout: LayoutSet;
  states: StatesSet;
  connection: ConnectionSet;
  tag: TagSet;
  rule: RuleSet;
  report: ReportSet;
}

export type Kind = keyof Sets;

export interface Item<K extends Kind> {
  id: string;
  no: number;
  revision: number;
  title: string;
  set: Sets[K];
  source: string;
  /** The type of a tag at its source, also where a layout says it. */
  holds: string;
}
