// Calls, those that go on first: which alarms, who was told, what became of it.

import { useState } from 'react';
import { useNow } from '../../../api/live';
import { useMay } from '../../../api/queries';
import { type Call, callWords, Messages, takeCall, useCalls } from '../../../app/calls';
import { useGo } from '../../../app/view';
import { Pips } from '../../../parts/pips';
import { counted, lasting, moment } from '../../../parts/text';
import { Button, Empty, Trouble } from '../../../parts/ui';

const PAGE = 50;

export function CallList() {
  const [limit, setLimit] = useState(PAGE);
  const calls = useCalls({ limit });
  const all = calls.data ?? [];
  const open = all.filter((call) => !call.how);
  const over = all.filter((call) => call.how);
  return (
    <section aria-label="Calls" className="flex min-h-0 flex-col">
      <header className="mb-1 flex h-7 items-center">
        <h2 className="font-semibold">Calls</h2>
      </header>
      <Trouble error={calls.error} />
      {calls.data && all.length === 0 && (
        <Empty title="Nobody was called yet">
          A call begins when an alarm that a plan is for waits to be acknowledged. Try it out with a test alarm.
        </Empty>
      )}
      <ol className="min-h-0 flex-1 space-y-2 overflow-y-auto pr-1">
        {[...open, ...over].map((call) => (
          <CallItem key={call.id} call={call} />
        ))}
        {all.length >= limit && limit < 200 && (
          <li>
            <Button onClick={() => setLimit(200)}>Earlier calls</Button>
          </li>
        )}
      </ol>
    </section>
  );
}

function CallItem({ call }: { call: Call }) {
  const go = useGo();
  const now = useNow();
  const operator = useMay('operator');
  const [whole, setWhole] = useState(!call.how);
  const first = call.alarms[0];
  return (
    <li className={`border bg-raised px-3 py-2 ${call.how ? 'border-line' : 'border-firm'}`}>
      <div className="flex items-start gap-2">
        {first && <Pips priority={first.priority} state={call.how ? 'acknowledged' : 'unacknowledged'} quiet />}
        <div className="min-w-0 flex-1">
          <p>
            {call.test && <span className="mr-1.5 rounded border border-firm px-1 text-sm font-semibold">test</span>}
            {first ? (
              <button
                type="button"
                className="text-left hover:text-teal"
                onClick={() => go({ alarm: first.rule, tag: undefined })}
              >
                <span className="text-soft">{first.place_name} · </span>
                <span className="font-semibold">{first.text}</span>
              </button>
            ) : (
              <span className="text-soft">Its alarms are gone.</span>
            )}
            {call.alarms.length > 1 && <span className="text-soft"> and {counted(call.alarms.length - 1, 'more alarm')}</span>}
          </p>
          <p className="text-soft">
            {call.plan_name}, <span className="figures">{moment(call.began_at, now)}</span>
          </p>
          <p className={call.how === 'unanswered' || !call.how ? 'font-semibold' : ''}>
            {callWords(call)}
            {call.over_at && <span className="figures font-normal text-soft"> {moment(call.over_at, now)}</span>}
            {!call.how && <Next call={call} now={now} />}
          </p>
        </div>
        <div className="flex gap-1">
          {!call.how && operator && (
            <Button kind="main" className="h-7" onClick={() => void takeCall(call)}>
              I take it
            </Button>
          )}
          <Button kind="quiet" className="h-7" aria-expanded={whole} onClick={() => setWhole(!whole)}>
            {counted(call.messages.length, 'message')}
          </Button>
        </div>
      </div>
      {whole && call.messages.length > 0 && <Messages call={call} now={now} />}
    </li>
  );
}

function Next({ call, now }: { call: Call; now: number }) {
  const left = Date.parse(call.next_at) - now;
  return (
    <span className="font-normal text-soft">
      , next step {left > 0 ? <span className="figures">in {lasting(left)}</span> : 'now'}
    </span>
  );
}
