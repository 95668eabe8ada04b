// Figures that recorders keep of tags, named as questions to history name them: `ID.TRACK.RECORDER`.

import type { Item, Track } from '../api/model';

/** The id of the tag. */
export const tagIn = (name: string): string => name.split('.')[0] ?? name;

/** Which figure it is; nothing for the value itself. */
export const trackIn = (name: string): Track | undefined => name.split('.')[1] as Track | undefined;

/** The tag as it stands for what is named: a figure is a number without names, limits or live values. */
export function asNamed(name: string, tag: Item<'tag'>): Item<'tag'> {
  const track = trackIn(name);
  if (!track) return tag;
  const set = { ...tag.set, name: `${tag.set.name}, ${track}`, states: null };
  return { ...tag, id: name, no: 0, title: `${tag.title}, ${track}`, set, holds: 'f64' };
}
