// Calls: asking for them, taking one, and who was told.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from '../api/client';
import { queries } from '../api/queries';
import { complain } from '../parts/form';
import { counted, lasting, moment } from '../parts/text';

export type Call = Schemas['CallView'];

/** Read anew so often: what was told changes without an alarm. */
const EVERY = 3000;

export function useCalls(query: { rule?: string; limit?: number } = {}, enabled = true) {
  return useQuery({
    queryKey: ['calls', query],
    queryFn: () => take(http.GET('/api/calls', { params: { query } })),
    refetchInterval: EVERY,
    staleTime: 0,
    enabled,
  });
}

const HOW: Record<string, string> = {
  taken: 'taken',
  acknowledged: 'over, no alarm waits',
  unanswered: 'nobody took it',
  withdrawn: 'plan switched off or deleted',
};

/** What became of a call, in words. */
export function callWords(call: Call): string {
  if (call.held) return `nobody took it so far; it goes on ${moment(call.next_at, Date.now())}`;
  if (!call.how) return 'nobody has taken it';
  return call.how === 'taken' ? `${call.by} takes care of it` : (HOW[call.how] ?? call.how);
}

/** Takes a call. */
export async function takeCall(call: Call): Promise<void> {
  try {
    await take(http.POST('/api/calls/{id}/take', { params: { path: { id: call.id } }, body: { comment: '' } }));
  } catch (error) {
    complain(error);
  }
  await queries.invalidateQueries({ queryKey: ['calls'] });
}

/** Who was told, and what the server said. */
export function Messages({ call, now }: { call: Call; now: number }) {
  return (
    <ul aria-label="Messages" className="mt-1 text-sm">
      {call.messages.map((message) => (
        <li key={message.id} className="grid grid-cols-[5.5rem_minmax(0,1fr)] border-t border-line py-1">
          <span className="figures text-soft">{moment(message.made_at, now)}</span>
          <span className="min-w-0">
            <span className="break-words">{message.whom}</span>{' '}
            <span className="text-soft">by {message.carrier || 'a connection that is gone'}</span>
            <span className="block">
              {message.sent_at ? (
                'told'
              ) : message.next_at ? (
                <span className="font-semibold">
                  not told yet, {counted(message.attempts, 'attempt')}, next{' '}
                  {Date.parse(message.next_at) > now ? `in ${lasting(Date.parse(message.next_at) - now)}` : 'now'}
                </span>
              ) : (
                <span className="font-semibold">not told</span>
              )}
              {message.answer && <span className="break-words text-soft">, {message.answer}</span>}
            </span>
          </span>
        </li>
      ))}
    </ul>
  );
}
