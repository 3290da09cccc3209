import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { type AddressInfo, createServer as listen } from 'node:net';
import { WebSocketServer } from 'ws';

/** A backend of a test on a free port. */
export class Backend {
  readonly sockets = new WebSocketServer({ noServer: true });
  private constructor(
    readonly server: Server,
    readonly origin: string,
  ) {}

  static async start(answer: (request: IncomingMessage, response: ServerResponse) => void, port = 0): Promise<Backend> {
    const server = createServer(answer);
    await new Promise<void>((resolve) => server.listen(port, '127.0.0.1', resolve));
    const backend = new Backend(server, `http://127.0.0.1:${(server.address() as AddressInfo).port}`);
    server.on('upgrade', (request, socket, head) =>
      backend.sockets.handleUpgrade(request, socket, head, (webSocket) => backend.sockets.emit('connection', webSocket, request)),
    );
    return backend;
  }

  async close(): Promise<void> {
    for (const client of this.sockets.clients) client.terminate();
    this.server.closeAllConnections();
    await new Promise((resolve) => this.server.close(resolve));
  }
}

/** A port for a server that starts later: none of those that the system gives away meanwhile. */
export function freePort(): Promise<number> {
  const port = 20_000 + Math.floor(Math.random() * 12_000);
  return new Promise((resolve) => {
    const probe = listen().listen(port, '127.0.0.1', () => probe.close(() => resolve(port)));
    probe.once('error', () => resolve(freePort()));
  });
}
