// The end of a form that is opened in the place of a list: save, close, delete.

import { useState } from 'react';
import type { Form } from './form';
import { Button, Confirm, FormTrouble } from './ui';

interface Props<T> {
  form: Form<T>;
  /** What it is a form of: “plan”. */
  noun: string;
  /** What is deleted, as the question says it; nothing where it is being made. */
  title: string | undefined;
  /** What follows from deleting it. */
  deleted: string;
  disabled: boolean;
  onClose: () => void;
  onDelete: () => void;
}

export function FormEnd<T>({ form, noun, title, deleted, disabled, onClose, onDelete }: Props<T>) {
  const [removing, setRemoving] = useState(false);
  return (
    <>
      <FormTrouble form={form} />
      <div className="mt-3 flex gap-2">
        <Button kind="main" type="submit" disabled={disabled || form.busy || !form.dirty}>
          {title ? 'Save' : 'Create'} {noun}
        </Button>
        <Button
          onClick={() => {
            form.discard();
            onClose();
          }}
        >
          {form.dirty ? 'Discard and close' : 'Close'}
        </Button>
        <span className="flex-1" />
        {title && !disabled && (
          <Button kind="quiet" onClick={() => setRemoving(true)}>
            Delete…
          </Button>
        )}
      </div>
      <Confirm
        open={removing}
        title={`Delete the ${title}?`}
        action="Delete"
        onClose={() => setRemoving(false)}
        onConfirm={() => {
          setRemoving(false);
          onDelete();
        }}
      >
        <p>{deleted}</p>
      </Confirm>
    </>
  );
}
