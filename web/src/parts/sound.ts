// The tones by which alarms are told, made by the browser itself.

import { browserChoice } from './browser-choice';

const choice = browserChoice<'on' | 'off'>('havrel.sound', ['on'], 'off', () => undefined);
export const setSound = choice.set;
export const useSound = choice.useValue;

export interface Tone {
  /** Frequencies in Hz, one after the other. */
  notes: readonly number[];
  /** It is heard again after so many seconds, until it is silenced; without it, once. */
  every?: number;
}

/** The higher the priority, the more notes and the sooner again; what is only for the record makes no sound. */
export const TONES: Record<number, Tone> = {
  4: { notes: [784, 587, 784, 587], every: 3 },
  3: { notes: [587, 784], every: 8 },
  2: { notes: [440] },
};

const NOTE = 0.16;

let context: AudioContext | undefined;

/** Plays notes. A browser that lets no page sound before somebody has touched it stays quiet until then. */
export function play(notes: readonly number[]): void {
  context ??= new AudioContext();
  void context.resume();
  const { currentTime: start, destination } = context;
  notes.forEach((frequency, i) => {
    if (!context) return;
    const [tone, volume] = [context.createOscillator(), context.createGain()];
    const [from, to] = [start + i * NOTE, start + (i + 1) * NOTE];
    tone.frequency.value = frequency;
    tone.connect(volume).connect(destination);
    // Without a rise and a fall each note would begin and end with a click.
    volume.gain.setValueAtTime(0, from);
    volume.gain.linearRampToValueAtTime(0.25, from + 0.02);
    volume.gain.linearRampToValueAtTime(0, to);
    tone.start(from);
    tone.stop(to);
  });
}

/** The priority that is to be heard: the highest of those that nobody has silenced. */
export function heard(waiting: readonly { rule: string; raised_at: string; priority: number }[], silenced: ReadonlySet<string>) {
  const loud = waiting.filter((a) => a.priority in TONES && !silenced.has(keyOf(a)));
  return loud.reduce((most, a) => Math.max(most, a.priority), 0);
}

/** One coming of an alarm: silenced, it is heard again when it comes again. */
export const keyOf = (a: { rule: string; raised_at: string }) => `${a.rule} ${a.raised_at}`;
