// The settings of each kind of item, as the server's core defines them.

export type Level = 'site' | 'area' | 'line' | 'unit' | 'equipment' | 'device';

export interface PlaceSet {
  parent: string | null;
  name: string;
  level: Level;
  order: number;
  note: string;
  /** In degrees (WGS 84); both or neither. */
  latitude: number | null;
  longitude: number | null;
  in_service: boolean;
  /** Who watches its alarms; empty goes by the place above. */
  operator_area: string;
  /** The pattern by which shifts work; null goes by the place above. */
  shift_pattern: string | null;
  /** How what is wrong counts above; null goes by the level. */
  counts: 'each' | 'one' | null;
  /** The class of equipment that it is an instance of. */
  class: string | null;
  /** What the parameters of its class are here, by the id of the parameter. */
  parameters: Record<string, unknown>;
  /** Properties and parts of its class that it does not have. */
  without: string[];
  /** Which part it is of the equipment above. */
  part: { of: string; number: number } | null;
}

export type ParameterKind = 'number' | 'text' | 'connection';
export type RollUp = 'none' | 'sum' | 'average' | 'lowest' | 'highest' | 'count';
export type PropertyKind = 'measured' | 'setting' | 'command' | 'computed';

/** A value that each instance of a class has. */
export interface PropertySet {
  kind: PropertyKind;
  /** Stands first where the equipment is shown in short. */
  main: boolean;
  /** How the values of all such equipment in an area come to one figure. */
  roll_up: RollUp;
  /** Settings of the tag, with parameters in double brackets. */
  tag: Record<string, unknown>;
  /** Settings of alarm rules, by id. */
  rules: Record<string, Record<string, unknown>>;
}

/** A class of equipment; what it has stands by id. */
export interface ClassSet {
  name: string;
  note: string;
  order: number;
  extends: string | null;
  level: Level | null;
  parameters: Record<string, { name: string; kind: ParameterKind; default: unknown; note: string; order: number }>;
  properties: Record<string, PropertySet>;
  parts: Record<string, { name: string; class: string; count: number; parameters: Record<string, unknown>; order: number }>;
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

/** A tag that a mapping makes for each topic; `{3}` in its name stands for the third level of the topic. */
export interface Mapped {
  name: string;
  unit: string;
  decimals: number | null;
  /** What is taken of a message: the fields of a source without the topic. */
  point: Record<string, unknown>;
}

/** What a connection makes of every topic that fits, now or later. */
export interface Mapping {
  id: string;
  topics: string;
  /** The path of the place of the tags. */
  place: string;
  record: boolean;
  tags: Mapped[];
}

export interface ConnectionSet {
  name: string;
  /** As `/api/kinds` describes it. */
  kind: string;
  enabled: boolean;
  writing: boolean;
  interval_ms: number;
  timeout_ms: number;
  /** The kind's own. */
  settings: Record<string, unknown>;
  groups: Group[];
  blocks: Block[];
  mappings: Mapping[];
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
  method: string;
  arguments: string;
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
  /** The property that it is of its place's class. */
  property: string | null;
  name: string;
  note: string;
  order: number;
  connection: string | null;
  group: string | null;
  point: Partial<Point>;
  /** Computes its value, in place of a connection; with tags by their ids. */
  formula: FormulaSet | null;
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
export type RuleKind = LimitKind | 'deviation' | 'rate' | 'state' | 'expression' | 'bad_quality' | 'no_change';

/** A formula as it is stored, with tags by their ids. */
export interface FormulaSet {
  text: string;
  mixed: 'convert' | 'refuse';
}

export const CONCERNS = ['safety', 'environment', 'production', 'quality', 'equipment'] as const;
export type Concern = (typeof CONCERNS)[number];
/** How grave it is where nobody acts on an alarm: 0 none, 1 minor, 2 major, 3 severe. */
export type Consequences = Record<Concern, number>;

/** The site's guide to priorities. */
export interface GuideSet {
  /** What minor, major and severe mean here. */
  meanings: Partial<Record<Concern, string[]>>;
  soon_min: number;
  later_min: number;
  /** By how grave it is, and within that by how soon somebody must act. */
  priorities: number[][];
}

export interface RuleSet {
  tag: string;
  /** The rule that it is of its tag's property. */
  class_rule: string | null;
  /** Empty for the plain one of its kind. */
  name: string;
  kind: RuleKind;
  level: number | null;
  /** Gives the limit instead of `level`. */
  level_formula: FormulaSet | null;
  setpoint: FormulaSet | null;
  side: 'either' | 'above' | 'below';
  window_s: number;
  per: 'second' | 'minute' | 'hour';
  states: number[];
  when: FormulaSet | null;
  /** 4 to 1; 0 for what is only recorded. */
  priority: number;
  deadband: number;
  deadband_in: 'unit' | 'range';
  on_delay_s: number;
  off_delay_s: number;
  enabled: boolean;
  /** While this is false, the alarm is suppressed by design. */
  only_while: FormulaSet | null;
  uncertain: 'good' | 'bad';
  /** The class of its alarms; nothing said of one without. */
  class?: string | null;
  acknowledge: boolean;
  latch: boolean;
  /** What happens where nobody acts. */
  if_ignored: string;
  consequences: Consequences;
  /** Minutes within which somebody must act. */
  respond_min: number | null;
  /** Why it has another priority than the site's guide gives. */
  overruled: string;
  checked: { by: string; at: string; mark: string } | null;
  /** Stored in its parts; given and taken as text with chips in double brackets. Nothing said where it is empty. */
  message?: unknown;
  /** Tags and formulas whose values go with events, likewise. */
  values_with?: unknown;
  first_out: string;
  cause: string;
  action: string;
}

export type Section =
  | { kind: 'text'; text: string }
  | { kind: 'summary'; tags: string[] }
  | { kind: 'values'; tags: string[] }
  | { kind: 'table'; tags: string[]; every: LookupEvery; figure: Figure; below: ('sum' | 'average')[] }
  | { kind: 'trend'; tags: string[] }
  | { kind: 'alarms' }
  | { kind: 'alarm_figures' }
  | { kind: 'loop_checks'; proofs: ('never' | 'failed' | 'changed' | 'proven')[] };

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

/** When a publication sends. */
export type When =
  | { on: 'change'; deadband: number; percent: boolean; shortest_ms: number; longest_s: number }
  | { on: 'interval'; every_ms: number };

/** Values that leave through a connection. */
export interface PublicationSet {
  name: string;
  connection: string;
  enabled: boolean;
  tags: string[];
  /** Every tag below them, at any depth. */
  places: string[];
  /** Of those only the ones whose path holds these words. */
  words: string;
  topic: string;
  /** Names in the topic in small letters, digits and “-”. */
  plain: boolean;
  format: 'json' | 'text';
  payload: string;
  when: When;
  /** A message with several tags holds all of them, not only those that changed. */
  all: boolean;
  retain: boolean;
  qos: number;
  /** Messages wait on disk while the connection is lost. */
  keep: boolean;
  /** Tags that others may write, on which topics, and where in a message the value stands. */
  write_tags: string[];
  write_topic: string;
  write_member: string;
  order: number;
}

/** What a recorder keeps of a tag. */
export type Track = 'value' | 'average' | 'minimum' | 'maximum' | 'sum';

/** Tags for which everything that is said holds. */
export interface TagChoice {
  place: string | null;
  class: string | null;
  connection: string | null;
  unit: string;
  name: string;
  words: string;
}

/** How far the rows of a lookup lie apart. */
export interface LookupEvery {
  count: number;
  unit: 'millisecond' | 'second' | 'minute' | 'hour' | 'day' | 'week' | 'month';
}

export const FIGURES = ['average', 'minimum', 'maximum', 'sum', 'first', 'last', 'count', 'good', 'states'] as const;
export type Figure = (typeof FIGURES)[number];

/** A table that somebody asks of history. */
export interface LookupSet {
  tags: string[];
  choices: TagChoice[];
  period: { last_s?: number | null; from?: string | null; to?: string | null };
  rows:
    | { of: 'stored'; held: boolean }
    | { of: 'instants'; every: LookupEvery; line: boolean }
    | { of: 'spans'; every: LookupEvery; figures: Figure[] };
  shape: 'wide' | 'long';
  quality: 'any' | 'usable' | 'good';
  condition: FormulaSet | null;
  newest_first: boolean;
  qualities: boolean;
  zone: string;
}

/** When a recorder records. */
export type RecordWhen =
  | { on: 'interval'; every_ms: number; offset_ms: number; keep: Track[] }
  | { on: 'change'; deadband: number; percent: boolean }
  | { on: 'event'; edge: 'rise' | 'fall' | 'either' }
  | { on: 'hand' };

/** Which values go into history, and when. */
export interface RecorderSet {
  name: string;
  note: string;
  running: boolean;
  tags: string[];
  choices: TagChoice[];
  when: RecordWhen;
  trigger: FormulaSet | null;
  /** Days after which what it recorded is removed; null keeps it. */
  keep_days: number | null;
  order: number;
}

/** Times of the week, by the clocks of a zone; without windows, always. */
export interface Hours {
  zone: string;
  windows: { days: string[]; from: string; to: string }[];
}

/** What alarms of one sort have in common. */
export interface AlarmClassSet {
  name: string;
  note: string;
  acknowledge: boolean;
  sound: boolean;
  /** Days for which events are kept; null keeps them. */
  keep_days: number | null;
  order: number;
}

/** Who is told by a step of a call-out plan. */
export type CallTo =
  | { kind: 'person'; account: string }
  | { kind: 'crew' }
  | { kind: 'address'; mail: string }
  | { kind: 'hook'; connection: string };

export interface CallStep {
  to: CallTo;
  wait_min: number;
}

/** Who is called for which alarms. */
export interface CallPlanSet {
  name: string;
  note: string;
  enabled: boolean;
  under: string | null;
  lowest: number;
  classes: string[];
  hours: Hours;
  after_min: number;
  steps: CallStep[];
  rounds: number;
  mail: string | null;
  order: number;
}

/** When shifts begin and end, and which crew works which. */
export interface ShiftPatternSet {
  name: string;
  zone: string;
  shifts: { name: string; from: string; to: string }[];
  crews: { id: string; name: string; people: string[] }[];
  /** The day on which the rotation began. */
  begins: string;
  /** For each day the crews of its shifts; null where nobody works. */
  rotation: (string | null)[][];
  off: { date: string; name: string }[];
  order: number;
}

export type ReportFormat = 'pdf' | 'html' | 'xlsx' | 'csv' | 'json';

/** When a report is made. */
export type DispatchWhen =
  | { on: 'hand' }
  | { on: 'schedule'; cron: string; missed: 'all' | 'last' | 'none' }
  | { on: 'shift'; missed: 'all' | 'last' | 'none' }
  | { on: 'event'; edge: 'rise' | 'fall' | 'either' };

/** Over which period a report is made. */
export type Covers = 'own' | 'hour' | 'day' | 'week' | 'month' | 'shift';

/** Where a report goes. */
export interface DeliverySet {
  connection: string;
  /** Addresses of e-mail; none elsewhere. */
  to: string[];
  file: string;
  formats: ReportFormat[];
}

/** When a report is made, over which period, and where it goes. */
export interface DispatchSet {
  name: string;
  report: string;
  running: boolean;
  when: DispatchWhen;
  trigger: FormulaSet | null;
  covers: Covers;
  shifts: string | null;
  deliveries: DeliverySet[];
  order: number;
}

export interface Sets {
  class: ClassSet;
  shift_pattern: ShiftPatternSet;
  alarm_class: AlarmClassSet;
  call_plan: CallPlanSet;
  place: PlaceSet;
  layout: LayoutSet;
  states: StatesSet;
  connection: ConnectionSet;
  tag: TagSet;
  rule: RuleSet;
  guide: GuideSet;
  report: ReportSet;
  publication: PublicationSet;
  recorder: RecorderSet;
  dispatch: DispatchSet;
}

export type Kind = keyof Sets;

export interface Item<K extends Kind> {
  id: string;
  no: number;
  revision: number;
  title: string;
  set: Sets[K];
  source: string;
  /** Of a tag: its value goes into history by itself, as the tag says or a recorder. */
  recorded: boolean;
  /** Of a connection: every address under which its device is reached. */
  addresses?: string[];
  /** Its formulas with tags by their paths, by the field that holds each. */
  formulas?: Record<string, string>;
  /** Of what belongs to an equipment class: what it says itself, and what the class says. */
  own?: Record<string, unknown>;
  inherited?: Record<string, unknown>;
  /** The type of a tag at its source, also where a layout says it. */
  holds: string;
}
