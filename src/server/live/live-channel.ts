import { randomBytes } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import type { Duplex } from 'node:stream';
import type { WebSocket, WebSocketServer } from 'ws';
import {
  liveProtocol,
  mergeUpdates,
  type PageMessage,
  type ServerMessage,
  type UpdateMessage,
} from '../../core/live/messages.js';
import type { Problem } from '../../core/problem/problem.js';
import { TypedEvents } from '../../core/typed-events.js';
import { queryOf } from '../http/request-target.js';
import { refuseUpgrade } from '../http/respond.js';
import { browserName } from './browser-name.js';

/** A browser's page on the channel. */
export interface LivePage {
  /** Counts the pages of this run of the server. */
  number: number;
  browser: string;
  page: string;
  /** Origin of the page, where it isn't ours. */
  origin?: string;
}

export interface LiveEvents {
  joined: LivePage;
  left: LivePage;
  message: { from: LivePage; message: PageMessage };
}

/** What is wrong with a page. `holdsBack`: it keeps its last good build until that is solved. */
export interface PageState {
  problems: readonly Problem[];
  holdsBack: boolean;
}

interface Connection extends LivePage {
  socket: WebSocket;
  /** Number of the last update that was sent. */
  revision: number;
  isShownProblems: boolean;
  isAnswering: boolean;
}

/** Open pages at once. */
const mostPages = 512;
/** What may wait for a page that reads nothing; it's told everything anew when it comes back. */
const mostWaitingBytes = 64 << 20;
/** Updates that a page which connects late can still be given. */
const keptUpdates = 50;
const pingEveryMs = 30_000;

/** The server's end of the live channel: one WebSocket for each open page. */
export class LiveChannel extends TypedEvents<LiveEvents> {
  /** Changes with every run of the server. */
  readonly session = randomBytes(8).toString('hex');
  /** Whoever can read pages of our origin can read it; pages from elsewhere can't. */
  readonly key = randomBytes(16).toString('hex');
  /** By this, pieces know our own client. */
  readonly hookKey = randomBytes(16).toString('hex');
  #server: Promise<WebSocketServer> | undefined;
  readonly #connections = new Map<WebSocket, Connection>();
  readonly #log: UpdateMessage[] = [];
  readonly #pings: NodeJS.Timeout;
  #count = 0;
  #stateOf: (page: string) => PageState = () => ({ problems: [], holdsBack: false });
  #revision = 0;

  constructor() {
    super();
    this.#pings = setInterval(() => this.#ping(), pingEveryMs);
    this.#pings.unref();
  }

  get pages(): LivePage[] {
    return [...this.#connections.values()].map(pageOf);
  }

  /** Pages that were sent everything up to this update. */
  pagesAt(revision: number): LivePage[] {
    return [...this.#connections.values()].filter((connection) => connection.revision === revision).map(pageOf);
  }

  /** Takes a WebSocket handshake whose Host, Origin and key were found right. */
  accept(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    if (this.#connections.size >= mostPages) return refuseUpgrade(socket, '503 Service Unavailable');
    this.#server ??= makeServer();
    this.#server
      .then((server) => server.handleUpgrade(request, socket, head, (webSocket) => this.#joined(webSocket, request)))
      .catch(() => socket.destroy()); // it's no handshake after all
  }

  /** Sends an update to every page that isn't held back, and keeps it for the others and for those that are just connecting. */
  update(update: UpdateMessage): void {
    this.#revision = update.id;
    this.#log.push(update);
    if (this.#log.length > keptUpdates) this.#log.shift();
    this.#catchUpAll();
  }

  /** What is wrong has changed. `stateOf` says it for each page, now and whenever it's asked. */
  problemsChanged(stateOf: (page: string) => PageState): void {
    this.#stateOf = stateOf;
    this.#catchUpAll();
    for (const connection of this.#connections.values()) this.#showProblems(connection);
  }

  /** Everything was made anew, e.g. with other settings: pages start over, from update number `build` on. */
  restart(revision: number, reason: string): void {
    this.#revision = revision;
    this.#log.length = 0;
    this.#stateOf = () => ({ problems: [], holdsBack: false });
    for (const connection of this.#connections.values()) {
      connection.revision = revision;
      send(connection, { type: 'reload', reason });
    }
  }

  /** Tells all pages something; for their consoles. */
  say(text: string): void {
    for (const connection of this.#connections.values()) send(connection, { type: 'said', text });
  }

  /** Lets pages reload that somebody else renders. */
  reload(pages: readonly LivePage[], reason: string): void {
    for (const page of pages) this.send(page, { type: 'reload', reason });
  }

  /** Number of the last update that was sent to a page; `undefined` for one that has gone. */
  revisionOf(page: LivePage): number | undefined {
    return [...this.#connections.values()].find(({ number }) => number === page.number)?.revision;
  }

  /** Answers one page. */
  send(to: LivePage, message: ServerMessage): void {
    for (const connection of this.#connections.values()) if (connection.number === to.number) send(connection, message);
  }

  close(): void {
    clearInterval(this.#pings);
    for (const socket of this.#connections.keys()) socket.close(1001);
    void this.#server?.then((server) => server.close());
  }

  #joined(socket: WebSocket, request: IncomingMessage): void {
    const query = queryOf(request);
    const isOurs = query.get('session') === this.session;
    const connection: Connection = {
      number: ++this.#count,
      browser: browserName(request.headers['user-agent']),
      page: query.get('page') ?? '',
      ...(isForeign(request) ? { origin: request.headers.origin! } : {}),
      socket,
      revision: isOurs ? Math.min(Number(query.get('revision')) || 0, this.#revision) : this.#revision,
      isShownProblems: false,
      isAnswering: true,
    };
    this.#connections.set(socket, connection);
    socket.on('message', (data) => {
      this.#received(connection, String(data)).catch(() => socket.terminate()); // a message that nobody can answer
    });
    socket.on('pong', () => {
      connection.isAnswering = true;
    });
    socket.on('error', () => socket.terminate());
    socket.on('close', () => {
      this.#connections.delete(socket);
      this.emit('left', pageOf(connection));
    });
    this.emit('joined', pageOf(connection));
    // The first answer to an update should not wait for it.
    void import('./page-message.js');
    if (socket.protocol !== liveProtocol)
      return send(connection, { type: 'reload', reason: 'the page was made by another version of Vine Spark' });
    send(connection, { type: 'hello', session: this.session, revision: this.#revision });
    this.#catchUp(connection, this.#stateOf(connection.page));
    this.#showProblems(connection);
  }

  #catchUpAll(): void {
    const behind = [...this.#connections.values()].filter(({ revision }) => revision < this.#revision);
    const states = new Map(behind.map(({ page }) => [page, this.#stateOf(page)]));
    for (const connection of behind) this.#catchUp(connection, states.get(connection.page)!);
  }

  /** Sends what a page missed between being loaded and being connected, while it was away or held back. */
  #catchUp(connection: Connection, { holdsBack }: PageState): void {
    if (connection.revision >= this.#revision || holdsBack) return;
    const missed = this.#log.filter(({ id }) => id > connection.revision);
    const isWhole = missed[0]?.id === connection.revision + 1;
    connection.revision = this.#revision;
    if (!isWhole) send(connection, { type: 'reload', reason: 'the page was away for too many updates' });
    else send(connection, missed.length === 1 ? missed[0]! : mergeUpdates(missed));
  }

  #showProblems(connection: Connection): void {
    const { problems } = this.#stateOf(connection.page);
    if (problems.length > 0) send(connection, { type: 'problem', problems: [...problems] });
    else if (connection.isShownProblems) send(connection, { type: 'solved' });
    connection.isShownProblems = problems.length > 0;
  }

  async #received(from: Connection, data: string): Promise<void> {
    const { readPageMessage } = await import('./page-message.js');
    const message = readPageMessage(data);
    if (!message) return;
    if (message.type === 'ask') send(from, { type: 'hello', session: this.session, revision: this.#revision });
    else this.emit('message', { from: pageOf(from), message });
  }

  /** Ends connections whose other end has gone without saying so, e.g. to sleep. */
  #ping(): void {
    for (const connection of this.#connections.values()) {
      if (!connection.isAnswering) connection.socket.terminate();
      connection.isAnswering = false;
      connection.socket.ping();
    }
  }
}

/** Loaded with the first page, not with the server. */
async function makeServer(): Promise<WebSocketServer> {
  const { WebSocketServer } = await import('ws');
  return new WebSocketServer({
    noServer: true,
    maxPayload: 4 << 20,
    // A page of another version of ours is let in too, to be told that it must reload.
    handleProtocols: (offered) => [...offered].find((name) => /^\w+-live\b/.test(name)) ?? false,
  });
}

function pageOf({ number, browser, page, origin }: Connection): LivePage {
  return { number, browser, page, ...(origin === undefined ? {} : { origin }) };
}

function isForeign({ headers }: IncomingMessage): boolean {
  return headers.origin !== undefined && !headers.origin.endsWith(`//${headers.host}`);
}

function send({ socket }: Connection, message: ServerMessage): void {
  if (socket.readyState !== socket.OPEN) return;
  if (socket.bufferedAmount > mostWaitingBytes) return socket.terminate();
  socket.send(JSON.stringify(message), () => {}); // a page that has gone is told by `close`
}
