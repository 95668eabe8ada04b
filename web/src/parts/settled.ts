// What is typed, once it has come to rest.

import { useEffect, useState } from 'react';

/** For so long nothing must change, in ms. */
const REST = 350;

/** Something once it has not changed for a moment. */
export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text stands for the value
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), REST);
    return () => clearTimeout(timer);
  }, [text]);
  return settled;
}
