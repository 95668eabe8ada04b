// Call-out plans in words.

import type { CallPlanSet, CallTo, Item } from '../../../api/model';
import type { Contact } from '../../../parts/contacts';

/** What a plan names. */
export interface Named {
  contacts: readonly Contact[];
  places: readonly Item<'place'>[];
  classes: readonly Item<'alarm_class'>[];
  connections: readonly Item<'connection'>[];
}

/** For which alarms a plan is. */
export function planWords(set: CallPlanSet, { places, classes }: Named): string {
  const place = set.under
    ? (places.find((one) => one.id === set.under)?.title.replaceAll('/', ' / ') ?? 'a place that is gone')
    : '';
  const priority = set.lowest === 4 ? 'priority 4' : set.lowest === 1 ? 'every priority' : `priority ${set.lowest} and higher`;
  const named = set.classes.map((id) => classes.find((one) => one.id === id)?.set.name ?? 'a class that is gone');
  const of = named.length > 0 ? ` of ${named.join(', ')}` : '';
  const where = place ? ` at ${place}` : ' anywhere, and about Havrel itself';
  const after = set.after_min > 0 ? `, not acknowledged for ${set.after_min} min` : ', as soon as they come';
  return `Alarms${of} of ${priority}${where}${after}`;
}

/** Who is told by a step, and why that may reach nobody. */
export function stepWords(to: CallTo, { contacts, connections }: Named): { who: string; trouble?: string } {
  switch (to.kind) {
    case 'crew':
      return { who: 'the crew on shift' };
    case 'address':
      return { who: to.mail };
    case 'hook': {
      const hook = connections.find((one) => one.id === to.connection);
      if (!hook) return { who: 'a web hook', trouble: 'it is gone' };
      return hook.set.enabled === false ? { who: hook.set.name, trouble: 'it is switched off' } : { who: hook.set.name };
    }
    case 'person': {
      const person = contacts.find((one) => one.account === to.account);
      if (!person) return { who: 'somebody', trouble: 'the account is disabled or gone' };
      return person.reachable
        ? { who: person.name }
        : { who: person.name, trouble: 'no address, or a role that may not acknowledge' };
    }
  }
}
