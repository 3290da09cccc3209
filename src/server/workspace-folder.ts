import { createHash } from 'node:crypto';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { jsonType, sendText } from './http/respond.js';
import { isFromThisMachine } from './http/trust.js';

/** Where Chromium's debugger asks for the folder of a page's sources. */
export const workspacePath = '/.well-known/appspecific/com.chrome.devtools.json';

/**
 * Says where the sources lie, so that edits made in the browser's debugger land in the files. A browser on another machine
 * could not reach them, and has no business knowing.
 */
export function sendWorkspace(root: string, request: IncomingMessage, response: ServerResponse): void {
  if (!isFromThisMachine(request)) return sendText(response, 404, 'text/plain; charset=utf-8', '');
  response.setHeader('cache-control', 'no-cache');
  sendText(response, 200, jsonType, JSON.stringify({ workspace: { root, uuid: uuidOf(root) } }));
}

/** A UUID that stays the same for a folder (RFC 9562, 5.8: version 8, values of our own). */
function uuidOf(folder: string): string {
  const hex = createHash('sha256').update(folder).digest('hex');
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-8${hex.slice(13, 16)}-a${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}
