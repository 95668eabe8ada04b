// Where somebody is told of alarms, and when.

import { toast } from 'sonner';
import type { Hours } from '../../api/model';
import { type Contact, setContact } from '../../parts/contacts';
import { useForm } from '../../parts/form';
import { always } from '../../parts/hours';
import { HoursField } from '../../parts/hours-field';
import { Button, Field, FormTrouble, Input } from '../../parts/ui';

interface Props {
  contact: Contact;
  onClose?: () => void;
}

export function ContactForm({ contact, onClose }: Props) {
  const own = contact.hours as unknown as Hours;
  const start = { mail: contact.mail, hours: own.windows.length > 0 ? own : always() };
  const form = useForm(start, ['mail'], { draft: `contact ${contact.account}` });
  const problem = (field: string) => form.problems.find((p) => p.field === field)?.message;
  return (
    <form
      aria-label={`Where ${contact.own ? 'you are' : `${contact.name} is`} told of alarms`}
      onSubmit={(event) => {
        event.preventDefault();
        void form
          .run(({ mail, hours }) => setContact(contact.account, { mail: mail.trim(), hours: hours as never }))
          .then((done) => {
            if (!done) return;
            form.reset(form.values);
            toast.success(contact.own ? 'Saved where you are told of alarms.' : `Saved where ${contact.name} is told of alarms.`);
            onClose?.();
          });
      }}
    >
      <div className="flex flex-wrap items-start gap-6">
        <Field label="E-mail for call-out" error={form.error('mail')} hint="Empty: not called." className="w-72">
          {(p) => (
            <Input
              {...p}
              inputMode="email"
              autoComplete="off"
              value={form.values.mail}
              onChange={(e) => form.set('mail', e.target.value)}
            />
          )}
        </Field>
        <HoursField
          label="Is told at these times; of priority 4 always"
          hours={form.values.hours}
          error={(field) => problem(`hours.${field}`)}
          onChange={(hours) => form.set('hours', hours)}
        />
      </div>
      <FormTrouble form={form} />
      <div className="mt-2 flex gap-2">
        <Button type="submit" kind={onClose ? 'main' : 'plain'} disabled={form.busy || !form.dirty}>
          Save
        </Button>
        {onClose && (
          <Button
            onClick={() => {
              form.discard();
              onClose();
            }}
          >
            Cancel
          </Button>
        )}
      </div>
    </form>
  );
}
