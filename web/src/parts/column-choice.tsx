// Which columns a sheet shows.

import { Columns3 } from 'lucide-react';
import { Popover } from 'radix-ui';
import { Button, NARROW, Tick } from './ui';

interface Props {
  known: { key: string; title: string; pinned?: boolean }[];
  chosen: string[];
  /** What a sheet shows before anybody chose. */
  usual: string[];
  onChange: (chosen: string[]) => void;
}

export function ColumnChoice({ known, chosen, usual, onChange }: Props) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button title="Columns">
          <Columns3 className="size-4" /> <span className={NARROW}>Columns</span>
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="z-50 w-80 rounded-md border border-firm bg-raised p-3 shadow-lg">
          <div className="grid grid-cols-2 gap-x-4 gap-y-1">
            {known.map((c) => (
              <Tick
                key={c.key}
                label={c.title}
                checked={chosen.includes(c.key)}
                disabled={c.pinned ?? false}
                onChange={(on) => onChange(on ? [...chosen, c.key] : chosen.filter((k) => k !== c.key))}
              />
            ))}
          </div>
          <div className="mt-2 flex justify-between">
            <Button kind="quiet" onClick={() => onChange(usual)}>
              The usual
            </Button>
            <Button kind="quiet" onClick={() => onChange(known.map((c) => c.key))}>
              All
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
