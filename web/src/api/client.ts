// Requests to the server, with its problem documents as errors.

import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];

export const http = createClient<paths>({ baseUrl: '/', credentials: 'same-origin' });

export interface Wrong {
  edit: number;
  field: string;
  message: string;
  /** What stands there by now, where somebody else has written meanwhile. */
  now?: string;
}

/** What the server said was wrong: one sentence, and the fields it concerns. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly problems: Wrong[] = [],
  ) {
    super(message);
  }

  /** The sentence for one field, if it is to blame. */
  field(name: string): string | undefined {
    return this.problems.find((p) => p.field === name)?.message;
  }
}

interface Result<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

const SIGNED_OUT = 'havrel:signed-out';

/** Calls back when the server no longer knows who we are. */
export function onSignedOut(listener: () => void): () => void {
  window.addEventListener(SIGNED_OUT, listener);
  return () => window.removeEventListener(SIGNED_OUT, listener);
}

/** Tells those who asked to be called back that the session has ended. */
export function signedOut() {
  window.dispatchEvent(new Event(SIGNED_OUT));
}

export function refused(status: number, body: unknown): Refused {
  const problem = (body ?? {}) as { detail?: string; problems?: Wrong[] };
  if (status === 401) signedOut();
  return new Refused(status, problem.detail ?? 'The server did not answer as expected.', problem.problems ?? []);
}

/** The data of an answer, or the problem as an error. */
export async function take<T>(request: Promise<Result<T>>): Promise<T> {
  let result: Result<T>;
  try {
    result = await request;
  } catch {
    throw new Refused(0, 'The server cannot be reached. Havrel keeps trying.');
  }
  if (result.error !== undefined || !result.response.ok) throw refused(result.response.status, result.error);
  return result.data as T;
}

/** A new identity: a UUID of version 7, so that newer items sort behind older ones. */
export function newId(now = Date.now()): string {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  new DataView(bytes.buffer).setUint16(0, Math.floor(now / 2 ** 32));
  new DataView(bytes.buffer).setUint32(2, now % 2 ** 32);
  bytes[6] = ((bytes[6] ?? 0) & 0x0f) | 0x70;
  bytes[8] = ((bytes[8] ?? 0) & 0x3f) | 0x80;
  const hex = [...bytes].map((b) => b.toString(16).padStart(2, '0')).join('');
  return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5');
}
