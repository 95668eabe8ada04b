// Answers that come line by line: one JSON object each, until the other side or the reader ends it.

import { Refused, refused } from './client';

interface Request {
  body?: unknown;
  signal: AbortSignal;
}

/** Reads an NDJSON answer as it comes. */
export async function* stream<T>(url: string, { body, signal }: Request): AsyncGenerator<T> {
  const post = { method: 'POST', headers: { 'content-type': 'application/json' }, body: JSON.stringify(body) };
  const response = await fetch(url, { ...(body === undefined ? {} : post), signal });
  if (!response.ok) throw refused(response.status, await response.json().catch(() => undefined));
  if (!response.body) throw new Refused(0, 'The server did not answer as expected.');
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  try {
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      const lines = (rest + value).split('\n');
      rest = lines.pop() ?? '';
      for (const line of lines) if (line) yield JSON.parse(line) as T;
    }
  } finally {
    await reader.cancel().catch(() => undefined);
  }
}
