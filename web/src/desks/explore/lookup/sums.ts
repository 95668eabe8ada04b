// What a lookup comes to, as it is read through on the server.

import { useEffect, useState } from 'react';
import type { Schemas } from '../../../api/client';
import type { LookupSet } from '../../../api/model';
import { stream } from '../../../api/stream';

type Told = Schemas['LookupSums'];

export interface Sums {
  rows: number;
  /** How much of it is read, from 0 to 1. */
  share: number;
  /** Once all is read. */
  columns: Told['columns'] | undefined;
  failed: string | undefined;
}

const NONE: Sums = { rows: 0, share: 0, columns: undefined, failed: undefined };

/** Reads a lookup through; another lookup ends that, and so does leaving. */
export function useSums(lookup: LookupSet | undefined): Sums {
  const [sums, setSums] = useState(NONE);
  const key = JSON.stringify(lookup);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the key stands for the lookup
  useEffect(() => {
    setSums(NONE);
    if (!lookup) return;
    const left = new AbortController();
    const read = async () => {
      for await (const told of stream<Told>('/api/lookup/sums', { body: { lookup }, signal: left.signal })) {
        const { rows, share, columns, failed } = told;
        setSums({ rows, share, columns: columns.length > 0 ? columns : undefined, failed: failed ?? undefined });
      }
    };
    read().catch((error: unknown) => {
      if (!left.signal.aborted) setSums({ ...NONE, failed: error instanceof Error ? error.message : String(error) });
    });
    return () => left.abort();
  }, [key]);
  return sums;
}
