import { createReadStream, type Stats } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { basename } from 'node:path';
import { pipeline } from 'node:stream';
import fresh from 'fresh';
import type Mrmime from 'mrmime';
import type RangeParser from 'range-parser';
import { lazily } from '../../core/lazily.js';
import { statNow } from '../../project/files/disk-files.js';

const mrmime = lazily<typeof Mrmime>('mrmime');
const parseRange = lazily<typeof RangeParser>('range-parser');

/** Types whose content is text that a browser reads as such. */
const textType = /^text\/|^application\/(?:(?:[\w.-]+\+)?json|javascript|(?:[\w.-]+\+)?xml|manifest\+json)$/;

/**
 * Sends a file, an absolute path without links, with ranges, validators and its media type (RFC 9110, 8.8, 13 and 14). Browsers ask
 * again each time, since files change, but for one whose content `isFixed`. 404 where it went since the last look at it.
 */
export function sendStatic(request: IncomingMessage, response: ServerResponse, file: string, isFixed = false): void {
  const stats = statNow(file);
  if (stats?.isFile()) sendFound(request, response, { file, stats, isFixed });
  else if (response.headersSent) response.destroy();
  else response.writeHead(404, { 'content-length': 0 }).end();
}

function sendFound(
  request: IncomingMessage,
  response: ServerResponse,
  { file, stats, isFixed }: { file: string; stats: Stats; isFixed: boolean },
): void {
  const { size } = stats;
  const etag = `W/"${size.toString(16)}-${Math.floor(stats.mtimeMs).toString(16)}"`;
  const modified = stats.mtime.toUTCString();
  response.setHeader('accept-ranges', 'bytes');
  response.setHeader('cache-control', isFixed ? 'public, max-age=31536000, immutable' : 'no-cache');
  response.setHeader('last-modified', modified);
  response.setHeader('etag', etag);
  if (!isAsExpected(request, stats)) return void response.writeHead(412, { 'content-length': 0 }).end();
  const known = {
    'if-none-match': request.headers['if-none-match'],
    'if-modified-since': request.headers['if-modified-since'],
  };
  if (fresh(known, { etag, 'last-modified': modified })) return void response.writeHead(304).end();

  const type = mrmime().lookup(basename(file)) ?? 'application/octet-stream';
  const asked = isSameAs(request.headers['if-range'], stats) ? request.headers.range : undefined;
  const ranges = asked === undefined ? undefined : parseRange()(size, asked, { combine: true });
  if (ranges === -1) {
    // A range beyond the end is the client's mistake, and `content-range` says how long the file is (RFC 9110, 15.5.17).
    return void response.writeHead(416, { 'content-range': `bytes */${size}`, 'content-length': 0 }).end();
  }
  response.setHeader('content-type', textType.test(type) ? `${type}; charset=utf-8` : type);
  // Several ranges at once may be answered with the whole (14.2), and so may a unit or a form that is unknown.
  const range = Array.isArray(ranges) && ranges.type === 'bytes' && ranges.length === 1 ? ranges[0]! : undefined;
  const { start, end } = range ?? { start: 0, end: size - 1 };
  const length = end - start + 1;
  response.writeHead(range ? 206 : 200, {
    'content-length': length,
    ...(range ? { 'content-range': `bytes ${start}-${end}/${size}` } : {}),
  });
  if (request.method === 'HEAD' || length === 0) return void response.end();
  // A file that became shorter, or a browser that went away: there is nobody left to tell.
  pipeline(createReadStream(file, { start, end }), response, () => {});
}

/** Whether a file is as a request that names conditions expects it (RFC 9110, 13.1.1 and 13.1.4). Tags here are weak: none is the same. */
function isAsExpected({ headers }: IncomingMessage, stats: Stats): boolean {
  const tags = headers['if-match'];
  if (tags !== undefined) return tags.trim() === '*';
  const since = Date.parse(headers['if-unmodified-since'] ?? '');
  return Number.isNaN(since) || wholeSeconds(stats) <= since;
}

/** Whether what a browser has a part of is what there is now (RFC 9110, 13.1.5): weak tags don't say so. */
function isSameAs(ifRange: string | string[] | undefined, stats: Stats): boolean {
  if (ifRange === undefined) return true;
  return typeof ifRange === 'string' && !ifRange.includes('"') && wholeSeconds(stats) === Date.parse(ifRange);
}

/** `Last-Modified` has no fractions. In milliseconds. */
function wholeSeconds({ mtimeMs }: Stats): number {
  return Math.floor(mtimeMs / 1000) * 1000;
}
