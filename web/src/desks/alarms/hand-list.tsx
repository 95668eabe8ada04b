// Every value that is set by hand: whose it is, why, until when, and the way to release it.

import type { Schemas } from '../../api/client';
import { useMay } from '../../api/queries';
import { endOf, release } from '../../app/by-hand';
import { useGo } from '../../app/view';
import { moment, pathEnd } from '../../parts/text';
import { Button, Empty } from '../../parts/ui';

export function HandList({ hands, elsewhere }: { hands: Schemas['HandView'][]; elsewhere: number }) {
  const go = useGo();
  const operator = useMay('operator');
  if (hands.length === 0) {
    return (
      <Empty title={elsewhere > 0 ? `Nothing here, ${elsewhere} elsewhere in the plant` : 'Nothing is set by hand'}>
        A value set by hand replaces the one from the source until it is released. Open a tag to set one.
      </Empty>
    );
  }
  return (
    <div className="min-h-0 flex-1 overflow-auto">
      <table className="w-full border border-line bg-raised text-left" aria-label="Set by hand">
        <thead className="bg-band text-sm">
          <tr className="h-8">
            <th className="w-22 px-2 font-semibold">Since</th>
            <th className="w-44 font-semibold">Tag</th>
            <th className="w-28 pr-4 text-right font-semibold">Set to</th>
            <th className="font-semibold">Reason</th>
            <th className="w-30 font-semibold">Owner</th>
            <th className="w-40 font-semibold">End</th>
            <th className="w-24" aria-label="Release" />
          </tr>
        </thead>
        <tbody>
          {hands.map((hand) => (
            <tr key={hand.tag} className="h-9 border-t border-line hover:bg-band">
              <td className="figures px-2">{moment(hand.since)}</td>
              <td className="truncate pr-2">
                <button type="button" className="text-left hover:text-teal" onClick={() => go({ tag: hand.tag })}>
                  {pathEnd(hand.title)}
                </button>
              </td>
              <td className="figures pr-4 text-right font-semibold whitespace-nowrap">✎ {hand.shown}</td>
              <td className="py-1 pr-3">{hand.reason}</td>
              <td className="truncate pr-2">{hand.owner}</td>
              <td className="pr-2 text-soft">{endOf(hand)}</td>
              <td className="pr-2 text-right">
                <Button
                  className="h-6.5"
                  disabled={!operator}
                  aria-label={`Release ${pathEnd(hand.title)}`}
                  onClick={() => void release(hand.tag)}
                >
                  Release
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
