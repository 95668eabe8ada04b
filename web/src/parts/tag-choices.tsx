// Which tags: by what they are, and singly.

import clsx from 'clsx';
import { Plus, X } from 'lucide-react';
import type { TagChoice } from '../api/model';
import { useItems, useTags } from '../api/queries';
import { pathOf, useTree } from '../api/tree';
import { ListField, Picker, PickField } from './picker';
import { counted, pathEnd } from './text';
import { Button, Field, Input } from './ui';

export const EVERY_TAG: TagChoice = { place: null, class: null, connection: null, unit: '', name: '', words: '' };

interface Props {
  tags: string[];
  choices: TagChoice[];
  onTags: (tags: string[]) => void;
  onChoices: (choices: TagChoice[]) => void;
  /** The sentence for a field, under any of its names on the server. */
  error: (...names: string[]) => string | undefined;
  /** How many tags each choice finds, where that is known. */
  found?: readonly number[] | undefined;
  /** The fields of a choice stand below each other. */
  narrow?: boolean;
}

export function TagChoices({ tags, choices, onTags, onChoices, error, found, narrow = false }: Props) {
  const put = (index: number, part: Partial<TagChoice>) =>
    onChoices(choices.map((one, i) => (i === index ? { ...one, ...part } : one)));
  return (
    <div className="space-y-2">
      {choices.map((choice, index) => (
        <Fields
          // biome-ignore lint/suspicious/noArrayIndexKey: a choice is known by nothing else
          key={index}
          choice={choice}
          index={index}
          error={error}
          found={found?.[index]}
          narrow={narrow}
          onChange={(part) => put(index, part)}
          onRemove={() => onChoices(choices.filter((_, i) => i !== index))}
        />
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <Button onClick={() => onChoices([...choices, EVERY_TAG])}>
          <Plus className="size-4" /> Tags by what they are
        </Button>
        <Picker
          label="Add a single tag"
          kind="tag"
          className="w-64"
          accept={(hit) => !tags.includes(hit.id)}
          onPick={(id) => onTags([...tags, id])}
        />
      </div>
      <Singly tags={tags} onChange={onTags} />
      {error('tags', 'choices') && <p className="text-sm text-act4">{error('tags', 'choices')}</p>}
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
  error: Props['error'];
  found: number | undefined;
  narrow: boolean;
  onChange: (part: Partial<TagChoice>) => void;
  onRemove: () => void;
}

function Fields({ choice, index, error: errorOf, found, narrow, onChange, onRemove }: FieldsProps) {
  const tree = useTree();
  const classes = (useItems('class').data?.items ?? []).map((one) => ({ id: one.id, title: one.set.name }));
  const connections = (useItems('connection').data?.items ?? []).map((one) => ({ id: one.id, title: one.set.name }));
  const error = (name: string) => errorOf(`choices.${index}.${name}`);
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
      <div className={clsx('grid items-start gap-x-3 gap-y-1', narrow ? 'grid-cols-2' : 'grid-cols-3')}>
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
