// The polling groups of a connection: rhythms of their own for some of its tags.

import { Plus, X } from 'lucide-react';
import { newId, type Wrong } from '../../api/client';
import type { Group } from '../../api/model';
import { numberOf, textOf } from '../../parts/form';
import { Button, Field, Input, Tick } from '../../parts/ui';

interface Props {
  groups: Group[];
  problems: readonly Wrong[];
  onChange: (groups: Group[]) => void;
}

export function GroupRows({ groups, problems, onChange }: Props) {
  const change = (id: string, part: Partial<Group>) => onChange(groups.map((g) => (g.id === id ? { ...g, ...part } : g)));
  const problem = (i: number, field: string) => problems.find((p) => p.field === `groups[${i}].${field}`)?.message;
  return (
    <fieldset className="mt-3">
      <legend className="text-sm text-soft">Polling groups</legend>
      {groups.map((group, i) => (
        <div key={group.id} className="mb-1.5 flex max-w-xl items-start gap-2">
          <Field label="Group" error={problem(i, 'name')} className="flex-1">
            {(p) => <Input {...p} value={group.name} onChange={(e) => change(group.id, { name: e.target.value })} />}
          </Field>
          <Field label="Poll interval, ms" error={problem(i, 'interval_ms')} className="w-32">
            {(p) => (
              <Input
                {...p}
                value={textOf(group.interval_ms)}
                onChange={(e) => change(group.id, { interval_ms: numberOf(e.target.value) as number })}
              />
            )}
          </Field>
          <span className="mt-6">
            <Tick label="Polling on" checked={group.enabled !== false} onChange={(on) => change(group.id, { enabled: on })} />
          </span>
          <Button
            kind="quiet"
            className="mt-5"
            aria-label={`Delete group ${group.name}`}
            onClick={() => onChange(groups.filter((g) => g.id !== group.id))}
          >
            <X className="size-3.5" />
          </Button>
        </div>
      ))}
      <Button
        kind="quiet"
        onClick={() =>
          onChange([...groups, { id: newId(), name: `Group ${groups.length + 1}`, interval_ms: 5000, enabled: true }])
        }
      >
        <Plus className="size-4" /> Group
      </Button>
    </fieldset>
  );
}
