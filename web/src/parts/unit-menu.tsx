// The unit of a value; where it converts, the way to see it in another one.

import clsx from 'clsx';
import { DropdownMenu } from 'radix-ui';
import { type Printing, showIn, siblingsOf, useReading, useWorld } from './reading';

export function UnitMenu({ set, className }: { set: Printing; className?: string }) {
  const world = useWorld();
  const reading = useReading(set);
  const siblings = siblingsOf(world, set.unit);
  const { quantity } = reading;
  if (!quantity || siblings.length < 2) return <span className={clsx('text-soft', className)}>{set.unit}</span>;
  const chosen = world.wishes[quantity] ?? '';
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`${reading.unit}; show ${quantity} in another unit`}
        className={clsx('rounded text-soft underline decoration-dotted underline-offset-3 hover:text-teal', className)}
      >
        {reading.unit}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          className="z-50 max-h-[60vh] min-w-56 overflow-auto rounded border border-firm bg-raised p-1 shadow"
        >
          <p className="px-2 py-1 text-sm text-soft">Show every {quantity} in</p>
          <DropdownMenu.RadioGroup value={chosen} onValueChange={(next) => showIn(quantity, next || undefined)}>
            <Entry value="" symbol={set.unit} name="as it is configured" />
            {siblings.map((u) => (
              <Entry key={u.symbol} value={u.symbol} symbol={u.symbol} name={u.name} />
            ))}
          </DropdownMenu.RadioGroup>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Entry({ value, symbol, name }: { value: string; symbol: string; name: string }) {
  return (
    <DropdownMenu.RadioItem
      value={value}
      className="flex items-center gap-3 rounded px-2 py-0.5 data-[highlighted]:bg-band data-[state=checked]:font-semibold"
    >
      <span className="w-16 shrink-0">{symbol}</span>
      <span className="flex-1 text-soft">{name}</span>
      <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
    </DropdownMenu.RadioItem>
  );
}
