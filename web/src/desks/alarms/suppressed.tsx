// Alarms that are kept from the operator: who did it, why, and how long it still lasts.

import { useNow } from '../../api/live';
import { type Alarm, useMay } from '../../api/queries';
import { actNow, SUPPRESSION_WORDS } from '../../app/alarm-acts';
import { useGo } from '../../app/view';
import { Pips } from '../../parts/pips';
import { lasting, moment } from '../../parts/text';
import { Button, Empty } from '../../parts/ui';

/** One line for each reason, what ends first above; what ends by itself stands over what does not. */
function linesOf(alarms: readonly Alarm[]) {
  const end = (until: string) => (until ? Date.parse(until) : Number.POSITIVE_INFINITY);
  return alarms
    .flatMap((alarm) => alarm.suppressions.map((by) => ({ alarm, by })))
    .sort((a, b) => end(a.by.until) - end(b.by.until) || Date.parse(b.by.since) - Date.parse(a.by.since));
}

export function SuppressedList({ alarms, elsewhere }: { alarms: readonly Alarm[]; elsewhere: number }) {
  const go = useGo();
  const now = useNow();
  const [operator, engineer] = [useMay('operator'), useMay('engineer')];
  if (alarms.length === 0) {
    return (
      <Empty title={elsewhere > 0 ? `No suppressed alarms here, ${elsewhere} elsewhere in the plant` : 'No suppressed alarms'}>
        An alarm that nobody should be told of for a while is shelved: open it and choose Shelve. It returns by itself.
      </Empty>
    );
  }
  return (
    <div className="min-h-0 flex-1 overflow-auto border border-line bg-raised">
      <table className="w-full text-left" aria-label="Suppressed alarms">
        <thead className="sticky top-0 bg-band text-sm">
          <tr className="h-8">
            <th className="w-8 px-2" aria-label="Priority" />
            <th className="font-semibold">Alarm</th>
            <th className="w-20 font-semibold">Condition</th>
            <th className="w-36 font-semibold">Suppressed</th>
            <th className="w-28 font-semibold">Ends</th>
            <th className="w-24" aria-label="End it" />
          </tr>
        </thead>
        <tbody>
          {linesOf(alarms).map(({ alarm, by }) => (
            <tr key={`${alarm.rule} ${by.kind}`} className="h-11 border-t border-line hover:bg-band">
              <td className="px-2">
                <Pips priority={alarm.priority} state="acknowledged" />
              </td>
              <td className="min-w-0 pr-3">
                <button
                  type="button"
                  className="text-left hover:text-teal"
                  onClick={() => go({ alarm: alarm.rule, tag: undefined })}
                >
                  <span className="text-soft">{alarm.place_name} · </span>
                  {alarm.title}
                </button>
                <p className="text-sm text-soft">{by.reason}</p>
              </td>
              <td className={alarm.condition === 'normal' ? 'text-soft' : 'font-semibold'}>{alarm.condition}</td>
              <td className="pr-2">
                {SUPPRESSION_WORDS[by.kind] ?? by.kind}
                <p className="text-sm text-soft">
                  {by.by} <span className="figures text-sm">{moment(by.since, now)}</span>
                </p>
              </td>
              <td className="pr-2">
                {by.until ? (
                  <>
                    <span className="figures">{moment(by.until, now)}</span>
                    <p className="text-sm text-soft">in {lasting(Math.max(0, Date.parse(by.until) - now))}</p>
                  </>
                ) : (
                  <span className="text-soft">when it is ended</span>
                )}
              </td>
              <td className="pr-2 text-right">
                {by.kind === 'shelved' && (
                  <Button
                    className="h-6.5"
                    disabled={!operator}
                    aria-label={`Unshelve ${alarm.title} of ${alarm.place_name}`}
                    onClick={() => void actNow('unshelve', { rules: [alarm.rule] })}
                  >
                    Unshelve
                  </Button>
                )}
                {by.kind === 'out_of_service' && (
                  <Button
                    className="h-6.5"
                    disabled={!engineer}
                    aria-label={`Put ${alarm.title} of ${alarm.place_name} back in service`}
                    onClick={() => void actNow('put_in_service', { rules: [alarm.rule] })}
                  >
                    Put back
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
