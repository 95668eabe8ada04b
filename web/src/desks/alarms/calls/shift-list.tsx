// The shift patterns, and who is on shift now.

import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { http, take } from '../../../api/client';
import type { Item } from '../../../api/model';
import { useContacts } from '../../../parts/contacts';
import { counted } from '../../../parts/text';

interface Props {
  patterns: readonly Item<'shift_pattern'>[];
  onOpen: (id: string) => void;
  children: ReactNode;
}

export function ShiftList({ patterns, onOpen, children }: Props) {
  const contacts = useContacts();
  const on = useQuery({
    queryKey: ['items', 'on-shift'],
    queryFn: () => take(http.GET('/api/shifts/now')),
    refetchInterval: 30_000,
    staleTime: 0,
  });
  const names = (people: readonly string[]) =>
    people.map((id) => contacts.find((one) => one.account === id)?.name ?? 'an account that is gone').join(', ');
  return (
    <section aria-label="Shifts">
      <header className="mb-1 flex items-center gap-2">
        <h2 className="flex-1 font-semibold">Shifts and crews</h2>
        {children}
      </header>
      {patterns.length === 0 && (
        <p className="text-soft">No shift pattern yet. A place names the pattern by which it works (Model, place).</p>
      )}
      <ul className="space-y-2">
        {patterns.map((pattern) => {
          const now = on.data?.find((one) => one.pattern === pattern.id);
          return (
            <li key={pattern.id} className="border border-line bg-raised px-3 py-2">
              <button type="button" className="text-left font-semibold hover:text-teal" onClick={() => onOpen(pattern.id)}>
                {pattern.set.name}
              </button>
              {now && (
                <p>
                  {now.crew ? (
                    <>
                      {now.shift}: {now.crew}{' '}
                      <span className="text-soft">
                        {now.people.length > 0 ? names(now.people) : 'nobody is in this crew yet'}
                      </span>
                    </>
                  ) : (
                    <span className="text-soft">Nobody is on shift now.</span>
                  )}
                </p>
              )}
              <p className="text-soft">
                {counted(pattern.set.shifts.length, 'shift')}, {counted(pattern.set.crews.length, 'crew')}, rotation of{' '}
                {counted(pattern.set.rotation.length, 'day')}
              </p>
            </li>
          );
        })}
      </ul>
    </section>
  );
}
