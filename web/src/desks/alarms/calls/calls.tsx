// Call-out: the calls that go on and those that are over, the plans by which people are called, and who is on shift.

import { Plus } from 'lucide-react';
import { useItems, useMay } from '../../../api/queries';
import { useGo, useView } from '../../../app/view';
import { Button } from '../../../parts/ui';
import { CallList } from './call-list';
import { PlanForm } from './plan-form';
import { PlanList } from './plan-list';
import { ShiftForm } from './shift-form';
import { ShiftList } from './shift-list';

/** Stands in the address for a plan, or a shift pattern, that is being made. */
const NEW_PLAN = 'new-plan';
const NEW_SHIFTS = 'new-shifts';

export function CallOut() {
  const { of } = useView();
  const go = useGo();
  const engineer = useMay('engineer');
  const plans = useItems('call_plan');
  const patterns = useItems('shift_pattern');
  const close = () => go({ of: undefined });
  const plan = plans.data?.items.find((item) => item.id === of);
  const pattern = patterns.data?.items.find((item) => item.id === of);
  if (plans.data && (plan || of === NEW_PLAN)) {
    return <PlanForm key={of} plan={plan} seen={plans.data.revision} count={plans.data.items.length} onClose={close} />;
  }
  if (patterns.data && (pattern || of === NEW_SHIFTS)) {
    return (
      <ShiftForm key={of} pattern={pattern} seen={patterns.data.revision} count={patterns.data.items.length} onClose={close} />
    );
  }
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)] gap-5">
      <CallList />
      <div className="min-h-0 space-y-5 overflow-y-auto pr-1">
        <PlanList plans={plans.data?.items ?? []} onOpen={(id) => go({ of: id })}>
          {engineer && (
            <Button className="h-7" onClick={() => go({ of: NEW_PLAN })}>
              <Plus className="size-4" /> Plan
            </Button>
          )}
        </PlanList>
        <ShiftList patterns={patterns.data?.items ?? []} onOpen={(id) => go({ of: id })}>
          {engineer && (
            <Button className="h-7" onClick={() => go({ of: NEW_SHIFTS })}>
              <Plus className="size-4" /> Shift pattern
            </Button>
          )}
        </ShiftList>
      </div>
    </div>
  );
}
