// What can be done with the chosen places, as a menu.

import type { ContextMenu, DropdownMenu } from 'radix-ui';
import type { Spot } from '../api/places';
import type { PlantActs } from './plant-acts';

/** The two kinds of menu have the same parts. */
export type Kit = typeof DropdownMenu | typeof ContextMenu;

export const MENU = 'z-50 min-w-56 rounded-md border border-firm bg-raised p-1 shadow-lg';
const ENTRY =
  'flex cursor-default items-center justify-between gap-6 rounded px-2 py-0.5 outline-none data-[disabled]:opacity-50 data-[highlighted]:bg-band';

interface Props {
  kit: Kit;
  spot: Spot;
  /** It, or a place above it, is out of service. */
  idle: boolean;
  /** How many are chosen. */
  many: number;
  picked: string[];
  canPaste: boolean;
  acts: PlantActs;
  /** What the keys do, by their name. */
  build: Record<string, () => void>;
}

export function Entries({ kit: { Item, Separator }, spot, idle, many, picked, canPaste, acts, build }: Props) {
  const entry = (words: string, keys: string, act: (() => void) | undefined, off = false) => (
    <Item
      className={ENTRY}
      disabled={off || !act}
      // The menu gives the focus back first; a field that opens would lose it.
      onSelect={() => setTimeout(() => act?.())}
    >
      {words} {keys && <kbd className="figures text-sm text-soft">{keys}</kbd>}
    </Item>
  );
  const line = <Separator className="my-1 border-t border-line" />;
  const [it, off] = [many > 1 ? `${many} branches` : spot.name, many > 1];
  return (
    <>
      {entry(`New place under ${spot.name}…`, 'Insert', build.Insert, off)}
      {entry('Rename…', 'F2', build.F2, off)}
      {line}
      {entry(`Cut ${it}`, 'Ctrl X', build['ctrl+x'])}
      {entry(`Copy ${it}`, 'Ctrl C', build['ctrl+c'])}
      {entry(`Paste under ${spot.name}`, 'Ctrl V', build['ctrl+v'], !canPaste)}
      {line}
      {entry('Up', 'Alt ↑', build['alt+ArrowUp'])}
      {entry('Down', 'Alt ↓', build['alt+ArrowDown'])}
      {entry('Move out of the place above', 'Alt ←', build['alt+ArrowLeft'], !spot.parent)}
      {entry('Move into the place before', 'Alt →', build['alt+ArrowRight'])}
      {line}
      {spot.in_service
        ? entry(`Take ${it} out of service`, '', () => acts.service(picked, false), idle)
        : entry(`Put ${it} into service`, '', () => acts.service(picked, true))}
      {entry(`Delete ${it}…`, 'Delete', build.Delete)}
    </>
  );
}
