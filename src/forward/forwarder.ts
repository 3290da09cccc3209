import {
  type ClientRequest,
  Agent as HttpAgent,
  request as httpRequest,
  type IncomingMessage,
  type ServerResponse,
} from 'node:http';
import { Agent as HttpsAgent, request as httpsRequest } from 'node:https';
import type { Duplex } from 'node:stream';
import { pipeline } from 'node:stream';
import { backendDownPage } from './backend-down.js';
import { endToEnd, headerPairs, requestHeaders } from './headers.js';
import { type CompiledRule, compileRule, type ForwardRule, findRule } from './rule.js';

/** Hands requests on to backends, streaming both ways. Knows nothing of modules and pages. */
export class Forwarder {
  readonly rules: readonly CompiledRule[];
  readonly #http = new HttpAgent({ keepAlive: true });
  readonly #https = new HttpsAgent({ keepAlive: true });

  constructor(rules: readonly ForwardRule[]) {
    this.rules = rules.map(compileRule);
  }

  /** The rule for a path, if there is one. */
  find(path: string, when: ForwardRule['when']): CompiledRule | undefined {
    return findRule(this.rules, path, when);
  }

  /** Forwards a request and its answer. */
  handle(request: IncomingMessage, response: ServerResponse, rule: CompiledRule): void {
    const outgoing = this.#ask(request, rule, requestHeaders(request, rule.to));
    outgoing.on('response', (answer) => relay(answer, response));
    outgoing.on('information', (information) => {
      if (information.statusCode === 103) response.writeEarlyHints(linksOf(information.rawHeaders));
    });
    outgoing.on('error', (error) => fail(error, { request, response, rule }));
    response.on('close', () => {
      if (!response.writableFinished) outgoing.destroy();
    });
    pipeline(request, outgoing, () => {}); // errors of either side arrive in the listeners above
  }

  /** Forwards a request to change protocols, e.g. to a WebSocket, and joins both connections if the backend agrees. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer, rule: CompiledRule): void {
    const outgoing = this.#ask(request, rule, requestHeaders(request, rule.to, ['connection', 'upgrade']));
    socket.on('error', () => outgoing.destroy());
    outgoing.on('upgrade', (answer, backend, backendHead) => {
      socket.write(statusLine(answer) + fieldLines(answer.rawHeaders));
      if (backendHead.length > 0) socket.write(backendHead);
      if (head.length > 0) backend.write(head);
      backend.on('error', () => socket.destroy());
      pipeline(backend, socket, () => backend.destroy());
      pipeline(socket, backend, () => socket.destroy());
    });
    outgoing.on('response', (answer) => {
      // The backend refuses: its answer goes back as it is, and the connection ends with it.
      socket.write(`${statusLine(answer)}${fieldLines([...endToEnd(answer), 'connection', 'close'])}`);
      pipeline(answer, socket, () => socket.destroy());
    });
    outgoing.on('error', () => {
      socket.end('HTTP/1.1 502 Bad Gateway\r\nconnection: close\r\ncontent-length: 0\r\n\r\n');
    });
    outgoing.end();
  }

  /** Ends idle connections. */
  close(): void {
    this.#http.destroy();
    this.#https.destroy();
  }

  #ask(request: IncomingMessage, { to }: CompiledRule, headers: string[]): ClientRequest {
    const isSecure = to.protocol === 'https:';
    const send = isSecure ? httpsRequest : httpRequest;
    const hasBody = request.headers['transfer-encoding'] !== undefined;
    const outgoing = send({
      agent: isSecure ? this.#https : this.#http,
      hostname: to.hostname.replace(/^\[|\]$/g, ''),
      port: to.port || (isSecure ? 443 : 80),
      method: request.method,
      path: request.url,
      headers: (hasBody ? [...headers, 'transfer-encoding', 'chunked'] : headers) as never,
      setHost: false,
    });
    outgoing.setNoDelay(true);
    return outgoing;
  }
}

function relay(answer: IncomingMessage, response: ServerResponse): void {
  const headers = endToEnd(answer);
  if (answer.headers.trailer) headers.push('trailer', answer.headers.trailer);
  response.sendDate = false;
  response.writeHead(answer.statusCode!, answer.statusMessage, headers);
  // An event stream may send nothing for long: its head must not wait for the first event.
  response.flushHeaders();
  answer.on('end', () => response.addTrailers(answer.trailers as Record<string, string>));
  pipeline(answer, response, (error) => {
    if (error) response.destroy();
  });
}

function fail(
  error: NodeJS.ErrnoException,
  { request, response, rule }: { request: IncomingMessage; response: ServerResponse; rule: CompiledRule },
): void {
  if (response.destroyed) return;
  if (response.headersSent) {
    response.destroy();
    return;
  }
  const wantsHtml = (request.headers.accept ?? '').includes('text/html');
  const { type, body } = backendDownPage({
    label: rule.label,
    origin: rule.to.origin,
    path: request.url ?? '/',
    code: error.code ?? error.message,
    wantsHtml,
  });
  response.writeHead(502, { 'content-type': type, 'cache-control': 'no-store', 'content-length': Buffer.byteLength(body) });
  response.end(request.method === 'HEAD' ? undefined : body);
}

function linksOf(rawHeaders: readonly string[]): { link: string[] } {
  return { link: [...headerPairs(rawHeaders)].filter(([name]) => name.toLowerCase() === 'link').map(([, value]) => value) };
}

function statusLine(answer: IncomingMessage): string {
  return `HTTP/1.1 ${answer.statusCode} ${answer.statusMessage}\r\n`;
}

function fieldLines(rawHeaders: readonly string[]): string {
  let lines = '';
  for (const [name, value] of headerPairs(rawHeaders)) lines += `${name}: ${value}\r\n`;
  return `${lines}\r\n`;
}
