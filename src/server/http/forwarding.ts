import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import type { Forwarder } from '../../forward/forwarder.js';
import type { PageInserts } from '../../forward/relay-page.js';
import type { CompiledRule } from '../../forward/rule.js';
import type { Target } from '../../forward/target.js';
import { refuseUpgrade, sendText } from './respond.js';
import { isOwnOrigin, type Trust } from './trust.js';

/** The server that forwards. */
export interface ForwardingServer {
  forwarder(): Forwarder;
  host: string;
  port(): number;
  /** Something failed here and not at a client or a backend. */
  requestFailed(request: IncomingMessage, response: ServerResponse, error: unknown): void;
  failed(what: string, error: unknown): void;
}

/** How a request is forwarded. */
export interface ForwardHow {
  rule: CompiledRule;
  /** The browser waits for a `100 Continue`. */
  isContinued: boolean;
  /** What is put into the pages of the backend. */
  pages?: PageInserts;
}

/** Sends what a rule is for to its backend, unless that would go wrong. */
export class Forwarding {
  readonly #owner: ForwardingServer;

  constructor(server: ForwardingServer) {
    this.#owner = server;
  }

  /** Forwards a request. */
  forward(request: IncomingMessage, response: ServerResponse, how: ForwardHow): void {
    const refuse = (status: number, text: string) => sendText(response, status, 'text/plain; charset=utf-8', `${text}\n`);
    const forwarder = this.#owner.forwarder();
    if (forwarder.isAmbiguous(request, how.rule))
      return refuse(
        400,
        'This path leads out of what the rule is for, or means something else to a backend that reads escaped slashes as slashes. Write it without those and without dot segments.',
      );
    if (this.#isLoop(request, how.rule))
      return refuse(
        508,
        `The rule for ${how.rule.label} sends requests back to this server. Correct its address ${how.rule.to.label}: it must be that of the backend.`,
      );
    const onFault = (error: unknown) => this.#owner.requestFailed(request, response, error);
    forwarder.handle(request, response, { ...how, onFault });
  }

  /** Joins a connection that changes protocols with a backend, if a rule is for it. */
  upgrade(request: IncomingMessage, socket: Duplex, { head, trust }: { head: Buffer; trust: Trust }): void {
    const forwarder = this.#owner.forwarder();
    const rule = forwarder.find(request, 'first') ?? forwarder.find(request, 'missing');
    if (!rule) return refuseUpgrade(socket, '404 Not Found');
    // Browsers let pages of any site open sockets, with the user's cookies: only the Origin tells.
    const isAllowed = rule.origins === 'any' || isOwnOrigin(request, { ...trust, origins: [...trust.origins, ...rule.origins] });
    if (!isAllowed) return refuseUpgrade(socket, '403 Forbidden');
    if (forwarder.isAmbiguous(request, rule)) return refuseUpgrade(socket, '400 Bad Request');
    if (this.#isLoop(request, rule)) return refuseUpgrade(socket, '508 Loop Detected');
    const onFault = (error: unknown) => this.#owner.failed(`the upgrade of ${request.url}`, error);
    forwarder.upgrade(request, socket, { head, rule, onFault });
  }

  /** Whether a rule leads to a port of this machine. */
  expectsBackendAt(port: number): boolean {
    return this.#owner.forwarder().rules.some(({ to }) => this.#leadsTo(port, to));
  }

  /** Whether a rule leads back here, directly or over other servers. */
  #isLoop(request: IncomingMessage, { to }: CompiledRule): boolean {
    if (this.#leadsTo(this.#owner.port(), to)) return true;
    return String(request.headers['x-forwarded-for'] ?? '').split(',').length > mostForwards;
  }

  #leadsTo(port: number, { socketPath, port: target, hostname }: Target): boolean {
    const ownNames = ['localhost', '127.0.0.1', '::1', '0.0.0.0', '::', this.#owner.host];
    return socketPath === undefined && target === port && ownNames.includes(hostname);
  }
}

/** More servers than this don't stand in a row: it's a circle. */
const mostForwards = 20;

/** Where a server is, as a browser on this machine reaches it. */
export function originAt(host: string, port: number, isSecure = false): string {
  const name = host === '0.0.0.0' || host === '::' || host === '' ? 'localhost' : host.includes(':') ? `[${host}]` : host;
  return `http${isSecure ? 's' : ''}://${name}:${port}`;
}
