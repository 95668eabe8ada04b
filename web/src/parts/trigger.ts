// A condition at whose turning something is done, in words.

import { pathEnd } from './text';

export type Edge = 'rise' | 'fall' | 'either';

export const EDGES: Record<Edge, string> = {
  rise: 'becomes true',
  fall: 'becomes false',
  either: 'turns true or false',
};

/** “EX-1 / Phase == 4 becomes true”: the condition with its tags named in short. */
export const triggerWords = (text: string, edge: Edge): string =>
  `${text.replace(/\bat\("([^"]*)"\)/g, (_, path: string) => pathEnd(path))} ${EDGES[edge]}`;
