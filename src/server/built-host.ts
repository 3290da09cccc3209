import { existsSync, realpathSync, statSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { join, sep } from 'node:path';
import type { Duplex } from 'node:stream';
import { escapeHtml } from '../core/tool-page.js';
import { TypedEvents } from '../core/typed-events.js';
import { decoded } from '../core/urls.js';
import type { BackendChange } from '../forward/backend-states.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { Forwarder, type Tape } from '../forward/forwarder.js';
import type { PageInserts } from '../forward/relay-page.js';
import type { CompiledRule, ForwardRule } from '../forward/rule.js';
import { Forwarding, originAt } from './http/forwarding.js';
import { type Certificate, FrontDoor } from './http/front-door.js';
import type { ListenOptions } from './http/listen.js';
import { pathOf } from './http/request-target.js';
import { refuseHost, refuseUpgrade, sendText, sendToBase } from './http/respond.js';
import { sendStatic } from './http/static-file.js';
import { isOwnHost, protect, type Trust } from './http/trust.js';
import { notFoundPage } from './pages/not-found.js';
import { isPageRequest, type PageRoute, PageRoutes, wantsPage } from './pages/page-routes.js';
import type { Handling } from './requests.js';
import type { Failure } from './server.js';

export interface BuiltHostOptions extends ListenOptions {
  /** Absolute path of the folder that a build wrote. */
  folder: string;
  base: string;
  routes: readonly PageRoute[];
  forward: readonly ForwardRule[];
  trust: Trust;
  tape: Tape;
  certificate?: Certificate | undefined;
  /** HTML that brings an entry into a page that a backend renders, by the entry's id. */
  entries?: Readonly<Record<string, { styles: string; scripts: string }>>;
  /** It's part of a server of the user's, which answers what is nobody's here. */
  isInside?: boolean;
}

/** Serves what a build wrote as a plain host would, with the forwards of the settings, so that it can be tried with the backend. */
export class BuiltHost {
  readonly events = new TypedEvents<{ exchange: ExchangeReport; backend: BackendChange; failure: Failure }>();
  readonly forwarder: Forwarder;
  readonly #options: BuiltHostOptions;
  readonly #routes: PageRoutes;
  readonly #door: FrontDoor;
  readonly #forwarding: Forwarding;
  #port = 0;

  constructor(options: BuiltHostOptions) {
    this.#options = options;
    this.#routes = new PageRoutes(options.routes);
    const listener = {
      ended: (report: ExchangeReport) => this.events.emit('exchange', report),
      changed: (change: BackendChange) => this.events.emit('backend', change),
    };
    this.forwarder = new Forwarder(options.forward, listener, options.tape);
    this.#forwarding = new Forwarding({
      forwarder: () => this.forwarder,
      host: options.host,
      port: () => this.#port,
      requestFailed: (request, response, error) => this.#requestFailed(request, response, error),
      failed: (what, error) => this.#failed(what, error),
    });
    this.#door = new FrontDoor({
      onRequest: (request, response, isContinued) => this.handle(request, response, { isContinued }),
      onUpgrade: (request, socket, head) => this.upgrade(request, socket, head),
      failed: (what, error) => this.#failed(what, error),
      certificate: options.certificate,
    });
  }

  /** Answers a request. `next` is called for what is nobody's here; without it, that gets a 404. */
  handle(request: IncomingMessage, response: ServerResponse, { isContinued = false, next }: Handling = {}): void {
    request.on('error', () => {});
    response.on('error', () => {});
    try {
      this.#answer(request, response, isContinued, next);
    } catch (error) {
      this.#requestFailed(request, response, error);
    }
  }

  /** Joins a connection that changes protocols with a backend. Returns whether there is one for it. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): boolean {
    const { trust } = this.#options;
    if (!this.forwarder.find(request, 'first') && !this.forwarder.find(request, 'missing') && this.#options.isInside)
      return false;
    if (!this.#isOwnHost(request)) refuseUpgrade(socket, '403 Forbidden');
    else this.#forwarding.upgrade(request, socket, { head, trust });
    return true;
  }

  /**
   * Starts to listen, as the dev server does.
   *
   * @throws VineError `port-taken` or `address-unavailable`.
   */
  async listen(): Promise<void> {
    this.#port = await this.#door.listen({ ...this.#options, isReserved: (port) => this.expectsBackendAt(port) });
    this.forwarder.watch();
  }

  get boundPort(): number {
    return this.#port;
  }

  get url(): string {
    return `${originAt(this.#options.host, this.#port, this.#door.isSecure)}${this.#options.base}`;
  }

  /** See `Forwarding.expectsBackendAt`. */
  expectsBackendAt(port: number): boolean {
    return this.#forwarding.expectsBackendAt(port);
  }

  async close(): Promise<void> {
    this.forwarder.close();
    this.#options.tape.recorder?.close();
    await this.#door.close();
  }

  #answer(request: IncomingMessage, response: ServerResponse, isContinued: boolean, next: (() => void) | undefined): void {
    const { base, routes } = this.#options;
    if (!this.#isOwnHost(request)) return refuseHost(request, response);
    const first = this.forwarder.find(request, 'first');
    if (first) return this.#forwarding.forward(request, response, { rule: first, isContinued });
    if (isContinued) response.writeContinue();
    const path = pathOf(request);
    const isRead = request.method === 'GET' || request.method === 'HEAD';
    const inBase = path.startsWith(base) ? `/${path.slice(base.length)}` : path === base.slice(0, -1) ? '/' : undefined;
    const file = inBase !== undefined && isRead ? this.#fileAt(inBase, request) : undefined;
    if (file !== undefined) {
      this.#protect(request, response);
      // A name with a hash never means anything else.
      return sendStatic(request, response, file, /\/assets\/[^/]*-[0-9a-f]{10}\.\w+$/.test(path));
    }
    const missing = this.forwarder.find(request, 'missing');
    if (missing) return this.#forwardPage(request, response, missing);
    if (next) return next();
    this.#protect(request, response);
    if (path === '/' && base !== '/' && isPageRequest(request, path)) return sendToBase(response, base);
    if (path === '/favicon.ico') return sendText(response, 204, 'image/x-icon', '');
    const forwards = this.forwarder.rules.map(({ label, to }) => ({ label, origin: to.label }));
    const lookedFor = ['a page of that path', 'a file of the build', 'a rule that forwards the path to a backend'];
    sendText(response, 404, 'text/html; charset=utf-8', notFoundPage({ path, base, routes, lookedFor, forwards }));
  }

  /** Inside of a server of the user's it's production: whatever names that has are right. */
  #isOwnHost(request: IncomingMessage): boolean {
    return this.#options.isInside === true || isOwnHost(request, this.#options.trust);
  }

  /** What is on a developer's machine is kept to its own pages; what is published isn't. */
  #protect(request: IncomingMessage, response: ServerResponse): void {
    if (!this.#options.isInside) protect(request, response, this.#options.trust);
  }

  /** The backend's pages get what the rule says that they start, as they do in development. */
  #forwardPage(request: IncomingMessage, response: ServerResponse, rule: CompiledRule): void {
    const { entries = {} } = this.#options;
    const tags = rule.html === 'ours' && wantsPage(request) ? rule.entries.flatMap((id) => entries[id] ?? []) : [];
    const end = tags.map(({ styles, scripts }) => styles + scripts).join('');
    const withNonce = (nonce: string | undefined) =>
      nonce === undefined ? end : end.replace(/<(?:script|link)(?= )/g, (tag) => `${tag} nonce="${escapeHtml(nonce)}"`);
    const pages: PageInserts = {
      prepare: async () => (nonce) => ({ start: '', end: withNonce(nonce) }),
      onNote: () => {},
    };
    this.#forwarding.forward(request, response, { rule, isContinued: false, ...(end === '' ? {} : { pages }) });
  }

  /** The file that a path under the base means: a page, a file of the build, or the page that stands for the path. */
  #fileAt(path: string, request: IncomingMessage): string | undefined {
    const exact = this.#routes.at(path);
    if (exact !== undefined) return this.#inFolder(exact);
    const inside = decoded(path);
    const file = inside === undefined ? undefined : this.#inFolder(inside);
    if (file !== undefined) return file;
    const covering = this.#routes.covering(path);
    return covering !== undefined && isPageRequest(request, path) ? this.#inFolder(covering) : undefined;
  }

  /** A file of the folder by its path there, links that lead out of it not followed, and none with a dot in front. */
  #inFolder(path: string): string | undefined {
    if (path.split('/').some((part) => part.startsWith('.'))) return undefined;
    const file = join(this.#options.folder, path);
    if (!existsSync(file) || !statSync(file).isFile()) return undefined;
    const real = realpathSync(file);
    return real.startsWith(realpathSync(this.#options.folder) + sep) ? real : undefined;
  }

  #requestFailed(request: IncomingMessage, response: ServerResponse, error: unknown): void {
    this.#failed(`${request.method} ${request.url}`, error);
    if (response.headersSent || response.destroyed) return void response.destroy();
    sendText(response, 500, 'text/plain; charset=utf-8', 'Vine Spark failed on this request; the terminal says how.\n');
  }

  #failed(what: string, error: unknown): void {
    this.events.emit('failure', { what, error: error instanceof Error ? error : new Error(String(error)) });
  }
}
