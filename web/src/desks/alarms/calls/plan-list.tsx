// The call-out plans, each as a sentence, and the test alarm.

import type { ReactNode } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../../api/client';
import type { CallPlanSet, Item } from '../../../api/model';
import { queries, useItems, useMay } from '../../../api/queries';
import { useContacts } from '../../../parts/contacts';
import { complain } from '../../../parts/form';
import { hoursWords } from '../../../parts/hours';
import { Button } from '../../../parts/ui';
import { planWords, stepWords } from './plan-words';

async function testAlarm(plan: string | null): Promise<void> {
  try {
    await take(http.POST('/api/calls/test', { body: { plan } }));
    toast.success('The test alarm stands. Acknowledge it to end the test.');
  } catch (error) {
    complain(error);
  }
  await Promise.all([queries.invalidateQueries({ queryKey: ['calls'] }), queries.invalidateQueries({ queryKey: ['alarms'] })]);
}

interface Props {
  plans: readonly Item<'call_plan'>[];
  onOpen: (id: string) => void;
  children: ReactNode;
}

export function PlanList({ plans, onOpen, children }: Props) {
  const operator = useMay('operator');
  return (
    <section aria-label="Call-out plans">
      <header className="mb-1 flex items-center gap-2">
        <h2 className="flex-1 font-semibold">Who is called</h2>
        {children}
      </header>
      {plans.length === 0 && (
        <p className="mb-2 text-soft">
          No plan yet: nobody is called. A plan says who is told of which alarms, one after the other.
        </p>
      )}
      <ul className="space-y-2">
        {plans.map((plan) => (
          <li key={plan.id} className="border border-line bg-raised px-3 py-2">
            <div className="flex items-start gap-2">
              <button
                type="button"
                className="min-w-0 flex-1 text-left font-semibold hover:text-teal"
                onClick={() => onOpen(plan.id)}
              >
                {plan.set.name}
                {!plan.set.enabled && <span className="font-normal text-soft"> (off)</span>}
              </button>
              {operator && (
                <Button
                  className="h-6"
                  aria-label={`Test alarm through ${plan.set.name}`}
                  onClick={() => void testAlarm(plan.id)}
                >
                  Test
                </Button>
              )}
            </div>
            <Plan set={plan.set} />
          </li>
        ))}
      </ul>
      {operator && (
        <p className="mt-2">
          <Button kind="quiet" onClick={() => void testAlarm(null)}>
            Test alarm that calls nobody
          </Button>
        </p>
      )}
    </section>
  );
}

function Plan({ set }: { set: CallPlanSet }) {
  const contacts = useContacts();
  const places = useItems('place').data?.items ?? [];
  const classes = useItems('alarm_class').data?.items ?? [];
  const connections = useItems('connection').data?.items ?? [];
  const named = { contacts, places, classes, connections };
  return (
    <>
      <p className="text-soft">{planWords(set, named)}</p>
      {set.hours.windows.length > 0 && (
        <p className="text-soft">
          Applies {hoursWords(set.hours)}, {set.hours.zone}
        </p>
      )}
      <ol className="mt-1 list-inside list-decimal">
        {set.steps.map((step, i) => {
          const { who, trouble } = stepWords(step.to, named);
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: steps have no identity but their place
            <li key={i}>
              {who}
              {trouble && <span className="font-semibold text-act3">: {trouble}</span>}
              <span className="text-soft">
                {i < set.steps.length - 1 || set.rounds > 1 ? `, then ${step.wait_min} min` : `, ${step.wait_min} min`}
              </span>
            </li>
          );
        })}
      </ol>
      <p className="text-soft">{set.rounds === 1 ? 'Gone through once' : `Gone through ${set.rounds} times`}</p>
    </>
  );
}
