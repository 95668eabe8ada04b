// Parts of the frame that a first visit does not need: they are loaded while nothing else goes on, or when they are asked for.

import { type ComponentType, lazy } from 'react';
import { Refused } from '../api/client';
import { complain } from '../parts/form';

/** A component that is loaded later, and a way to load it beforehand. */
export function late<P>(load: () => Promise<ComponentType<P>>) {
  const component = lazy(async () => {
    try {
      return { default: await load() };
    } catch {
      // The server is away, or it was updated and has other files now.
      complain(new Refused(0, 'This part of the page could not be loaded. Reload the page.'));
      return { default: (() => null) as ComponentType<P> };
    }
  });
  return { component, load };
}
