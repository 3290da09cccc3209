import type { ClientRequest, IncomingMessage, ServerResponse } from 'node:http';
import { backendDownPage } from './backend-down.js';
import { type BackendLink, timedOut } from './backend-link.js';
import { headerPairs, isAscii, requestFields, responseFields, withoutControls } from './headers.js';
import type { Recorder } from './recorder.js';
import { askForWholePage, isPage, type PageInserts, relayPage } from './relay-page.js';
import type { Replay } from './replay.js';
import { type CompiledRule, targetPath } from './rule.js';

/** Methods that may be sent twice (RFC 9110, 9.2.2). */
const idempotent = new Set(['GET', 'HEAD', 'OPTIONS', 'PUT', 'DELETE', 'TRACE']);

const nothing = Buffer.alloc(0);

/** How an exchange with a backend went. */
export interface ExchangeReport {
  rule: CompiledRule;
  method: string;
  /** As the browser asked. */
  target: string;
  /** The backend's status; `undefined` where it gave none. */
  status?: number;
  /** Why there was no answer, or why it broke off. */
  failure?: string;
  /** It was answered from a recording. */
  isReplayed?: boolean;
  /** `performance.now()` when it began; milliseconds until the head of the answer and until its end. */
  from: number;
  headMs?: number;
  ms: number;
  /** Bytes of the answer's body. */
  size: number;
}

export interface ExchangeInput {
  request: IncomingMessage;
  response: ServerResponse;
  rule: CompiledRule;
  link: BackendLink;
  /** The browser waits for a `100 Continue` before it sends the body. */
  isContinued: boolean;
  /** What is put into the pages of the backend. */
  pages?: PageInserts;
  recorder?: Recorder;
  replay?: Replay;
  onAnswer(status: number): void;
  onFailure(code: string): void;
  /** Something went wrong here and not at the backend. */
  onFault(error: unknown): void;
  onEnd(report: ExchangeReport): void;
}

/**
 * Hands one request to the backend and its answer to the browser, streaming both ways:
 *
 *   asking ──▶ answering ──▶ ended
 *     │ ▲          └──▶ broken: the browser's connection is cut, never a short success
 *     │ └ once more, where a kept connection turned out to be closed
 *     └──▶ failed: a page or JSON that says why
 */
export function exchange(input: ExchangeInput): void {
  const { request, response, rule } = input;
  const report: ExchangeReport = {
    rule,
    method: request.method ?? 'GET',
    target: request.url ?? '/',
    from: performance.now(),
    ms: 0,
    size: 0,
  };
  const asked: Asked = { isAgain: false };
  response.once('close', () => {
    report.ms = performance.now() - report.from;
    if (!response.writableFinished) {
      report.failure ??= 'the browser went away';
      asked.outgoing?.destroy();
    }
    input.onEnd(report);
  });
  if (input.replay?.isOnly) answerFromRecording(input, report, input.replay).catch(input.onFault);
  else askBackend(input, report, asked);
}

/** Without a backend: the recorded answer, or a sentence that says which one is missing. */
async function answerFromRecording({ request, response }: ExchangeInput, report: ExchangeReport, replay: Replay): Promise<void> {
  const status = await replay.answer(request, response);
  report.isReplayed = true;
  report.status = status ?? 502;
  if (status !== undefined) return;
  report.failure = 'not in the recording';
  const error = { code: 'not-recorded', message: replay.explain(request) };
  response.writeHead(502, { 'content-type': 'application/json; charset=utf-8', 'cache-control': 'no-store' });
  response.end(`${JSON.stringify({ error }, null, 2)}\n`);
}

/** The request to the backend that is under way, and whether it's the second one. */
interface Asked {
  outgoing?: ClientRequest;
  isAgain: boolean;
}

function askBackend(input: ExchangeInput, report: ExchangeReport, asked: Asked): void {
  const { request, response, rule, link, isContinued } = input;
  const hasBody = request.headers['transfer-encoding'] !== undefined || Number(request.headers['content-length'] ?? 0) > 0;
  const isRepeatable = idempotent.has(report.method) && !hasBody;
  const asIs = requestFields(request, rule, isContinued ? ['expect'] : []);
  let waits = isContinued;
  if (waits && !asIs.every(isAscii)) {
    // Where the backend is to say that it wants the body, Node.js writes the head as UTF-8: every other byte would become two.
    asIs.splice(
      asIs.findIndex((word, at) => at % 2 === 0 && word.toLowerCase() === 'expect'),
      2,
    );
    response.writeContinue();
    waits = false;
  }
  const fields = input.pages ? askForWholePage(asIs) : asIs;
  if (request.headers['transfer-encoding'] !== undefined) fields.push('transfer-encoding', 'chunked');
  // Trailers come behind chunks or not at all.
  if (request.headers.trailer !== undefined && request.headers['transfer-encoding'] !== undefined)
    fields.push('trailer', request.headers.trailer);
  const outgoing = link.ask(rule, {
    method: report.method,
    path: targetPath(rule, report.target),
    fields,
    // A kept connection may have been closed just now; only what can be sent twice may find that out.
    isFresh: asked.isAgain || !isRepeatable,
  });
  asked.outgoing = outgoing;
  const recording = input.recorder?.begin(request, `http://${rule.to.host}`);
  const timer = limitAnswer(outgoing, rule.timeouts.answerMs);
  outgoing.on('information', ({ statusCode, statusMessage, rawHeaders }) => {
    if (statusCode > 101) passInterim(request, response, { statusCode, statusMessage, rawHeaders });
    if (statusCode === 101) outgoing.destroy(Object.assign(new Error('unasked upgrade'), { code: 'UNASKED_UPGRADE' }));
  });
  outgoing.on('upgrade', (_, socket) => {
    socket.destroy();
    fail(Object.assign(new Error('unasked upgrade'), { code: 'UNASKED_UPGRADE' }), input, report);
  });
  outgoing.on('continue', () => {
    if (!response.headersSent && !response.destroyed) response.writeContinue();
  });
  const onResponse = (answer: IncomingMessage) => {
    clearTimeout(timer);
    if (answer.statusCode! < 200 || answer.statusCode! > 999) {
      answer.destroy();
      return fail(Object.assign(new Error('bad status'), { code: 'BAD_STATUS' }), input, report);
    }
    report.status = answer.statusCode!;
    report.headMs = performance.now() - report.from;
    input.onAnswer(report.status);
    const fields = responseFields(answer, input);
    recording?.answered(answer, fields);
    const relayed = { answer, fields, request, response, report };
    if (input.pages && isPage(answer, request)) relayChanged(relayed, input.pages, input.onFault);
    else relay(relayed, watched(relayed));
  };
  outgoing.on('response', (answer) => {
    try {
      onResponse(answer);
    } catch (error) {
      report.failure ??= error instanceof Error ? error.message : String(error);
      outgoing.destroy();
      input.onFault(error);
    }
  });
  outgoing.on('error', (error: NodeJS.ErrnoException) => {
    clearTimeout(timer);
    // It was told already, or nobody is there to be told.
    if (report.failure !== undefined || response.destroyed) return;
    if (report.status !== undefined) return void response.destroy();
    if (!asked.isAgain && isRepeatable && outgoing.reusedSocket) {
      asked.isAgain = true;
      return askBackend(input, report, asked);
    }
    fail(error, input, report);
  });
  if (!hasBody) return void outgoing.end();
  // The head goes ahead, so that the backend can say whether it wants the body. A browser that gets no answer sends the
  // body after a while all the same, and many backends only wait for it.
  if (waits) outgoing.write(nothing);
  sendBody(request, outgoing);
}

/** Passes on the body with backpressure, and its trailers. Errors of either side arrive at the listeners of the exchange. */
function sendBody(request: IncomingMessage, outgoing: ClientRequest): void {
  request.once('end', () => {
    // Behind chunks, which is how they came: without them nothing of it is sent.
    if (request.rawTrailers.length > 0) outgoing.addTrailers(cleanPairs(request.rawTrailers));
  });
  request.pipe(outgoing);
}

function limitAnswer(outgoing: ClientRequest, limitMs: number): NodeJS.Timeout | undefined {
  return limitMs > 0 ? setTimeout(() => outgoing.destroy(timedOut('ANSWER_TIMEOUT')), limitMs) : undefined;
}

interface Relay {
  answer: IncomingMessage;
  fields: string[];
  request: IncomingMessage;
  response: ServerResponse;
  report: ExchangeReport;
}

/** Passes on a page of the backend with something put in. */
function relayChanged(relayed: Relay, inserts: PageInserts, onFault: (error: unknown) => void): void {
  const { answer, fields, response, report } = relayed;
  // Until it's known what to put in, nothing of it is read.
  answer.pause();
  const state = watched(relayed);
  const untouched = (read: readonly Buffer[]) => relay(relayed, state, read);
  relayPage({ answer, fields, response, inserts, untouched, onFault }).catch((error: unknown) => {
    report.failure ??= error instanceof Error ? error.message : String(error);
    answer.destroy();
    onFault(error);
  });
}

/** Counts what comes, and sees to it that an answer which breaks off is never a short success. */
function watched({ answer, response, report }: Relay): { hasBegun: boolean } {
  const state = { hasBegun: false };
  answer.on('data', (chunk: Buffer) => {
    state.hasBegun = true;
    report.size += chunk.length;
  });
  answer.on('close', () => {
    if (answer.complete) return;
    report.failure ??= 'the backend broke off';
    response.destroy();
  });
  return state;
}

/** `read`: what was read of the body already. */
function relay(relayed: Relay, state: { hasBegun: boolean }, read: readonly Buffer[] = []): void {
  const { answer, fields, request, response } = relayed;
  // The backend's date, or none: it isn't ours to add.
  response.sendDate = false;
  const announced =
    answer.headers.trailer !== undefined && mayHaveTrailers(answer, request) ? ['trailer', answer.headers.trailer] : [];
  response.writeHead(answer.statusCode!, withoutControls(answer.statusMessage ?? ''), [...fields, ...announced]);
  for (const chunk of read) response.write(chunk);
  if (answer.readableEnded) return void response.end();
  answer.on('end', () => {
    if (answer.rawTrailers.length > 0 && mayHaveTrailers(answer, request)) response.addTrailers(cleanPairs(answer.rawTrailers));
  });
  // By hand and not with `pipeline`, which takes a third of the time of a small exchange.
  answer.pipe(response);
  // An event stream may send nothing for long: its head must not wait for the first event. Written with bytes, the head
  // goes out in the encoding in which it came (latin1); by itself it would go out as UTF-8. With the body if that is there.
  setImmediate(() => {
    if (!state.hasBegun && !response.writableEnded && !response.destroyed) response.write(nothing);
  });
}

/** Whether the answer to the browser goes in chunks, behind which trailers have a place (RFC 9112, 7.1.2). */
function mayHaveTrailers(answer: IncomingMessage, request: IncomingMessage): boolean {
  const { statusCode, headers } = answer;
  const hasBody = request.method !== 'HEAD' && statusCode !== 204 && statusCode !== 304;
  return hasBody && headers['content-length'] === undefined && request.httpVersionMajor === 1 && request.httpVersionMinor >= 1;
}

function cleanPairs(rawHeaders: readonly string[]): [string, string][] {
  return [...headerPairs(rawHeaders)].map(([name, value]) => [name, withoutControls(value)]);
}

/**
 * Passes on an interim answer such as early hints (RFC 9110, 15.2; RFC 8297) as it came: Node's own methods take no field with several links.
 * Left out for a client of HTTP/1.0, and while an earlier answer on the connection isn't done.
 */
function passInterim(
  request: IncomingMessage,
  response: ServerResponse,
  { statusCode, statusMessage, rawHeaders }: { statusCode: number; statusMessage: string; rawHeaders: readonly string[] },
): void {
  const { socket } = response;
  if (!socket || response.headersSent || response.destroyed || request.httpVersionMinor < 1) return;
  const lines = cleanPairs(rawHeaders).map(([name, value]) => `${name}: ${value}\r\n`);
  socket.write(`HTTP/1.1 ${statusCode} ${withoutControls(statusMessage)}\r\n${lines.join('')}\r\n`, 'latin1');
}

function fail(error: NodeJS.ErrnoException, input: ExchangeInput, report: ExchangeReport): void {
  const { request, response, rule, replay } = input;
  const code = error.code ?? error.message;
  report.failure = code;
  input.onFailure(code);
  if (replay?.has(request)) return void answerFromRecording(input, report, replay).catch(input.onFault);
  // A browser tries a broken event stream again by itself, and gives one up for good that is answered with an error.
  if ((request.headers.accept ?? '').includes('text/event-stream')) return void response.destroy();
  if (response.headersSent || response.destroyed) return void response.destroy();
  const wantsHtml = (request.headers.accept ?? '').includes('text/html');
  const isLate = code === 'ETIMEDOUT' || code === 'ANSWER_TIMEOUT' || code === 'CONNECTIONS_TAKEN';
  const { type, body } = backendDownPage({ label: rule.label, origin: rule.to.label, path: report.target, code, wantsHtml });
  // What the browser still sends is read and dropped, so that it gets to read the answer.
  request.resume();
  response.writeHead(isLate ? 504 : 502, {
    'content-type': type,
    'cache-control': 'no-store',
    'content-length': Buffer.byteLength(body),
  });
  response.end(report.method === 'HEAD' ? undefined : body);
}
