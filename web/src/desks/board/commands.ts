// What can be commanded on several machines at once: settings and commands that like equipment has alike.

import type { Item } from '../../api/model';
import type { Tag } from './cards';

export interface Command {
  /** The property of the class. */
  property: string;
  /** “Agitator · On”. */
  title: string;
  tags: Tag[];
}

/** The writable properties that at least two machines have, by the class that brings them and their name. */
export function commandsOf(tags: readonly Tag[], classes: readonly Item<'class'>[]): Command[] {
  const alike = new Map<string, Tag[]>();
  for (const tag of tags) {
    const { writable, property } = tag.set;
    if (writable && property) alike.set(property, [...(alike.get(property) ?? []), tag]);
  }
  const all = [...alike].map(([property, of]) => {
    // A class that extends another has its properties, too.
    const having = classes.filter((c) => property in c.set.properties);
    const brings = having.find((c) => !having.some((other) => other.id === c.set.extends));
    return { property, title: [brings?.set.name, of[0]?.set.name].filter(Boolean).join(' · '), tags: of };
  });
  return all.filter((command) => command.tags.length > 1).sort((a, b) => a.title.localeCompare(b.title));
}

/** The part of a path that says which machine: “Extraction / EX-1 / Agitator” without the site and without the value's name. */
export function machineOf(tag: Pick<Tag, 'title'>): string {
  return tag.title.split('/').slice(1, -1).join(' / ') || tag.title;
}
