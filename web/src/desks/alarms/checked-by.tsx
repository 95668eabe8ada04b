// Who checked an alarm rule last.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { configurationMoved } from '../../api/queries';
import { moment } from '../../parts/text';
import { Button, Trouble } from '../../parts/ui';

/** Who checked the rule, and the button for whoever checks it now. */
export function CheckedBy({ rule, seen, disabled }: { rule: Item<'rule'>; seen: number; disabled: boolean }) {
  const [error, setError] = useState<unknown>();
  const row = useQuery({
    queryKey: ['sheet', 'checked', rule.id, rule.revision],
    queryFn: () => take(http.GET('/api/sheets/rules', { params: { query: { only: rule.id, count: 1 } } })),
  }).data?.rows[0];
  const check = async () => {
    setError(undefined);
    try {
      const done = await take(http.POST('/api/rules/checked', { body: { rules: [rule.id], revision: seen } }));
      await configurationMoved(done.revision);
    } catch (problem) {
      setError(problem);
    }
  };
  return (
    <span className="flex items-center gap-2">
      <Button disabled={disabled || row?.checked} onClick={() => void check()}>
        Mark as checked
      </Button>
      {row?.checked_by && (
        <span className="text-soft">
          {row.checked ? 'checked' : 'changed since it was checked'} by {row.checked_by}, {moment(row.checked_at)}
        </span>
      )}
      <Trouble error={error} />
    </span>
  );
}
