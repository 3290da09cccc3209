import type { ClientRequest, IncomingMessage, ServerResponse } from 'node:http';
import { backendDownPage } from './backend-down.js';
import { type BackendLink, timedOut } from './backend-link.js';
import { headerPairs, requestFields, responseFields } from './headers.js';
import type { Recorder } from './recorder.js';
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
  recorder?: Recorder;
  replay?: Replay;
  onAnswer(status: number): void;
  onFailure(code: string): void;
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
  if (input.replay?.isOnly) void answerFromRecording(input, report, input.replay);
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
  const fields = requestFields(request, rule, isContinued ? ['expect'] : []);
  if (request.headers['transfer-encoding'] !== undefined) fields.push('transfer-encoding', 'chunked');
  if (request.headers.trailer !== undefined) fields.push('trailer', request.headers.trailer);
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
  outgoing.on('information', ({ statusCode, rawHeaders }) => {
    if (statusCode === 103) response.writeEarlyHints(hintsOf(rawHeaders));
  });
  outgoing.on('continue', () => response.writeContinue());
  outgoing.on('response', (answer) => {
    clearTimeout(timer);
    report.status = answer.statusCode!;
    report.headMs = performance.now() - report.from;
    input.onAnswer(report.status);
    const fields = responseFields(answer, input);
    recording?.answered(answer, fields);
    relay({ answer, fields, response, report });
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
  if (isContinued) outgoing.write(nothing);
  sendBody(request, outgoing);
}

/** Passes on the body with backpressure, and its trailers. Errors of either side arrive at the listeners of the exchange. */
function sendBody(request: IncomingMessage, outgoing: ClientRequest): void {
  request.once('end', () => {
    if (request.rawTrailers.length > 0) outgoing.addTrailers([...headerPairs(request.rawTrailers)]);
  });
  request.pipe(outgoing);
}

function limitAnswer(outgoing: ClientRequest, limitMs: number): NodeJS.Timeout | undefined {
  return limitMs > 0 ? setTimeout(() => outgoing.destroy(timedOut('ANSWER_TIMEOUT')), limitMs) : undefined;
}

interface Relay {
  answer: IncomingMessage;
  fields: string[];
  response: ServerResponse;
  report: ExchangeReport;
}

function relay({ answer, fields, response, report }: Relay): void {
  // The backend's date, or none: it isn't ours to add.
  response.sendDate = false;
  response.writeHead(
    answer.statusCode!,
    answer.statusMessage,
    answer.headers.trailer ? [...fields, 'trailer', answer.headers.trailer] : fields,
  );
  let hasBegun = false;
  answer.on('data', (chunk: Buffer) => {
    hasBegun = true;
    report.size += chunk.length;
  });
  answer.on('end', () => {
    if (answer.rawTrailers.length > 0) response.addTrailers([...headerPairs(answer.rawTrailers)]);
  });
  answer.on('close', () => {
    if (answer.complete) return;
    report.failure ??= 'the backend broke off';
    response.destroy();
  });
  // By hand and not with `pipeline`, which takes a third of the time of a small exchange.
  answer.pipe(response);
  // An event stream may send nothing for long: its head must not wait for the first event. Written with bytes, the head
  // goes out in the encoding in which it came (latin1); by itself it would go out as UTF-8. With the body if that is there.
  setImmediate(() => {
    if (!hasBegun && !response.writableEnded && !response.destroyed) response.write(nothing);
  });
}

function fail(error: NodeJS.ErrnoException, input: ExchangeInput, report: ExchangeReport): void {
  const { request, response, rule, replay } = input;
  const code = error.code ?? error.message;
  report.failure = code;
  input.onFailure(code);
  if (replay?.has(request)) return void answerFromRecording(input, report, replay);
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

function hintsOf(rawHeaders: readonly string[]): { link: string[] } {
  return { link: [...headerPairs(rawHeaders)].filter(([name]) => name.toLowerCase() === 'link').map(([, value]) => value) };
}
