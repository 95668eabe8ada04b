// The review of alarm rules: what speaks against them, their spread over the priorities, and the guide that priorities follow.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, take } from '../../api/client';
import { useGo } from '../../app/view';
import { counted } from '../../parts/text';
import { Button, Trouble } from '../../parts/ui';
import { AlarmClasses } from './alarm-classes';
import { FINDINGS } from './findings';
import { GuideForm } from './guide-form';
import { Spread } from './spread';

export function Review({ at }: { at: string | undefined }) {
  const go = useGo();
  const [open, setOpen] = useState<'guide' | 'classes'>();
  const toggle = (which: 'guide' | 'classes') => setOpen(open === which ? undefined : which);
  const found = useQuery({
    queryKey: ['items', 'review', at],
    placeholderData: (before) => before,
    queryFn: () => take(http.GET('/api/alarms/review', { params: { query: at ? { under: at } : {} } })),
  });
  const review = found.data;
  const counts = new Map(review?.found.map((one) => [one.finding, one.count]));
  return (
    <section aria-label="Review" className="min-h-0 flex-1 space-y-4 overflow-y-auto pr-1">
      <Trouble error={found.error} />
      {review && (
        <div className="grid grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] items-start gap-x-8">
          {open && <div className="col-span-2 mb-4">{open === 'guide' ? <GuideForm /> : <AlarmClasses />}</div>}
          <div>
            <h2 className="mb-1 font-semibold">What speaks against {counted(review.rules, 'alarm rule')} that are on</h2>
            <table aria-label="Findings" className="w-full">
              <tbody>
                {Object.entries(FINDINGS).map(([key, { title, why }]) => {
                  const count = counts.get(key) ?? 0;
                  return (
                    <tr key={key} className="border-t border-line align-top">
                      <td className="figures w-14 py-1 pr-3 text-right font-semibold">{count.toLocaleString('en')}</td>
                      <td className="py-1 pr-3">
                        {title}
                        <span className="block text-sm text-soft">{why}</span>
                      </td>
                      <td className="w-24 py-1 text-right">
                        {count > 0 ? (
                          <Button
                            className="h-6"
                            aria-label={`Show: ${title}`}
                            onClick={() => go({ part: 'rules', finding: key, rule: undefined })}
                          >
                            Show
                          </Button>
                        ) : (
                          <span className="text-soft">none</span>
                        )}
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </div>
          <div>
            <h2 className="mb-1 font-semibold">Spread over the priorities</h2>
            <Spread label="Spread of the rules" count={(priority) => review.by_priority[priority] ?? 0} />
            <p className="mt-1 text-soft">
              {counted(review.by_priority[0] ?? 0, 'rule')} recorded only. The shares on the right are those of EEMUA 191.
            </p>
            <div className="mt-3 flex gap-2">
              <Button aria-expanded={open === 'guide'} onClick={() => toggle('guide')}>
                Guide to priorities
              </Button>
              <Button aria-expanded={open === 'classes'} onClick={() => toggle('classes')}>
                Alarm classes
              </Button>
            </div>
          </div>
        </div>
      )}
    </section>
  );
}
