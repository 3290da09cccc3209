import { statSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { basename, dirname } from 'node:path';
import type Send from 'send';
import { lazily } from '../../core/lazily.js';

const send = lazily<typeof Send>('send');

/** Sends a file, an absolute path without links, with ranges, validators and its media type. Browsers ask again each time, since files change, but for one whose content `isFixed`. */
export function sendStatic(request: IncomingMessage, response: ServerResponse, file: string, isFixed = false): void {
  const options = { root: dirname(file), dotfiles: 'deny', cacheControl: false } as const;
  send()(request, `/${encodeURIComponent(basename(file))}`, options)
    .on('headers', (reply: ServerResponse) =>
      reply.setHeader('cache-control', isFixed ? 'public, max-age=31536000, immutable' : 'no-cache'),
    )
    // It went or became something else between the look at it and now.
    .on('error', (error: { status?: number; headers?: Record<string, string> }) => {
      if (response.headersSent) return void response.destroy();
      // A range beyond the end is the client's mistake, and `content-range` says how long the file is (RFC 9110, 15.5.17).
      const isRange = error.status === 416;
      const range = isRange ? { 'content-range': `bytes */${statSync(file, { throwIfNoEntry: false })?.size ?? 0}` } : {};
      response.writeHead(isRange ? 416 : 404, { ...range, 'content-length': 0 }).end();
    })
    .pipe(response);
}
