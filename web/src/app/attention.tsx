// What tells of alarms beyond the page: the title and icon of its tab, and sound.

import { Volume2, VolumeX } from 'lucide-react';
import { useEffect, useState } from 'react';
import { waits } from '../api/alarm-state';
import { type Alarm, useAlarms } from '../api/queries';
import { usePast } from '../api/shown';
import { heard, keyOf, play, setSound, TONES, useSound } from '../parts/sound';
import { Button } from '../parts/ui';

const NONE: Alarm[] = [];

function useWaiting(): Alarm[] {
  const alarms = useAlarms().data?.alarms ?? NONE;
  const isPast = usePast();
  return isPast ? NONE : alarms.filter((a) => waits(a.state));
}

/** The title and the icon of the tab: a desk, and how many alarms wait to be acknowledged. */
export function useTab(desk: string) {
  const count = useWaiting().length;
  useEffect(() => {
    document.title = `${count > 0 ? `(${count}) ` : ''}${desk} – Havrel`;
    const icon = document.querySelector<HTMLLinkElement>('link[rel="icon"]');
    if (icon) icon.href = count > 0 ? '/mark-alarm.svg' : '/mark.svg';
  }, [desk, count]);
}

/** Sound for alarms, in this browser: off until it is switched on; silenced, it is quiet until the next alarm. */
export function SoundPart() {
  const on = useSound() === 'on';
  const waiting = useWaiting().filter((a) => a.sound);
  const [silenced, setSilenced] = useState<ReadonlySet<string>>(new Set());
  const priority = heard(waiting, silenced);
  const newest = waiting.find((a) => a.priority === priority);
  // Another alarm of the same priority is heard at once.
  const which = newest ? keyOf(newest) : '';
  useEffect(() => {
    const tone = TONES[priority];
    if (!on || !tone || !which) return;
    play(tone.notes);
    if (tone.every === undefined) return;
    const timer = setInterval(() => play(tone.notes), tone.every * 1000);
    return () => clearInterval(timer);
  }, [on, priority, which]);
  const silence = () => setSilenced(new Set(waiting.map(keyOf)));
  if (on && TONES[priority]?.every !== undefined) {
    return (
      <Button className="h-6.5 shrink-0" onClick={silence}>
        Silence
      </Button>
    );
  }
  return (
    <Button
      kind="quiet"
      className="h-6.5 shrink-0 px-1.5"
      aria-pressed={on}
      aria-label="Sound for alarms"
      title={on ? 'Sound for alarms is on' : 'Sound for alarms is off in this browser'}
      onClick={() => {
        if (!on) play(TONES[2]?.notes ?? []);
        setSound(on ? 'off' : 'on');
      }}
    >
      {on ? <Volume2 className="size-4" /> : <VolumeX className="size-4" />}
    </Button>
  );
}
