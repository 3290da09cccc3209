import { randomBytes } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import type { Duplex } from 'node:stream';
import { WebSocket, WebSocketServer } from 'ws';
import { z } from 'zod';
import { liveProtocol, type PageMessage, type ServerMessage, type UpdateMessage } from '../core/live/messages.js';
import type { Problem } from '../core/problem.js';
import { TypedEvents } from '../project/typed-events.js';
import { browserName } from './browser-name.js';

/** A browser's page on the channel. */
export interface LivePage {
  /** Counts the pages of this run of the server. */
  number: number;
  browser: string;
  page: string;
}

export interface LiveEvents {
  joined: LivePage;
  left: LivePage;
  message: { from: LivePage; message: PageMessage };
}

const text = z.string().max(10_000);
const ids = z.array(text).max(10_000);
const pageMessage: z.ZodType<PageMessage> = z.discriminatedUnion('type', [
  z.object({ type: z.literal('resume'), page: text, digest: z.number(), pieces: ids, styles: z.record(text, text), html: text }),
  z.object({
    type: z.literal('applied'),
    update: z.number(),
    boundaries: ids,
    ran: ids,
    styles: ids,
    applyMs: z.number(),
    notes: ids,
  }),
  z.object({ type: z.literal('reloaded'), update: z.number(), reason: text, chain: ids }),
  z.object({ type: z.literal('error'), message: text, stack: text, isStart: z.boolean() }),
]) as z.ZodType<PageMessage>;

/** Updates that a page which connects late can still be given. */
const keptUpdates = 50;
const pingEveryMs = 30_000;

/** The server's end of the live channel: one WebSocket for each open page. */
export class LiveChannel extends TypedEvents<LiveEvents> {
  /** Changes with every run of the server. */
  readonly session = randomBytes(8).toString('hex');
  /** Whoever can read pages of our origin can read it; pages from elsewhere can't. */
  readonly key = randomBytes(16).toString('hex');
  readonly #server: WebSocketServer;
  readonly #pages = new Map<WebSocket, LivePage>();
  readonly #log: UpdateMessage[] = [];
  readonly #pings: NodeJS.Timeout;
  #count = 0;
  #problems: readonly Problem[] = [];
  #build = 0;

  constructor() {
    super();
    this.#server = new WebSocketServer({
      noServer: true,
      maxPayload: 4 << 20,
      handleProtocols: (offered) => (offered.has(liveProtocol) ? liveProtocol : false),
    });
    this.#pings = setInterval(() => {
      for (const socket of this.#pages.keys()) socket.ping();
    }, pingEveryMs);
    this.#pings.unref();
  }

  get pages(): LivePage[] {
    return [...this.#pages.values()];
  }

  /** Takes a WebSocket handshake whose Host, Origin and key were found right. */
  accept(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    this.#server.handleUpgrade(request, socket, head, (webSocket) => this.#joined(webSocket, request));
  }

  /** Sends an update to every page and keeps it for those that are just connecting. */
  update(update: UpdateMessage): void {
    this.#build = update.id;
    this.#log.push(update);
    if (this.#log.length > keptUpdates) this.#log.shift();
    this.#broadcast(update);
  }

  problems(problems: readonly Problem[]): void {
    this.#problems = problems;
    this.#broadcast({ type: 'problem', problems: [...problems] });
  }

  solved(): void {
    this.#problems = [];
    this.#broadcast({ type: 'solved' });
  }

  /** Everything was made anew, e.g. with other settings: pages start over, from update number `build` on. */
  restart(build: number, reason: string): void {
    this.#build = build;
    this.#log.length = 0;
    this.#problems = [];
    this.#broadcast({ type: 'reload', reason });
  }

  /** Answers one page. */
  send(to: LivePage, message: ServerMessage): void {
    for (const [socket, page] of this.#pages) if (page === to) socket.send(JSON.stringify(message));
  }

  close(): void {
    clearInterval(this.#pings);
    for (const socket of this.#pages.keys()) socket.close(1001);
    this.#server.close();
  }

  #joined(socket: WebSocket, request: IncomingMessage): void {
    const query = new URL(request.url ?? '/', 'http://localhost').searchParams;
    const page: LivePage = {
      number: ++this.#count,
      browser: browserName(request.headers['user-agent']),
      page: query.get('page') ?? '',
    };
    this.#pages.set(socket, page);
    socket.on('message', (data) => this.#received(page, String(data)));
    socket.on('error', () => socket.terminate());
    socket.on('close', () => {
      this.#pages.delete(socket);
      this.emit('left', page);
    });
    this.emit('joined', page);
    const send = (message: ServerMessage) => socket.send(JSON.stringify(message));
    send({ type: 'hello', session: this.session, build: this.#build });
    if (query.get('session') === this.session) this.#catchUp(Number(query.get('build') ?? 0), send);
    if (this.#problems.length > 0) send({ type: 'problem', problems: [...this.#problems] });
  }

  /** Sends what a page missed between being loaded and being connected, or while it was away. */
  #catchUp(build: number, send: (message: ServerMessage) => void): void {
    if (build >= this.#build) return;
    const missed = this.#log.filter(({ id }) => id > build);
    if (missed[0]?.id !== build + 1) send({ type: 'reload', reason: 'the page was away for too many updates' });
    else for (const update of missed) send(update);
  }

  #received(from: LivePage, data: string): void {
    let value: unknown;
    try {
      value = JSON.parse(data);
    } catch {
      return; // not one of our pages
    }
    const parsed = pageMessage.safeParse(value);
    if (parsed.success) this.emit('message', { from, message: parsed.data });
  }

  #broadcast(message: ServerMessage): void {
    const encoded = JSON.stringify(message);
    for (const socket of this.#pages.keys()) if (socket.readyState === WebSocket.OPEN) socket.send(encoded);
  }
}
