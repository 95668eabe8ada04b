// Ports of the loopback for what a test starts itself.

import { createServer } from 'node:net';

/** A port that nobody uses. */
export const freePort = () =>
  new Promise<number>((found) => {
    const listener = createServer().listen(0, '127.0.0.1', () => {
      const address = listener.address();
      listener.close(() => found(typeof address === 'object' && address ? address.port : 0));
    });
  });
