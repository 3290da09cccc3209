import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { createServer as createSecureServer, type Server as SecureServer } from 'node:https';
import { createServer as createDoor, type Server as Door, type Socket } from 'node:net';
import type { Duplex } from 'node:stream';
import { escapeHtml, toolPage } from '../../core/tool-page.js';
import { mostHeaderBytes, onClientError } from './client-errors.js';
import { listen, type WantedPort } from './listen.js';
import { sendText } from './respond.js';

/** Key and certificate chain, in PEM. */
export interface Certificate {
  key: string;
  cert: string;
}

/** Who answers what comes in. */
export interface FrontDoorOptions {
  /** `isContinued`: the client waits for a `100 Continue` before it sends the body. */
  onRequest(request: IncomingMessage, response: ServerResponse, isContinued: boolean): void;
  onUpgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void;
  /** A connection that can't be taken, e.g. for want of file descriptors, is the client's loss and not the server's end. */
  failed(what: string, error: unknown): void;
  /** Talk by TLS. What comes without is redirected. */
  certificate?: Certificate | undefined;
}

/** Listens for HTTP, with or without TLS, and knows all connections, so that it can close at once. */
export class FrontDoor {
  readonly #options: FrontDoorOptions;
  readonly #server: Server | SecureServer;
  readonly #door: Server | Door;
  readonly #sockets = new Set<Duplex>();

  constructor(options: FrontDoorOptions) {
    this.#options = options;
    const { certificate } = options;
    const limits = { maxHeaderSize: mostHeaderBytes, headersTimeout: headMs, keepAliveTimeout: idleMs };
    this.#server = certificate ? createSecureServer({ ...limits, ...certificate }) : createServer(limits);
    this.#server.on('request', (request, response) => options.onRequest(request, response, false));
    this.#server.on('checkContinue', (request, response) => options.onRequest(request, response, true));
    this.#server.on('upgrade', (request, socket, head) => {
      socket.on('error', () => socket.destroy());
      options.onUpgrade(request, socket, head);
    });
    this.#server.on('clientError', onClientError);
    // The body of a forwarded request may come for hours.
    this.#server.requestTimeout = 0;
    this.#door = certificate ? this.#doorFor(this.#server) : this.#server;
    this.#door.maxConnections = mostConnections;
    this.#door.on('connection', (socket: Socket) => {
      this.#sockets.add(socket);
      socket.on('close', () => this.#sockets.delete(socket));
    });
  }

  /** Whether browsers talk to it by TLS. */
  get isSecure(): boolean {
    return this.#options.certificate !== undefined;
  }

  /** Answers with another certificate from now on; connections that are open go on. */
  renew(certificate: Certificate): void {
    if ('setSecureContext' in this.#server) this.#server.setSecureContext(certificate);
  }

  /**
   * Starts to listen, on the wanted port or the next free one. Returns the port.
   *
   * @throws VineError `port-taken` or `address-unavailable`.
   */
  async listen(wanted: WantedPort): Promise<number> {
    const port = await listen(this.#door, wanted);
    this.#door.on('error', (error) => this.#options.failed('a new connection', error));
    return port;
  }

  async close(): Promise<void> {
    for (const socket of this.#sockets) socket.destroy();
    await new Promise((resolve) => this.#door.close(resolve));
  }

  /** Looks at the first byte of each connection: a handshake of TLS goes on, plain HTTP is told where to. */
  #doorFor(secure: Server | SecureServer): Door {
    const plain = createServer({ maxHeaderSize: mostHeaderBytes, headersTimeout: headMs }, redirect);
    plain.on('clientError', onClientError);
    return createDoor((socket) => {
      socket.on('error', () => socket.destroy());
      socket.setTimeout(headMs, () => socket.destroy());
      socket.once('readable', () => {
        const first = socket.read(1) as Buffer | null;
        if (first === null) return void socket.destroy();
        socket.setTimeout(0);
        socket.unshift(first);
        (first[0] === handshake ? secure : plain).emit('connection', socket);
      });
    });
  }
}

/** Sends a browser that speaks plain HTTP to the same place with TLS. */
function redirect(request: IncomingMessage, response: ServerResponse): void {
  const { host } = request.headers;
  response.setHeader('connection', 'close');
  const target = (request.url ?? '/').startsWith('/') ? request.url! : '/';
  // Whoever sends no name, or none that a URL can hold, is told nothing.
  if (host === undefined || !/^[\w.:[\]-]+$/.test(host))
    return sendText(response, 400, 'text/plain; charset=utf-8', 'Use https.\n');
  const location = `https://${host}${target}`;
  const body = toolPage({
    title: 'Over there',
    body: `<h1>This server speaks HTTPS</h1><p>Go to <a href="${escapeHtml(location)}">${escapeHtml(location)}</a>.</p>`,
  });
  response.setHeader('location', location);
  sendText(response, 307, 'text/html; charset=utf-8', body);
}

/** The first byte of a TLS handshake (RFC 8446, 5.1). */
const handshake = 0x16;
/** How long the head of a request may take. */
const headMs = 20_000;
/** How long a connection stays for the next request: closed soon, it would be closed under one that is on its way. */
const idleMs = 60_000;
/** How many connections there may be at once. */
const mostConnections = 4096;
