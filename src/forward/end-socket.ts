import type { Socket } from 'node:net';
import type { Duplex } from 'node:stream';

/** Writes the last bytes to a connection and closes it for good: a client that keeps its own half open must not hold it. */
export function endSocket(socket: Duplex, bytes: string): void {
  socket.end(bytes, 'latin1');
  (socket as Partial<Socket>).destroySoon?.();
}
