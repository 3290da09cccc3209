import type { IncomingMessage, ServerResponse } from 'node:http';
import { type Duplex, pipeline, Readable } from 'node:stream';
import { escapeHtml, toolPage } from '../core/html.js';
import type { StoredPiece } from './piece-store.js';

/** The media type of scripts (RFC 9239). */
export const scriptType = 'text/javascript; charset=utf-8';
export const jsonType = 'application/json; charset=utf-8';

/** Sends a short text whole. */
export function sendText(response: ServerResponse, status: number, type: string, body: string): void {
  response.writeHead(status, { 'content-type': type, 'content-length': Buffer.byteLength(body) });
  response.end(body);
}

/** Sends a piece with its ETag. */
export function sendPiece(request: IncomingMessage, response: ServerResponse, { tag, piece }: StoredPiece): void {
  sendTagged(request, response, { tag, type: scriptType, parts: piece.parts() });
}

/** Sends content with a strong ETag, or 304 where the browser has it (RFC 9110, 13.1.2). */
export function sendTagged(
  request: IncomingMessage,
  response: ServerResponse,
  { tag, type, parts }: { tag: string; type: string; parts: Iterable<string> },
): void {
  const etag = `"${tag}"`;
  response.setHeader('etag', etag);
  if ((request.headers['if-none-match'] ?? '').split(/\s*,\s*/).includes(etag)) {
    response.writeHead(304);
    response.end();
    return;
  }
  sendParts(response, { type, parts: request.method === 'HEAD' ? [] : parts });
}

/** Characters that are joined before they are written: small parts cost more than they save. */
const batchLength = 1 << 18;

/** Sends a text that comes in parts as fast as the other end takes it, without ever joining all of it. */
export function sendParts(response: ServerResponse, { type, parts }: { type: string; parts: Iterable<string> }): void {
  response.writeHead(200, { 'content-type': type });
  pipeline(Readable.from(batches(parts)), response, () => {}); // a browser that went away needs no answer
}

function* batches(parts: Iterable<string>): Generator<Buffer> {
  let batch: string[] = [];
  let length = 0;
  for (const part of parts) {
    batch.push(part);
    length += part.length;
    if (length < batchLength) continue;
    yield Buffer.from(batch.join(''));
    [batch, length] = [[], 0];
  }
  if (batch.length > 0) yield Buffer.from(batch.join(''));
}

/** Refuses a request under a host name that isn't ours, and says how to make it one. */
export function refuseHost(request: IncomingMessage, response: ServerResponse): void {
  const host = request.headers.host ?? '';
  const body = `<h1>This server does not answer to <code>${escapeHtml(host)}</code></h1>
<p>A page from elsewhere could make its own name point here and read your files. If the name is yours, add it to the settings:</p>
<p><code>listen: { names: ['${escapeHtml(host.replace(/:\d+$/, ''))}'] }</code></p>`;
  sendText(response, 403, 'text/html; charset=utf-8', toolPage({ title: 'Unknown host name', body }));
}

/** Ends a request to change protocols. `status` is code and reason. */
export function refuseUpgrade(socket: Duplex, status: string): void {
  socket.end(`HTTP/1.1 ${status}\r\nconnection: close\r\ncontent-length: 0\r\n\r\n`);
}
