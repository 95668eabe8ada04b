// A class made of equipment that is there: a model, what is like it, and what would come of it.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, type Schemas, take } from '../../../api/client';
import { made } from '../../../api/queries';
import { type PlantTree, pathOf } from '../../../api/tree';
import { useView } from '../../../app/view';
import { useForm } from '../../../parts/form';
import { PickField } from '../../../parts/picker';
import { counted } from '../../../parts/text';
import { Button, Field, FormTrouble, Input, Tick } from '../../../parts/ui';

type Alike = Schemas['AlikeView'];

interface Props {
  tree: PlantTree;
  disabled: boolean;
  onDone: (made: string | undefined) => void;
}

export function FromEquipment({ tree, disabled, onDone }: Props) {
  const { at } = useView();
  const form = useForm({ name: '', model: at ?? '', chosen: {} as Record<string, boolean> }, ['name', 'model', 'places'], {
    draft: 'class made',
  });
  const [told, setTold] = useState<Schemas['ClassMade']>();
  const { name, model, chosen } = form.values;
  const alike = useQuery({
    queryKey: ['classes', 'alike', model],
    enabled: model !== '',
    queryFn: () => take(http.GET('/api/places/{id}/alike', { params: { path: { id: model } } })),
  });
  const found = alike.data ?? [];
  // What is only half alike is offered, and not taken unasked.
  const taken = (one: Alike) => chosen[one.place] ?? (one.missing + one.more) * 4 <= one.shared;
  const places = [model, ...found.filter(taken).map((one) => one.place)];
  const send = (only: boolean) => take(http.POST('/api/classes/made', { body: { name: name.trim(), places, try: only } }));
  const look = () => form.probe(async () => setTold(await send(true)));
  async function create() {
    let id: string | undefined;
    const done = await form.run(async () => {
      const answer = await send(false);
      id = answer.class;
      await made(answer.revision);
    });
    if (done) onDone(id);
  }
  const ready = name.trim() !== '' && model !== '';
  const put = (part: Partial<typeof form.values>) => {
    setTold(undefined);
    for (const [field, value] of Object.entries(part)) form.set(field as keyof typeof form.values, value as never);
  };
  return (
    <form
      aria-label="Class from equipment"
      className="max-w-3xl space-y-3"
      onSubmit={(e) => {
        e.preventDefault();
        void (told ? create() : look());
      }}
    >
      <p className="text-soft">
        The class takes over what the model has. What is the same on all of them becomes the class’s, addresses that differ by a
        number become a parameter, and the rest stays each one’s own. Nothing that the tags do changes.
      </p>
      <div className="flex gap-3">
        <Field label="Model" error={form.error('places')} className="w-80">
          {(p) => (
            <PickField
              field={p}
              label="Model"
              kind="place"
              disabled={disabled}
              value={model ? { id: model, title: pathOf(tree, model) } : undefined}
              onChange={(id) => put({ model: id ?? '', chosen: {} })}
            />
          )}
        </Field>
        <Field label="Name of the class" error={form.error('name')} className="w-56">
          {(p) => (
            <Input {...p} disabled={disabled} placeholder="Vessel" value={name} onChange={(e) => put({ name: e.target.value })} />
          )}
        </Field>
      </div>
      {found.length > 0 && (
        <fieldset>
          <legend className="mb-1 font-semibold">Similar equipment to include</legend>
          <ul className="max-h-60 overflow-auto border border-line bg-raised">
            {found.map((one) => (
              <li key={one.place} className="flex h-7 items-center gap-3 px-2">
                <Tick
                  label={one.path.replaceAll('/', ' / ')}
                  checked={taken(one)}
                  disabled={disabled}
                  onChange={(on) => put({ chosen: { ...chosen, [one.place]: on } })}
                />
                <span className="flex-1 text-right text-sm text-soft">
                  {counted(one.shared, 'tag')} of the same name
                  {one.missing > 0 && ` · ${one.missing} missing`}
                  {one.more > 0 && ` · ${one.more} of its own`}
                </span>
              </li>
            ))}
          </ul>
        </fieldset>
      )}
      {alike.data && model && found.length === 0 && <p className="text-soft">No other equipment is like it.</p>}
      {told && (
        <p role="status">
          {counted(told.properties, 'property', 'properties')}
          {told.parameters.length > 0 &&
            `, with the ${told.parameters.length === 1 ? 'parameter' : 'parameters'} ${told.parameters.join(', ')}`}
          {`, for ${counted(places.length, 'place')}. `}
          {told.kept > 0 ? `${counted(told.kept, 'setting')} that differ stay each one’s own.` : 'Everything else is the same.'}
        </p>
      )}
      <FormTrouble form={form} />
      <div className="flex gap-2">
        <Button kind="main" type="submit" disabled={disabled || !ready || form.busy}>
          {told ? 'Create class' : 'Preview class'}
        </Button>
        <Button
          kind="quiet"
          onClick={() => {
            form.discard();
            onDone(undefined);
          }}
        >
          Cancel
        </Button>
      </div>
    </form>
  );
}
