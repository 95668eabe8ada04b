// Every alarm rule in a sheet that is written in, over any choice of places and words; with the settings of one above it.

import { useQuery } from '@tanstack/react-query';
import { CopyPlus, History } from 'lucide-react';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useAlarms, useMay, useSuppressed } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { ColumnChoice } from '../../parts/column-choice';
import { Grid, type GridHandle, type GridRow } from '../../parts/grid';
import { PriorityOptions } from '../../parts/priority-options';
import { RULE_KINDS } from '../../parts/rule-kinds';
import type { Order } from '../../parts/sheet';
import { counted, RULE_WORDS } from '../../parts/text';
import { Button, Choice, Empty, Input } from '../../parts/ui';
import { Views } from '../../parts/views';
import { Unsaved, useWritten } from '../../parts/written';
import { BacktestMany } from './backtest-many';
import { FINDINGS } from './findings';
import { ManyRules } from './many-rules';
import { FIRST, type RuleRow, ruleColumns } from './rule-columns';
import { RuleEditor } from './rule-editor';

/** Which rules are shown, in words, and what that asks of the server. */
const CHOICES: Record<string, { words: string; query: Partial<Query> }> = {
  all: { words: 'all rules', query: {} },
  faulty: { words: 'cannot work now', query: { faulty: true } },
  ...Object.fromEntries(Object.entries(FINDINGS).map(([key, { choice }]) => [key, { words: choice, query: { finding: key } }])),
  off: { words: 'off', query: { enabled: false } },
  own: { words: 'of the tag itself', query: { of_class: false } },
  of_class: { words: 'of an equipment class', query: { of_class: true } },
};

interface Query {
  finding: string;
  faulty: boolean;
  enabled: boolean;
  of_class: boolean;
}

/** What a view keeps. */
interface SheetView {
  columns: string[];
  choice: string;
  kind: string;
  priority: string;
  text: string;
  order: Order | null;
}

const START: SheetView = { columns: FIRST, choice: 'all', kind: '', priority: '', text: '', order: null };

export function Rules({ at }: { at: string | undefined }) {
  const go = useGo();
  const { rule: open, finding } = useView();
  const engineer = useMay('engineer');
  const server = useQuery({
    queryKey: ['columns', 'rule'],
    queryFn: () => take(http.GET('/api/tables/{kind}/columns', { params: { path: { kind: 'rule' } } })),
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  const [view, setView] = useState<SheetView>(START);
  // A review asks for what it found, once.
  const [taken, setTaken] = useState<string>();
  if (taken !== finding) {
    setTaken(finding);
    if (finding !== undefined && CHOICES[finding]) setView({ ...START, choice: finding });
  }
  // What is meant by “now” where the choice depends on values: from when it was chosen.
  const [moment, setMoment] = useState(() => Date.now());
  const [total, setTotal] = useState<number>();
  const [many, setMany] = useState(false);
  const [backtest, setBacktest] = useState(false);
  const [made, setMade] = useState<Schemas['MadeRules']>();
  const written = useWritten('rule', 'rule sheet', 'alarm rule');
  const grid = useRef<GridHandle>(null);
  const change = (next: Partial<SheetView>) => {
    setView((old) => ({ ...old, ...next }));
    if (next.choice) setMoment(Date.now());
    if (finding !== undefined && next.choice) go({ finding: undefined });
  };
  const standing = useAlarms().data?.alarms;
  const suppressed = useSuppressed().data?.alarms;
  // The first row that was made comes into sight.
  useEffect(() => {
    const first = made?.rows[0];
    if (first) grid.current?.reach(first.id, 'level');
  }, [made]);
  const states = useMemo(
    () => new Map([...(standing ?? []), ...(suppressed ?? [])].map((alarm) => [alarm.rule, alarm])),
    [standing, suppressed],
  );
  const known = useMemo(() => ruleColumns(server ?? [], (rule) => states.get(rule)), [server, states]);
  const columns = useMemo(() => view.columns.flatMap((key) => known.get(key) ?? []), [known, view.columns]);
  const index = useMemo(() => new Map((server ?? []).map((c, i) => [c.key, i])), [server]);
  const asked = {
    ...CHOICES[view.choice]?.query,
    ...(view.kind ? { kind: view.kind } : {}),
    ...(view.priority ? { priority: Number(view.priority) } : {}),
  };
  const fetch = (from: number, count: number) => {
    const sort = view.order ? { sort: view.order.key, down: view.order.down } : {};
    const query = {
      ...(at ? { under: at } : {}),
      ...(view.text ? { text: view.text } : {}),
      ...sort,
      ...asked,
      moment,
      from,
      count,
    };
    return take(http.GET('/api/sheets/rules', { params: { query } }));
  };
  const rowOf = (row: RuleRow): GridRow => ({ id: row.id, fresh: false, label: row.title });
  const textOf = (row: RuleRow, key: string) => row.cells[index.get(key) ?? -1] ?? '';
  const onCounted = useCallback((count: number) => setTotal(count), []);
  const title = (key: string) => known.get(key)?.title ?? key;
  const narrowed = view.text !== '' || Object.keys(asked).length > 0;
  return (
    <section aria-label="Alarm rules" className="flex min-h-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">{total === undefined ? 'Alarm rules' : counted(total, 'alarm rule')}</h2>
        <Input
          aria-label="Filter alarm rules"
          placeholder="Words of path or rule…"
          className="w-40"
          value={view.text}
          onChange={(e) => change({ text: e.target.value })}
        />
        <Choice
          aria-label="Which rules"
          className="w-32"
          value={view.choice}
          onChange={(e) => change({ choice: e.target.value })}
        >
          {Object.entries(CHOICES).map(([key, { words }]) => (
            <option key={key} value={key}>
              {words}
            </option>
          ))}
        </Choice>
        <Choice aria-label="Of which kind" className="w-28" value={view.kind} onChange={(e) => change({ kind: e.target.value })}>
          <option value="">any kind</option>
          {RULE_KINDS.map((kind) => (
            <option key={kind} value={kind}>
              {RULE_WORDS[kind]}
            </option>
          ))}
        </Choice>
        <Choice
          aria-label="Of which priority"
          className="w-30"
          value={view.priority}
          onChange={(e) => change({ priority: e.target.value })}
        >
          <option value="">any priority</option>
          <PriorityOptions />
        </Choice>
        {view.order && <Button onClick={() => change({ order: null })}>Plant order</Button>}
        <span className="flex-1" />
        <Button onClick={() => setBacktest(!backtest)} aria-expanded={backtest}>
          <History className="size-4" /> Backtest
        </Button>
        {engineer && (
          <Button onClick={() => setMany(!many)} aria-expanded={many}>
            <CopyPlus className="size-4" /> Add to many
          </Button>
        )}
        <ColumnChoice
          known={[...known.values()]}
          chosen={view.columns}
          usual={FIRST}
          onChange={(next) => change({ columns: next })}
        />
        <Views
          sheet="rules"
          kept="these columns, filters and order"
          view={view}
          onTake={(next) => change({ ...START, ...next })}
        />
      </div>
      {many && engineer && (
        <ManyRules
          at={at}
          written={written}
          onMade={(made) => {
            setMany(made.rows.length === 0);
            setMade(made);
          }}
          onClose={() => setMany(false)}
        />
      )}
      {backtest && <BacktestMany fetch={fetch} total={total ?? 0} onClose={() => setBacktest(false)} />}
      {open && <RuleEditor key={open} open={open} onClose={() => go({ rule: undefined })} />}
      {made && (written.changes.size > 0 || made.rows.length === 0) && <MadeLine made={made} />}
      <Unsaved written={written} title={title} grid={grid} />
      {total === 0 && narrowed && (
        <p className="mb-2">
          <span className="text-soft">No alarm rule fits this filter. </span>
          <Button onClick={() => change({ choice: 'all', kind: '', priority: '', text: '' })}>Clear filter</Button>
        </p>
      )}
      {total === 0 && !narrowed && written.changes.size === 0 && (
        <Empty title="No alarm rules here yet">
          Add rules to many tags at once, or open a tag and set its limits. An equipment class can bring rules for all its
          equipment.
        </Empty>
      )}
      <Grid
        label="Alarm rules"
        columns={columns}
        source={['rules', at, view.text, view.order, asked, moment]}
        fetch={fetch}
        rowOf={rowOf}
        textOf={textOf}
        staged={written.changes}
        onWrite={written.write}
        troubles={written.troubles}
        onUndo={written.undo}
        onSave={() => void written.save()}
        writable={engineer}
        open={open}
        onOpen={(row) => go({ rule: row.id })}
        order={view.order ?? undefined}
        onOrder={(order) => change({ order })}
        onCounted={onCounted}
        handle={grid}
        className="min-h-40 flex-1"
      />
      {engineer && (
        <p className="mt-1 text-sm text-soft">
          Type to write, F2 to change, Ctrl D fills down, Ctrl Shift D counts on; copy and paste with a spreadsheet. Enter opens
          the rule.
        </p>
      )}
    </section>
  );
}

/** What rules for many tags came to. */
function MadeLine({ made }: { made: Schemas['MadeRules'] }) {
  return (
    <p className="mb-2" aria-live="polite">
      {counted(made.rows.length, 'row')} for {counted(made.tags, 'tag')}.{' '}
      {made.passed.map((passed) => (
        <span key={passed.why} className="text-soft" title={passed.tags.join('\n')}>
          {passed.count} left out, of tags that {passed.why}.{' '}
        </span>
      ))}
    </p>
  );
}
