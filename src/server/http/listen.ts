import type { AddressInfo, Server } from 'node:net';
import { VineError } from '../../core/problem/problem.js';

/** How many ports after the wanted one are tried. */
const portTries = 20;

/** Where to listen. `exact`: fail where the port is taken instead of taking the next free one. */
export interface ListenOptions {
  host: string;
  port: number;
  exact: boolean;
}

/** Where to listen, with the ports that are somebody else's even if nobody listens there yet. */
export interface WantedPort extends ListenOptions {
  isReserved(port: number): boolean;
}

/**
 * Starts to listen, on the wanted port or the next free one. Returns the port.
 *
 * @throws VineError `port-taken` or `address-unavailable`.
 */
export async function listen(server: Server, { host, port, exact, isReserved }: WantedPort): Promise<number> {
  const tries = exact || port === 0 ? 1 : portTries;
  for (let attempt = 0; attempt < tries; attempt++) {
    if (!exact && isReserved(port + attempt)) continue;
    const error = await listenOn(server, host, port + attempt);
    if (!error) {
      return (server.address() as AddressInfo).port;
    }
    if (error.code === 'EADDRINUSE') continue;
    const hint =
      error.code === 'EACCES'
        ? 'Ports below 1024 need special rights; take a higher one.'
        : 'Use localhost, 0.0.0.0 for every address, or one that this machine has.';
    throw new VineError(
      { code: 'address-unavailable', message: `Cannot listen on ${host}:${port} (${error.code}).`, hint },
      { cause: error },
    );
  }
  const last = port + tries - 1;
  const message = exact ? `Port ${port} is in use.` : `Ports ${port} to ${last} are all in use.`;
  const hint = exact
    ? 'End the program that uses it, choose another with --port, or leave out --exact-port to get the next free one.'
    : 'Choose another with --port.';
  throw new VineError({ code: 'port-taken', message, hint });
}

function listenOn(server: Server, host: string, port: number): Promise<NodeJS.ErrnoException | undefined> {
  return new Promise((resolve) => {
    const onError = (error: NodeJS.ErrnoException) => {
      server.off('listening', whenBound);
      resolve(error);
    };
    const whenBound = () => {
      server.off('error', onError);
      resolve(undefined);
    };
    server.once('error', onError);
    server.once('listening', whenBound);
    server.listen(port, host);
  });
}
