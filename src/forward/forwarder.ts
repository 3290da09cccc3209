import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Socket } from 'node:net';
import { type Duplex, pipeline } from 'node:stream';
import { BackendLink, timedOut } from './backend-link.js';
import { type BackendChange, BackendStates } from './backend-states.js';
import { endSocket } from './end-socket.js';
import { type ExchangeReport, exchange } from './exchange.js';
import { headerPairs, requestFields, responseFields, withoutControls } from './headers.js';
import type { Recorder } from './recorder.js';
import type { PageInserts } from './relay-page.js';
import type { Replay } from './replay.js';
import { decodedPath, isPlain, leaves, normalPath } from './request-path.js';
import { type CompiledRule, compileRule, type ForwardRule, findRule, type RuleQuery, targetPath } from './rule.js';

/** What happens at the forwarder. */
export interface ForwarderListener {
  /** An exchange or a joined connection ended. */
  ended(report: ExchangeReport): void;
  /** A backend answers, or doesn't any more. */
  changed(change: BackendChange): void;
}

/** Writing exchanges down, and answering from what was written down. */
export interface Tape {
  recorder?: Recorder;
  replay?: Replay;
}

/** Hands requests on to backends, streaming both ways. Knows nothing of modules and pages. */
export class Forwarder {
  readonly rules: readonly CompiledRule[];
  readonly #link = new BackendLink();
  readonly #states: BackendStates;
  readonly #listener: ForwarderListener;
  readonly #tape: Tape;

  constructor(rules: readonly ForwardRule[], listener: ForwarderListener, tape: Tape = {}) {
    this.#tape = tape;
    this.rules = rules.map(compileRule);
    this.#listener = listener;
    this.#states = new BackendStates(
      this.rules.map(({ to }) => to),
      (change) => listener.changed(change),
    );
  }

  /** Looks whether the backends answer, and keeps an eye on those that don't. */
  watch(): void {
    if (!this.#tape.replay?.isOnly) this.#states.watch();
  }

  /** The rule for a request, if there is one. */
  find(request: IncomingMessage, when: ForwardRule['when']): CompiledRule | undefined {
    return findRule(this.rules, queryOf(request, normalPath), when);
  }

  /**
   * Whether a path means another rule, or none, to a backend that reads escaped slashes as slashes, or leads out of what the
   * rule is for.
   */
  isAmbiguous(request: IncomingMessage, rule: CompiledRule): boolean {
    const target = request.url ?? '/';
    if (isPlain(target)) return false;
    const isLeft = rule.paths.some((path) => leaves(target, path.replace(/\*.*/, '')));
    return isLeft || findRule(this.rules, queryOf(request, decodedPath), rule.when) !== rule;
  }

  /** Forwards a request and its answer. `isContinued`: the browser waits for a `100 Continue`. */
  handle(
    request: IncomingMessage,
    response: ServerResponse,
    {
      rule,
      isContinued,
      pages,
      onFault,
    }: { rule: CompiledRule; isContinued: boolean; pages?: PageInserts; onFault(error: unknown): void },
  ): void {
    exchange({
      request,
      response,
      rule,
      link: this.#link,
      isContinued,
      onFault,
      ...(pages === undefined ? {} : { pages }),
      ...this.#tape,
      onAnswer: () => this.#states.answered(rule.to),
      onFailure: (code) => this.#states.failed(rule.to, code),
      onEnd: (report) => this.#listener.ended(report),
    });
  }

  /** Forwards a request to change protocols, e.g. to a WebSocket, and joins both connections if the backend agrees. */
  upgrade(
    request: IncomingMessage,
    socket: Duplex,
    { head, rule, onFault }: { head: Buffer; rule: CompiledRule; onFault(error: unknown): void },
  ): void {
    const report: ExchangeReport = {
      rule,
      method: 'UPGRADE',
      target: request.url ?? '/',
      from: performance.now(),
      ms: 0,
      size: 0,
    };
    const badGateway = 'HTTP/1.1 502 Bad Gateway\r\nconnection: close\r\ncontent-length: 0\r\n\r\n';
    // A recording holds no conversations.
    if (this.#tape.replay?.isOnly) return endSocket(socket, badGateway);
    const outgoing = this.#link.ask(rule, {
      method: request.method ?? 'GET',
      path: targetPath(rule, report.target),
      fields: requestFields(request, rule, ['connection', 'upgrade']),
      isFresh: true,
    });
    // Until the backend has agreed, what the browser says already is kept, and that it leaves is noticed.
    const early = readEarly(socket, () => outgoing.destroy());
    const timer = setTimeout(() => outgoing.destroy(timedOut('ANSWER_TIMEOUT')), handshakeMs);
    outgoing.once('close', () => clearTimeout(timer));
    socket.once('close', () => {
      outgoing.destroy();
      this.#listener.ended({ ...report, ms: performance.now() - report.from });
    });
    outgoing.on('upgrade', (answer, backend, backendHead) => {
      report.status = answer.statusCode!;
      this.#states.answered(rule.to);
      clearTimeout(timer);
      backend.on('error', () => backend.destroy());
      orRefuse(socket, onFault, () => {
        const fields = responseFields(answer, { request, rule }, ['connection', 'upgrade']);
        socket.write(statusLine(answer) + fieldLines(fields), 'latin1');
        if (backendHead.length > 0) socket.write(backendHead);
        for (const chunk of [head, ...early.take()]) if (chunk.length > 0) backend.write(chunk);
        join(backend, socket);
      });
    });
    outgoing.on('response', (answer) => {
      report.status = answer.statusCode!;
      clearTimeout(timer);
      // The backend refuses: its answer goes back as it is, and the connection ends with it.
      orRefuse(socket, onFault, () => {
        const fields = [...responseFields(answer, { request, rule }), 'connection', 'close'];
        socket.write(statusLine(answer) + fieldLines(fields), 'latin1');
        pipeline(answer, socket, () => (socket as Partial<Socket>).destroySoon?.());
      });
    });
    outgoing.on('error', (error: NodeJS.ErrnoException) => {
      if (report.status !== undefined) return socket.destroy();
      report.failure = error.code ?? error.message;
      this.#states.failed(rule.to, report.failure);
      endSocket(socket, badGateway);
    });
    outgoing.end();
  }

  /** Others take its place: what is under way goes on, and nothing is watched any more. */
  retire(): void {
    this.#states.close();
  }

  /** Ends idle connections and stops watching. */
  close(): void {
    this.#states.close();
    this.#link.close();
  }
}

/** A connection joined with another that has ended its side may go on for so long without a word. */
const halfOpenMs = 60_000;
/** How long a backend may take to agree to another protocol. */
const handshakeMs = 60_000;
const mostEarlyBytes = 1 << 20;

/** Reads what comes before the other side is there, up to a limit. `onEnd`: nobody is there any more. */
function readEarly(socket: Duplex, onEnd: () => void): { take(): Buffer[] } {
  const chunks: Buffer[] = [];
  let bytes = 0;
  const onData = (chunk: Buffer) => {
    chunks.push(chunk);
    bytes += chunk.length;
    if (bytes > mostEarlyBytes) socket.pause();
  };
  const onLeave = () => {
    onEnd();
    socket.destroy();
  };
  socket.on('data', onData);
  socket.once('end', onLeave);
  return {
    take() {
      socket.off('data', onData);
      socket.off('end', onLeave);
      socket.pause();
      return chunks;
    },
  };
}

/** Does the rest of a handshake; where that fails here, the browser gets a 500. */
function orRefuse(socket: Duplex, onFault: (error: unknown) => void, work: () => void): void {
  try {
    work();
  } catch (error) {
    endSocket(socket, 'HTTP/1.1 500 Internal Server Error\r\nconnection: close\r\ncontent-length: 0\r\n\r\n');
    onFault(error);
  }
}

/** Joins two connections until either ends; what one side sent before it ended still arrives. */
function join(backend: Duplex, socket: Duplex): void {
  for (const side of [backend, socket]) side.on('error', () => side.destroy());
  const sides = [backend, socket] as Socket[];
  for (const side of sides) {
    const other = side === backend ? socket : backend;
    other.once('end', () => side.setTimeout(halfOpenMs, () => side.destroy()));
  }
  pipeline(backend, socket, () => {
    backend.destroy();
    socket.destroy();
  });
  pipeline(socket, backend, () => {});
}

function queryOf(request: IncomingMessage, read: (target: string) => string): RuleQuery {
  return { path: read(request.url ?? '/'), method: request.method ?? 'GET', headers: request.headers };
}

function statusLine(answer: IncomingMessage): string {
  return `HTTP/1.1 ${answer.statusCode} ${withoutControls(answer.statusMessage ?? '')}\r\n`;
}

function fieldLines(rawHeaders: readonly string[]): string {
  let lines = '';
  for (const [name, value] of headerPairs(rawHeaders)) lines += `${name}: ${value}\r\n`;
  return `${lines}\r\n`;
}
