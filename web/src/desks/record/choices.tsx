// Which tags a recorder records: by what they are, and singly.

import { Plus, X } from 'lucide-react';
import type { TagChoice } from '../../api/model';
import { useItems, useTags } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import type { Form } from '../../parts/form';
import { ListField, Picker, PickField } from '../../parts/picker';
import { counted, pathEnd } from '../../parts/text';
import { Button, Field, Input } from '../../parts/ui';
import { EVERY_TAG, type RecorderValues } from './recorder';

interface Props {
  form: Form<RecorderValues>;
  /** How many tags each choice finds, where that is known. */
  found: readonly number[] | undefined;
}

export function Choices({ form, found }: Props) {
  const { choices, tags } = form.values;
  const put = (index: number, part: Partial<TagChoice>) =>
    form.set(
      'choices',
      choices.map((one, i) => (i === index ? { ...one, ...part } : one)),
    );
  return (
    <div className="space-y-2">
      {choices.map((choice, index) => (
        <Fields
          // biome-ignore lint/suspicious/noArrayIndexKey: a choice is known by nothing else
          key={index}
          choice={choice}
          index={index}
          form={form}
          found={found?.[index]}
          onChange={(part) => put(index, part)}
          onRemove={() =>
            form.set(
              'choices',
              choices.filter((_, i) => i !== index),
            )
          }
        />
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <Button onClick={() => form.set('choices', [...choices, EVERY_TAG])}>
          <Plus className="size-4" /> Tags by what they are
        </Button>
        <Picker
          label="Add a single tag"
          kind="tag"
          className="w-64"
          accept={(hit) => !tags.includes(hit.id)}
          onPick={(id) => form.set('tags', [...tags, id])}
        />
      </div>
      <Singly tags={tags} onChange={(next) => form.set('tags', next)} />
      {form.error('tags', 'choices') && <p className="text-sm text-act4">{form.error('tags', 'choices')}</p>}
    </div>
  );
}

function Singly({ tags, onChange }: { tags: string[]; onChange: (tags: string[]) => void }) {
  // Of very many only the first are read one by one.
  const shown = tags.slice(0, 100);
  const known = useTags(shown);
  if (tags.length === 0) return null;
  return (
    <ul aria-label="Chosen singly" className="flex max-h-28 flex-wrap gap-1 overflow-auto">
      {shown.map((id) => {
        const name = pathEnd(known.find((tag) => tag.id === id)?.title ?? '…');
        return (
          <li key={id} className="flex items-center gap-1 rounded border border-line px-1.5">
            {name}
            <button type="button" aria-label={`Leave out ${name}`} onClick={() => onChange(tags.filter((one) => one !== id))}>
              <X className="size-3" />
            </button>
          </li>
        );
      })}
      {tags.length > shown.length && <li className="text-soft">and {tags.length - shown.length} more</li>}
    </ul>
  );
}

interface FieldsProps {
  choice: TagChoice;
  index: number;
  form: Form<RecorderValues>;
  found: number | undefined;
  onChange: (part: Partial<TagChoice>) => void;
  onRemove: () => void;
}

function Fields({ choice, index, form, found, onChange, onRemove }: FieldsProps) {
  const tree = useTree();
  const classes = (useItems('class').data?.items ?? []).map((one) => ({ id: one.id, title: one.set.name }));
  const connections = (useItems('connection').data?.items ?? []).map((one) => ({ id: one.id, title: one.set.name }));
  const error = (name: string) => form.error(`choices.${index}.${name}`);
  const text = (label: string, name: 'unit' | 'name' | 'words', placeholder: string) => (
    <Field label={label} error={error(name)}>
      {(p) => (
        <Input {...p} value={choice[name]} placeholder={placeholder} onChange={(e) => onChange({ [name]: e.target.value })} />
      )}
    </Field>
  );
  const place = choice.place ? { id: choice.place, title: pathOf(tree, choice.place).split('/').slice(-2).join('/') } : undefined;
  return (
    <fieldset className="rounded border border-line bg-raised px-2 pt-1 pb-2">
      <legend className="sr-only">Tags by what they are, {index + 1}</legend>
      <div className="flex items-center gap-2">
        <p className="flex-1 text-sm text-soft">All of these hold</p>
        <span className="figures text-sm" role="status">
          {found === undefined ? '' : counted(found, 'tag')}
        </span>
        <Button kind="quiet" aria-label={`Remove these tags, ${index + 1}`} onClick={onRemove}>
          <X className="size-4" />
        </Button>
      </div>
      <div className="grid grid-cols-3 items-start gap-x-3 gap-y-1">
        <Field label="Under the place" error={error('place')}>
          {(p) => (
            <PickField
              label="Place"
              field={p}
              kind="place"
              none="anywhere"
              value={place}
              onChange={(id) => onChange({ place: id })}
            />
          )}
        </Field>
        <Field label="Of the class" error={error('class')}>
          {(p) => (
            <ListField
              label="Class"
              field={p}
              none="any"
              value={choice.class ?? ''}
              from={classes}
              onChange={(id) => onChange({ class: id || null })}
            />
          )}
        </Field>
        <Field label="Read from" error={error('connection')}>
          {(p) => (
            <ListField
              label="Connection"
              field={p}
              none="anything"
              value={choice.connection ?? ''}
              from={connections}
              onChange={(id) => onChange({ connection: id || null })}
            />
          )}
        </Field>
        {text('Named', 'name', 'any name')}
        {text('In the unit', 'unit', 'any unit')}
        {text('With words in the path', 'words', 'any')}
      </div>
    </fieldset>
  );
}
