import { type ClientRequest, Agent as HttpAgent, request as httpRequest, type RequestOptions } from 'node:http';
import { Agent as HttpsAgent, request as httpsRequest } from 'node:https';
import type { CompiledRule } from './rule.js';

/** How many connections one backend gets at most, and how many of them may wait idle. */
const mostSockets = 512;
const mostIdleSockets = 256;

/** Of a backend's answer. */
const mostHeadBytes = 128 << 10;

/** What is asked of a backend. */
export interface Ask {
  method: string;
  path: string;
  /** Names and values in turn. */
  fields: readonly string[];
  /** Use a connection of its own, which nobody can have closed in the meantime. */
  isFresh: boolean;
}

/** Makes requests to backends over connections that are kept for the next one. */
export class BackendLink {
  readonly #http = new HttpAgent({ keepAlive: true, maxSockets: mostSockets, maxFreeSockets: mostIdleSockets });
  readonly #https = new HttpsAgent({ keepAlive: true, maxSockets: mostSockets, maxFreeSockets: mostIdleSockets });

  ask({ to, selfSigned, timeouts }: CompiledRule, { method, path, fields, isFresh }: Ask): ClientRequest {
    const options: RequestOptions = {
      agent: isFresh ? new (to.isSecure ? HttpsAgent : HttpAgent)({ keepAlive: false }) : to.isSecure ? this.#https : this.#http,
      method,
      path,
      headers: fields as never,
      setHost: false,
      // More than what a browser may send, so that a backend's head of that size passes.
      maxHeaderSize: mostHeadBytes,
      ...(to.socketPath === undefined ? { hostname: to.hostname, port: to.port } : { socketPath: to.socketPath }),
    };
    const request = to.isSecure
      ? httpsRequest({ ...options, rejectUnauthorized: !selfSigned, servername: to.hostname })
      : httpRequest(options);
    limitConnecting(request, timeouts.connectMs);
    return request;
  }

  /** Ends idle connections. */
  close(): void {
    this.#http.destroy();
    this.#https.destroy();
  }
}

/**
 * Gives up where no connection comes about in time, e.g. behind a firewall that drops everything, or where all are taken
 * and stay so.
 */
function limitConnecting(request: ClientRequest, limitMs: number): void {
  if (request.reusedSocket) return;
  let hasSocket = false;
  request.once('socket', (socket) => {
    hasSocket = true;
    if (!socket.connecting) return;
    const timer = setTimeout(() => request.destroy(timedOut('ETIMEDOUT')), limitMs);
    for (const event of ['connect', 'close']) socket.once(event, () => clearTimeout(timer));
  });
  // Mostly a connection is there at once.
  setImmediate(() => {
    if (hasSocket || request.destroyed) return;
    const timer = setTimeout(() => {
      const error = timedOut('CONNECTIONS_TAKEN');
      request.destroy(error);
      // Without a connection that alone tells nobody until there is one.
      request.emit('error', error);
    }, limitMs);
    for (const event of ['socket', 'close']) request.once(event, () => clearTimeout(timer));
  });
}

/** The error of a backend that takes too long. */
export function timedOut(code: 'ETIMEDOUT' | 'ANSWER_TIMEOUT' | 'CONNECTIONS_TAKEN'): NodeJS.ErrnoException {
  return Object.assign(new Error('The backend takes too long.'), { code });
}
