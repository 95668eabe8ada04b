// The parts of the desk Explore.

import { useGo, useView } from '../../app/view';
import { DeskPart } from '../../parts/ui';

export function ExploreParts() {
  const { part } = useView();
  const go = useGo();
  return (
    <>
      <DeskPart on={part !== 'lookup'} onClick={() => go({ part: undefined })}>
        Trend
      </DeskPart>
      <DeskPart on={part === 'lookup'} onClick={() => go({ part: 'lookup' })}>
        Lookup
      </DeskPart>
    </>
  );
}
