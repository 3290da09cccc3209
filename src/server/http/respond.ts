import type { IncomingMessage, ServerResponse } from 'node:http';
import { type Duplex, pipeline, Readable } from 'node:stream';
import { pipeline as finished } from 'node:stream/promises';
import fresh from 'fresh';
import type { Piece } from '../../core/pieces/piece.js';
import { batches, type TextParts } from '../../core/text/batches.js';
import { escapeHtml, toolPage } from '../../core/tool-page.js';
import { endSocket } from '../../forward/end-socket.js';

/** The media type of scripts (RFC 9239). */
export const scriptType = 'text/javascript; charset=utf-8';
export const jsonType = 'application/json; charset=utf-8';

/** Sends a short text whole. */
export function sendText(response: ServerResponse, status: number, type: string, body: string): void {
  response.writeHead(status, { 'content-type': type, 'content-length': Buffer.byteLength(body) });
  response.end(body);
}

/** Sends a piece with its ETag, for pages whose hook has this key. */
export function sendPiece(
  request: IncomingMessage,
  response: ServerResponse,
  { tag, piece }: { tag: string; piece: Piece },
  { hookKey, isApart }: { hookKey: string; isApart: boolean },
): void {
  const parts = isApart ? piece.apart(hookKey) : piece.parts(hookKey);
  sendTagged(request, response, { tag: pieceTag(tag, hookKey) + (isApart ? '-apart' : ''), type: scriptType, parts });
}

/** Tells a piece from others, by its content and the key that it knows. */
function pieceTag(tag: string, hookKey: string): string {
  return `${tag}-${hookKey.slice(0, 8)}`;
}

/** Sends content with a strong ETag, or 304 where the browser has it (RFC 9110, 13.1.2). */
export function sendTagged(
  request: IncomingMessage,
  response: ServerResponse,
  { tag, type, parts }: { tag: string; type: string; parts: TextParts },
): void {
  if (isKnown(request, response, tag)) return;
  sendParts(response, { type, parts: request.method === 'HEAD' ? [] : parts });
}

/** Sets the ETag, and answers with 304 where the browser has that. */
function isKnown(request: IncomingMessage, response: ServerResponse, tag: string): boolean {
  const etag = `"${tag}"`;
  response.setHeader('etag', etag);
  // What else a client asks for (`no-cache`) is about caches on the way: here the answer is always the newest.
  const isKnown = fresh({ 'if-none-match': request.headers['if-none-match'] }, { etag });
  if (isKnown) response.writeHead(304).end();
  return isKnown;
}

/** Sends a text that comes in parts as fast as the other end takes it, without ever joining all of it. */
export function sendParts(response: ServerResponse, { type, parts }: { type: string; parts: TextParts }): void {
  response.writeHead(200, { 'content-type': type });
  pipeline(Readable.from(buffers(parts)), response, () => {}); // a browser that went away needs no answer
}

function* buffers(parts: TextParts): Generator<Buffer> {
  for (const batch of batches(parts)) yield Buffer.from(batch);
}

/** Sends a piece that was kept. Settles when it was sent. */
export async function sendKept(
  request: IncomingMessage,
  response: ServerResponse,
  { tag, content, end, hookKey }: { tag: string; content: Buffer; end: string; hookKey: string },
): Promise<void> {
  if (isKnown(request, response, pieceTag(tag, hookKey))) return;
  response.writeHead(200, { 'content-type': scriptType, 'content-length': content.length + Buffer.byteLength(end) });
  if (request.method === 'HEAD') return void response.end();
  await finished(Readable.from([content, Buffer.from(end)]), response).catch(() => {}); // as above
}

/** Leads from `/` to where the front end is. */
export function sendToBase(response: ServerResponse, base: string): void {
  const body = `<h1>The front end is under <code>${escapeHtml(base)}</code></h1><p><a href="${escapeHtml(base)}">${escapeHtml(base)}</a></p>`;
  response.setHeader('location', base);
  response.setHeader('cache-control', 'no-store');
  sendText(response, 302, 'text/html; charset=utf-8', toolPage({ title: 'Over there', body }));
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
  endSocket(socket, `HTTP/1.1 ${status}\r\nconnection: close\r\ncontent-length: 0\r\n\r\n`);
}

/** Refuses a request that a page of another site makes. */
export function refuseElsewhere(response: ServerResponse, origin: string): void {
  const text = `Pages of other sites get nothing from here. If ${origin} is yours, add it to the settings: embed: { from: [...] }`;
  sendText(response, 403, 'text/plain; charset=utf-8', `${text}\n`);
}
