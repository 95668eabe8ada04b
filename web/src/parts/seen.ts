// Whether something is in sight: what nobody sees need not be asked for.

import { type RefObject, useEffect, useState } from 'react';

export function useSeen(of: RefObject<Element | null>): boolean {
  const [seen, setSeen] = useState(false);
  useEffect(() => {
    if (!of.current) return;
    const observer = new IntersectionObserver((entries) => setSeen(entries.at(-1)?.isIntersecting ?? false));
    observer.observe(of.current);
    return () => observer.disconnect();
  }, [of]);
  return seen;
}
