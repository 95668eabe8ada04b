// Computed tags: their formulas in a list, and one of them open above it.

import { Plus } from 'lucide-react';
import { useCallback, useState } from 'react';
import { http, take } from '../../api/client';
import { useItems } from '../../api/queries';
import { type PlantTree, pathOf } from '../../api/tree';
import { useGo, useView } from '../../app/view';
import { FormulaText } from '../../parts/formula/formula-text';
import { type Column, Sheet } from '../../parts/sheet';
import { counted } from '../../parts/text';
import { Button, Empty, Input } from '../../parts/ui';
import { Value } from '../../parts/value';
import { FormulaForm } from './formula-form';
import type { TagRow } from './tag-columns';

const COLUMNS: Column<TagRow>[] = [
  {
    key: 'tag',
    title: 'Computed tag',
    width: 'minmax(200px, 1fr)',
    render: (row) => (
      <span className="flex min-w-0 items-baseline gap-2" title={`${row.place_path}/${row.name}`.replaceAll('/', ' / ')}>
        <span className="shrink-0 font-semibold">{row.name}</span>
        <span className="truncate text-sm text-soft">{row.place_path.split('/').at(-1)}</span>
      </span>
    ),
  },
  {
    key: 'formula',
    title: 'Formula',
    width: 'minmax(240px, 2fr)',
    render: (row) => <FormulaText line text={row.source.replace(/^= /, '')} />,
  },
  { key: 'now', title: 'Now', width: '170px', right: true, render: (row) => <Value no={row.no} set={row} own computed /> },
  {
    key: 'record',
    title: 'Recorded',
    width: '90px',
    render: (row) => <span className={row.recorded ? '' : 'text-soft'}>{row.recorded ? 'yes' : 'no'}</span>,
  },
];

export function Formulas({ tree, disabled }: { tree: PlantTree; disabled: boolean }) {
  const { at, formula } = useView();
  const go = useGo();
  const [text, setText] = useState('');
  const [total, setTotal] = useState<number>();
  const one = useItems('tag', { only: formula }, formula !== undefined && formula !== 'new');
  const tag = formula === 'new' ? undefined : one.data?.items.find((t) => t.id === formula);
  const fetch = (from: number, count: number) => {
    const query = { computed: true, ...(at ? { under: at } : {}), ...(text ? { text } : {}), from, count };
    return take(http.GET('/api/sheets/tags', { params: { query } }));
  };
  const onSeen = useCallback((count: number) => setTotal(count), []);
  const place = at ? { id: at, title: pathOf(tree, at) } : undefined;
  const close = () => go({ formula: undefined });
  return (
    <section aria-label="Formulas" className="flex min-h-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">{total === undefined ? 'Computed tags' : counted(total, 'computed tag')}</h2>
        <Input
          aria-label="Filter formulas"
          placeholder="Words of the path…"
          className="w-44"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <span className="flex-1" />
        <Button kind="main" disabled={disabled || formula === 'new'} onClick={() => go({ formula: 'new' })}>
          <Plus className="size-4" /> New computed tag
        </Button>
      </div>
      {formula === 'new' && (
        <FormulaForm key="new" tag={undefined} seen={tree.revision} place={place} disabled={disabled} onClose={close} />
      )}
      {tag && (
        <FormulaForm
          key={tag.id}
          tag={tag}
          seen={one.data?.revision ?? tree.revision}
          place={undefined}
          disabled={disabled}
          onClose={close}
        />
      )}
      {total === 0 && !text && !formula && (
        <Empty title="No computed tags here">
          A computed tag takes other tags and gives what a formula makes of them: a sum, an average over ten minutes, a total
          since the shift began, how often a pump started. It is recorded, drawn and alarmed like any other.
        </Empty>
      )}
      <Sheet
        label="Computed tags"
        columns={COLUMNS}
        source={['computed', at, text]}
        fetch={fetch}
        idOf={(row) => row.id}
        open={formula}
        onOpen={(row) => go({ formula: row.id })}
        onSeen={onSeen}
        className={total === 0 ? 'hidden' : 'min-h-28 flex-1'}
      />
    </section>
  );
}
