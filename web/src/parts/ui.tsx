// The small parts every desk is made of.

import clsx from 'clsx';
import { Check } from 'lucide-react';
import { AlertDialog, Checkbox, Dialog, Tooltip, VisuallyHidden } from 'radix-ui';
import { type ComponentProps, type ReactNode, useId } from 'react';
import { twMerge } from 'tailwind-merge';
import type { Form } from './form';

type ButtonKind = 'main' | 'plain' | 'quiet' | 'grave';

const BUTTON: Record<ButtonKind, string> = {
  main: 'bg-teal text-raised border-teal hover:bg-teal-deep font-semibold',
  plain: 'bg-raised border-line hover:border-firm hover:bg-band',
  quiet: 'border-transparent text-teal hover:bg-band',
  grave: 'bg-act4 text-raised border-act4 hover:bg-act4-deep font-semibold',
};

/** On a narrow screen the icon alone shows, so that a row of tools stays one row. */
export const NARROW = 'max-[1360px]:sr-only';

export function Button({ kind = 'plain', className, ...rest }: ComponentProps<'button'> & { kind?: ButtonKind }) {
  return (
    <button
      type="button"
      className={clsx(
        'inline-flex h-7 shrink-0 items-center gap-1.5 rounded border px-2.5 whitespace-nowrap disabled:cursor-default disabled:opacity-50 print:hidden',
        BUTTON[kind],
        className,
      )}
      {...rest}
    />
  );
}

/** Underlines nothing until it must: the message stands at its field, and the field names it. */
export function Field({
  label,
  error,
  hint,
  children,
  className,
}: {
  label: string;
  error?: string | undefined;
  hint?: ReactNode;
  className?: string;
  children: (props: { id: string; 'aria-invalid': boolean; 'aria-describedby': string }) => ReactNode;
}) {
  const id = useId();
  return (
    <div className={clsx('min-w-0', className)}>
      <label htmlFor={id} className="mb-0.5 block text-sm text-soft">
        {label}
      </label>
      {children({ id, 'aria-invalid': Boolean(error), 'aria-describedby': `${id}-note` })}
      <p id={`${id}-note`} className={clsx('mt-0.5 text-sm', error ? 'text-act4' : 'text-soft', !error && !hint && 'hidden')}>
        {error ?? hint}
      </p>
    </div>
  );
}

export const INPUT =
  'h-7 w-full min-w-0 rounded border border-firm bg-raised px-2 aria-[invalid=true]:border-act4 disabled:bg-band disabled:text-soft';

export function Input({ className, ...rest }: ComponentProps<'input'>) {
  return <input className={twMerge(INPUT, className)} autoComplete="off" spellCheck={false} {...rest} />;
}

export function Choice({ className, ...rest }: ComponentProps<'select'>) {
  return <select className={twMerge(INPUT, 'pr-1', className)} {...rest} />;
}

export function Tick({
  label,
  checked,
  onChange,
  disabled,
  hideLabel,
}: {
  label: string;
  checked: boolean;
  onChange: (on: boolean) => void;
  disabled?: boolean;
  hideLabel?: boolean;
}) {
  const id = useId();
  return (
    <span className="inline-flex items-center gap-2">
      <Checkbox.Root
        id={id}
        checked={checked}
        disabled={disabled ?? false}
        onCheckedChange={(on) => onChange(on === true)}
        aria-label={hideLabel ? label : undefined}
        className="flex size-4 shrink-0 items-center justify-center rounded-sm border border-firm bg-raised data-[state=checked]:border-teal data-[state=checked]:bg-teal disabled:opacity-50"
      >
        <Checkbox.Indicator>
          <Check className="size-3 text-raised" strokeWidth={3} />
        </Checkbox.Indicator>
      </Checkbox.Root>
      {!hideLabel && <label htmlFor={id}>{label}</label>}
    </span>
  );
}

/** Asks before something that cannot be undone. */
export function Confirm({
  open,
  title,
  children,
  action,
  onConfirm,
  onClose,
  disabled,
  grave = true,
}: {
  open: boolean;
  title: string;
  children: ReactNode;
  action: string;
  onConfirm: () => void;
  onClose: () => void;
  disabled?: boolean;
  grave?: boolean;
}) {
  return (
    <AlertDialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 z-50 max-h-[80vh] w-[30rem] max-w-[calc(100vw-2rem)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-md border border-line bg-raised p-4 shadow-lg">
          <AlertDialog.Title className="text-[1rem] font-semibold">{title}</AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 space-y-2">{children}</div>
          </AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Cancel</Button>
            </AlertDialog.Cancel>
            <Button kind={grave ? 'grave' : 'main'} disabled={disabled} onClick={onConfirm}>
              {action}
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** What a form was told that belongs to none of its fields. */
export function FormTrouble({
  form,
  className,
}: {
  form: Pick<Form<object>, 'other' | 'restored' | 'discard'>;
  className?: string;
}) {
  return (
    <>
      {form.restored && (
        <p role="status" className={clsx('flex flex-wrap items-center gap-2', className)}>
          Your unsaved changes are back.
          <Button kind="quiet" onClick={form.discard}>
            Discard
          </Button>
        </p>
      )}
      {form.other && (
        <p role="alert" className={clsx('text-act4', className)}>
          {form.other}
        </p>
      )}
    </>
  );
}

/** A part of a form that somebody else has changed while it was changed here, with both to choose from. */
export function ChangedElsewhere<T extends object>({
  form,
  field,
  what,
}: {
  form: Pick<Form<T>, 'theirs' | 'takeTheirs'>;
  field: keyof T;
  what: string;
}) {
  return (
    form.theirs(field) && (
      <p role="alert" className="my-1 flex flex-wrap items-center gap-2 text-act4">
        Somebody else has changed {what} meanwhile; saving replaces it with yours.
        <Button onClick={() => form.takeTheirs(field)}>Use theirs</Button>
      </p>
    )
  );
}

/** Something over the desk that is read or used and closed again; its title is for those who listen where it is not shown. */
export function Popup({
  open,
  title,
  showTitle = true,
  onClose,
  className,
  children,
}: {
  open: boolean;
  title: string;
  showTitle?: boolean;
  onClose: () => void;
  className: string;
  children: ReactNode;
}) {
  const heading = <Dialog.Title className="text-[1rem] font-semibold">{title}</Dialog.Title>;
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className={clsx(
            'fixed left-1/2 z-50 max-w-[calc(100vw-2rem)] -translate-x-1/2 rounded-md border border-firm bg-raised shadow-lg',
            className,
          )}
        >
          {showTitle ? heading : <VisuallyHidden.Root>{heading}</VisuallyHidden.Root>}
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A word more for whoever hovers or focuses. */
export function Hint({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={4} className="z-50 max-w-72 rounded border border-firm bg-raised px-2 py-1 text-sm shadow">
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** The head of a desk: where we are, what it is, what can be done. */
export function DeskHead({
  path,
  title,
  note,
  children,
}: {
  path?: string;
  title: string;
  note?: ReactNode;
  children?: ReactNode;
}) {
  return (
    <header className="mb-3 flex flex-wrap items-end gap-x-4 gap-y-2">
      <div className="min-w-48 flex-1">
        {path !== undefined && <p className="truncate text-soft">{path || '\u00a0'}</p>}
        <h1 className="truncate text-[1.25rem] leading-7 font-semibold">{title}</h1>
        {note && <p className="text-soft">{note}</p>}
      </div>
      {children && <div className="flex flex-wrap items-center gap-2">{children}</div>}
    </header>
  );
}

/** The parts of a desk, side by side; one is shown. */
export function DeskPart({ on, onClick, children }: { on: boolean; onClick: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      onClick={onClick}
      className={clsx('h-7 rounded-full border px-3', on ? 'border-teal bg-tint font-semibold' : 'border-line hover:bg-band')}
    >
      {children}
    </button>
  );
}

/** An empty desk says what it is for and offers the first step. */
export function Empty({ title, children, action }: { title: string; children: ReactNode; action?: ReactNode }) {
  return (
    <div className="mt-10 max-w-lg">
      <h2 className="text-[1rem] font-semibold">{title}</h2>
      <p className="mt-1 text-soft">{children}</p>
      {action && <div className="mt-4 flex gap-2">{action}</div>}
    </div>
  );
}

export function Trouble({ error }: { error: unknown }) {
  if (!error) return null;
  return (
    <p role="alert" className="rounded border border-act4 bg-raised px-3 py-2 text-act4">
      {error instanceof Error ? error.message : String(error)}
    </p>
  );
}
