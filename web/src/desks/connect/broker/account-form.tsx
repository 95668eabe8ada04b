// One account of a broker, or several new ones with the same rights.

import { X } from 'lucide-react';
import { toast } from 'sonner';
import type { Item } from '../../../api/model';
import { commit } from '../../../api/queries';
import { useForm } from '../../../parts/form';
import { counted } from '../../../parts/text';
import { Button, Choice, Field, FormTrouble, INPUT, Input, Tick } from '../../../parts/ui';
import { type Account, accountsOf, BLANK, type Given, MAY, namesOf, type Right, saved, typedOf } from './account';

interface Props {
  item: Item<'connection'>;
  seen: number;
  /** The account that is changed; none: new ones are added. */
  before: Account | undefined;
  /** A right that somebody found missing. */
  wished: Right | undefined;
  onSaved: (given: Given[]) => void;
  onClose: () => void;
}

export const draftName = (item: Item<'connection'>, id: string | undefined) => `broker account ${item.id} ${id ?? 'new'}`;

export function AccountForm({ item, seen, before, wished, onSaved, onClose }: Props) {
  const all = accountsOf(item);
  const at = `settings.accounts[${before ? all.findIndex(({ id }) => id === before.id) : all.length}]`;
  const initial = before ? typedOf(before) : BLANK;
  const start = wished ? { ...initial, rights: [...initial.rights, wished] } : initial;
  const rightsAt = start.rights.flatMap((_, i) => `${at}.rights[${i}].topics`);
  const form = useForm(start, [`${at}.name`, `${at}.password`, `${at}.note`, ...rightsAt], {
    draft: draftName(item, before?.id),
    secret: ['password'],
  });
  const { names, password, anew, enabled, note, rights } = form.values;
  const several = namesOf(form.values).length > 1;
  const setRight = (index: number, part: Partial<Right>) =>
    form.set(
      'rights',
      rights.map((right, i) => (i === index ? { ...right, ...part } : right)),
    );

  async function save() {
    const { next, given } = saved(all, before, several ? { ...form.values, password: '' } : form.values);
    const who = namesOf(form.values);
    const words = who.length > 1 ? counted(who.length, 'account') : `the account ${who[0] ?? ''}`;
    const why = `${before ? 'Changed' : 'Added'} ${words} of ${item.set.name}`;
    const set = { settings: { ...item.set.settings, accounts: next } };
    const done = await form.run(() => commit(why, seen, [{ op: 'patch', kind: 'connection', id: item.id, set }]));
    if (!done) return;
    toast.success('Saved. Clients stay connected.');
    onSaved(given);
    onClose();
  }

  return (
    <form
      aria-label={before ? `Account ${before.name}` : 'New accounts'}
      className="mb-3 max-w-4xl rounded border border-teal bg-raised p-3"
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <div className="mb-2 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_auto] items-start gap-3">
        {before ? (
          <Field label="Account" hint="the user name of a device" error={form.error(`${at}.name`)}>
            {(p) => <Input {...p} className="figures" value={names} onChange={(e) => form.set('names', e.target.value)} />}
          </Field>
        ) : (
          <Field label="Accounts, one on each line" hint="the user name of each device" error={form.error(`${at}.name`)}>
            {(p) => (
              <textarea
                {...p}
                rows={3}
                spellCheck={false}
                className={`${INPUT} figures h-auto py-1`}
                placeholder={'meter-1\nmeter-2'}
                value={names}
                onChange={(e) => form.set('names', e.target.value)}
              />
            )}
          </Field>
        )}
        <div>
          <Field
            label={before ? 'New password' : 'Password'}
            hint={several ? 'Havrel makes one for each' : before ? 'empty: as it is' : 'empty: Havrel makes one'}
            error={form.error(`${at}.password`)}
          >
            {(p) => (
              <Input
                {...p}
                type="password"
                autoComplete="new-password"
                disabled={several || anew}
                value={password}
                onChange={(e) => form.set('password', e.target.value)}
              />
            )}
          </Field>
          {before?.password && (
            <span className="mt-1 block">
              <Tick label="Havrel makes a new one" checked={anew} onChange={(on) => form.set('anew', on)} />
            </span>
          )}
        </div>
        <span className="mt-6">
          <Tick label="Switched on" checked={enabled} onChange={(on) => form.set('enabled', on)} />
        </span>
      </div>
      <fieldset className="mb-2">
        <legend className="text-sm text-soft">
          Rights: topics with + for one level and # for all that follow; <span className="figures">{'{account}'}</span> stands for
          the name of the account
        </legend>
        {rights.map((right, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a right is known by its place
          <div key={index} className="mt-1 grid grid-cols-[14rem_minmax(0,1fr)_auto] items-start gap-3">
            <Choice
              aria-label={`What right ${index + 1} allows`}
              value={right.may}
              onChange={(e) => setRight(index, { may: e.target.value as Right['may'] })}
            >
              {Object.entries(MAY).map(([may, words]) => (
                <option key={may} value={may}>
                  {words}
                </option>
              ))}
            </Choice>
            <div>
              <Input
                className="figures"
                aria-label={`Topics of right ${index + 1}`}
                aria-invalid={Boolean(form.error(`${at}.rights[${index}].topics`))}
                value={right.topics}
                placeholder="site/{account}/#"
                onChange={(e) => setRight(index, { topics: e.target.value })}
              />
              {form.error(`${at}.rights[${index}].topics`) && (
                <p className="text-sm text-act4">{form.error(`${at}.rights[${index}].topics`)}</p>
              )}
            </div>
            <Button
              kind="quiet"
              aria-label={`Remove right ${index + 1}`}
              onClick={() =>
                form.set(
                  'rights',
                  rights.filter((_, i) => i !== index),
                )
              }
            >
              <X className="size-4" />
            </Button>
          </div>
        ))}
        <Button kind="quiet" className="mt-1" onClick={() => form.set('rights', [...rights, { topics: '', may: 'receive' }])}>
          Add a right
        </Button>
      </fieldset>
      <Field label="Note" error={form.error(`${at}.note`)} className="mb-2">
        {(p) => <Input {...p} value={note} onChange={(e) => form.set('note', e.target.value)} />}
      </Field>
      <FormTrouble form={form} className="mb-2" />
      <div className="flex gap-2">
        <Button kind="main" type="submit" disabled={form.busy}>
          {before ? 'Save account' : several ? `Add ${namesOf(form.values).length} accounts` : 'Add account'}
        </Button>
        <Button
          kind="quiet"
          onClick={() => {
            form.discard();
            onClose();
          }}
        >
          Discard
        </Button>
      </div>
    </form>
  );
}
