import { statSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { join } from 'node:path';
import type Send from 'send';
import { lazily } from '../core/lazily.js';

const send = lazily<typeof Send>('send');

/** A file that may be sent: its folder and the path in it, decoded. */
export interface StaticFile {
  folder: string;
  path: string;
}

/** Looks for a path in folders; dot files and what lies outside are never found. */
export function findStatic(folders: readonly string[], requestPath: string): StaticFile | undefined {
  const path = decodePath(requestPath);
  if (path === undefined || path.split('/').some((part) => part.startsWith('.')) || path.endsWith('/')) return undefined;
  const folder = folders.find((candidate) => statSync(join(candidate, path), { throwIfNoEntry: false })?.isFile());
  return folder === undefined ? undefined : { folder, path };
}

/** A request's path with its escapes resolved; `undefined` where they are broken. */
export function decodePath(path: string): string | undefined {
  try {
    const decoded = decodeURIComponent(path);
    return decoded.includes('\0') ? undefined : decoded;
  } catch {
    return undefined;
  }
}

/** Sends a file with ranges, validators and its media type. Browsers ask again each time, since files change. */
export function sendStatic(request: IncomingMessage, response: ServerResponse, { folder, path }: StaticFile): void {
  send()(request, encodeURI(path).replace(/[?#]/g, encodeURIComponent), { root: folder, dotfiles: 'deny', cacheControl: false })
    .on('headers', (reply: ServerResponse) => reply.setHeader('cache-control', 'no-cache'))
    .on('error', () => {
      response.writeHead(404, { 'content-length': 0 });
      response.end();
    })
    .pipe(response);
}
