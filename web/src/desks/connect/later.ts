// A value as it was when it last stood still for a while.

import { useEffect, useState } from 'react';

export function useLater<T>(value: T, milliseconds: number): T {
  const [later, setLater] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setLater(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return later;
}
