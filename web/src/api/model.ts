// The settings of each kind of item, as the server's core defines them.

export type Level = 'site' | 'area' | 'line' | 'unit' | 'equipment' | 'device';

export interface PlaceSet {
  parent: string | null;
  name: string;
  level: Level;
  order: number;
  note: string;
}

export interface ModbusSettings {
  host?: string;
  port?: number;
  unit?: number;
  base?: number;
  order?: string;
  limit?: number;
}

export interface ConnectionSet {
  name: string;
  kind: string;
  enabled: boolean;
  writing: boolean;
  interval_ms: number;
  timeout_ms: number;
  settings: ModbusSettings;
  order: number;
}

export interface Scaling {
  raw_low: number;
  raw_high: number;
  low: number;
  high: number;
  clamp?: boolean;
}

export interface Point {
  address: string;
  type: string;
  order?: string;
  length?: number;
}

export interface TagSet {
  place: string;
  name: string;
  note: string;
  order: number;
  connection: string | null;
  point: Partial<Point>;
  scaling: Scaling | null;
  unit: string;
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
}
