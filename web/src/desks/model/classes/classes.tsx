// Equipment classes: what there is on the left, and one of them open, a new one, or many pieces of equipment to be.

import clsx from 'clsx';
import { Plus } from 'lucide-react';
import type { PlantTree } from '../../../api/tree';
import { useGo, useView } from '../../../app/view';
import { counted } from '../../../parts/text';
import { Button, Empty, Trouble } from '../../../parts/ui';
import { ClassForm } from './class-form';
import { FromEquipment } from './from-equipment';
import { Many } from './many';
import { useClass, useClasses } from './use-classes';

export function Classes({ tree, disabled }: { tree: PlantTree; disabled: boolean }) {
  const { class: open } = useView();
  const go = useGo();
  const all = useClasses();
  const known = open !== 'new' && open !== 'made' && open !== 'many' ? open : undefined;
  const one = useClass(known);
  if (all.error) return <Trouble error={all.error} />;
  if (!all.data) return null;
  const { classes } = all.data;
  const show = (what: string | undefined) => go({ class: what });
  const starts = (
    <div className="flex flex-wrap gap-2">
      <Button kind="main" disabled={disabled} onClick={() => show('made')}>
        <Plus className="size-4" /> Class from equipment
      </Button>
      <Button disabled={disabled} onClick={() => show('new')}>
        <Plus className="size-4" /> Empty class
      </Button>
      {classes.length > 0 && (
        <Button disabled={disabled} onClick={() => show('many')}>
          <Plus className="size-4" /> Equipment of a class
        </Button>
      )}
    </div>
  );
  if (classes.length === 0 && open === undefined) {
    return (
      <Empty title="No equipment classes yet" action={starts}>
        A class says once what a kind of equipment has: its values with units, ranges and addresses, limits, formulas and parts.
        Every piece of equipment of the class has them, and follows when the class changes. Make a class from equipment that is
        there, or begin with an empty one.
      </Empty>
    );
  }
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="mb-2">{starts}</div>
      <div className="flex min-h-0 flex-1 gap-4">
        <nav aria-label="Classes" className="w-60 shrink-0 overflow-auto border-r border-line pr-2">
          <ul>
            {classes.map((c) => (
              <li key={c.id}>
                <button
                  type="button"
                  aria-current={c.id === open}
                  className={clsx(
                    'w-full rounded px-2 py-1 text-left hover:bg-band',
                    c.id === open && 'bg-band font-semibold text-teal',
                  )}
                  onClick={() => show(c.id)}
                >
                  <span className="block truncate">{c.name}</span>
                  <span className="block text-sm font-normal text-soft">
                    {counted(c.properties, 'property', 'properties')} · {counted(c.instances, 'instance')}
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </nav>
        <div className="relative min-w-0 flex-1 overflow-auto pr-1">
          {open === 'new' && (
            <ClassForm key="new" view={undefined} classes={classes} tree={tree} seen={all.data.revision} disabled={disabled} />
          )}
          {open === 'made' && <FromEquipment tree={tree} disabled={disabled} onDone={show} />}
          {open === 'many' && <Many tree={tree} disabled={disabled} onDone={() => show(undefined)} />}
          {one.error && known && <Trouble error={one.error} />}
          {known && one.data?.id === known && (
            <ClassForm key={known} view={one.data} classes={classes} tree={tree} seen={one.data.revision} disabled={disabled} />
          )}
          {open === undefined && <p className="text-soft">Choose a class on the left.</p>}
        </div>
      </div>
    </div>
  );
}
