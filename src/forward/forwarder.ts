import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import { pipeline } from 'node:stream';
import { BackendLink } from './backend-link.js';
import { type BackendChange, BackendStates } from './backend-states.js';
import { type ExchangeReport, exchange } from './exchange.js';
import { headerPairs, requestFields, responseFields } from './headers.js';
import type { Recorder } from './recorder.js';
import type { Replay } from './replay.js';
import { decodedPath, normalPath } from './request-path.js';
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

  /** Whether a path means another rule, or none, to a backend that reads escaped slashes as slashes. */
  isAmbiguous(request: IncomingMessage, rule: CompiledRule): boolean {
    return findRule(this.rules, queryOf(request, decodedPath), rule.when) !== rule;
  }

  /** Forwards a request and its answer. `isContinued`: the browser waits for a `100 Continue`. */
  handle(
    request: IncomingMessage,
    response: ServerResponse,
    { rule, isContinued }: { rule: CompiledRule; isContinued: boolean },
  ): void {
    exchange({
      request,
      response,
      rule,
      link: this.#link,
      isContinued,
      ...this.#tape,
      onAnswer: () => this.#states.answered(rule.to),
      onFailure: (code) => this.#states.failed(rule.to, code),
      onEnd: (report) => this.#listener.ended(report),
    });
  }

  /** Forwards a request to change protocols, e.g. to a WebSocket, and joins both connections if the backend agrees. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer, rule: CompiledRule): void {
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
    if (this.#tape.replay?.isOnly) return void socket.end(badGateway);
    const outgoing = this.#link.ask(rule, {
      method: request.method ?? 'GET',
      path: targetPath(rule, report.target),
      fields: requestFields(request, rule, ['connection', 'upgrade']),
      isFresh: true,
    });
    socket.once('close', () => {
      outgoing.destroy();
      this.#listener.ended({ ...report, ms: performance.now() - report.from });
    });
    outgoing.on('upgrade', (answer, backend, backendHead) => {
      report.status = answer.statusCode!;
      this.#states.answered(rule.to);
      const fields = responseFields(answer, { request, rule }, ['connection', 'upgrade']);
      socket.write(statusLine(answer) + fieldLines(fields), 'latin1');
      if (backendHead.length > 0) socket.write(backendHead);
      if (head.length > 0) backend.write(head);
      join(backend, socket);
    });
    outgoing.on('response', (answer) => {
      report.status = answer.statusCode!;
      // The backend refuses: its answer goes back as it is, and the connection ends with it.
      const fields = [...responseFields(answer, { request, rule }), 'connection', 'close'];
      socket.write(statusLine(answer) + fieldLines(fields), 'latin1');
      pipeline(answer, socket, () => socket.destroy());
    });
    outgoing.on('error', (error: NodeJS.ErrnoException) => {
      if (report.status !== undefined) return socket.destroy();
      report.failure = error.code ?? error.message;
      this.#states.failed(rule.to, report.failure);
      socket.end(badGateway);
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

/** Joins two connections until either ends; what one side sent before it ended still arrives. */
function join(backend: Duplex, socket: Duplex): void {
  for (const side of [backend, socket]) side.on('error', () => side.destroy());
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
  return `HTTP/1.1 ${answer.statusCode} ${answer.statusMessage}\r\n`;
}

function fieldLines(rawHeaders: readonly string[]): string {
  let lines = '';
  for (const [name, value] of headerPairs(rawHeaders)) lines += `${name}: ${value}\r\n`;
  return `${lines}\r\n`;
}
