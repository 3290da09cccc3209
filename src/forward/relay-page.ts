import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Transform } from 'node:stream';
import * as zlib from 'node:zlib';
import { headerPairs, withoutControls } from './headers.js';
import { type HeadInserts, HtmlInserter, policyOf } from './html-inserter.js';

/** What is put into the pages of a backend, by whoever knows of modules. */
export interface PageInserts {
  /** Settles when it's known what to put in. */
  prepare(): Promise<(nonce: string | undefined) => HeadInserts>;
  /** Something keeps a page from getting it. */
  onNote(text: string): void;
}

/** Zstandard came to Node.js later than the others. */
const { createZstdDecompress } = zlib as { createZstdDecompress?: () => Transform };
const decoders: Record<string, (() => Transform) | undefined> = {
  gzip: zlib.createGunzip,
  'x-gzip': zlib.createGunzip,
  deflate: zlib.createInflate,
  br: zlib.createBrotliDecompress,
  zstd: createZstdDecompress,
};

/** Fields of a request that ask for less than the whole page, which then couldn't be changed (RFC 9110, 13.1 and 14.2). */
const conditions = ['if-none-match', 'if-modified-since', 'if-match', 'if-unmodified-since', 'if-range', 'range'];
/** Fields of an answer that are about its exact bytes. */
const aboutBytes = new Set([
  'content-length',
  'content-encoding',
  'etag',
  'last-modified',
  'accept-ranges',
  'content-md5',
  'digest',
  'content-digest',
  'repr-digest',
  'cache-control',
  'expires',
]);

/** The fields of a request for a page that is to be changed: all of it, in an encoding that can be read here. */
export function askForWholePage(fields: readonly string[]): string[] {
  const out: string[] = [];
  for (const [name, value] of headerPairs(fields)) {
    const lower = name.toLowerCase();
    if (conditions.includes(lower)) continue;
    const isEncoding = lower === 'accept-encoding';
    const known = isEncoding ? value.split(',').filter((part) => isReadable(part.trim().split(';')[0]!)) : [];
    if (!isEncoding || known.length > 0) out.push(name, isEncoding ? known.join(',').trim() : value);
  }
  return out;
}

function isReadable(encoding: string): boolean {
  return encoding === 'identity' || decoders[encoding.toLowerCase()] !== undefined;
}

/** Whether an answer is a page that can be changed, as far as its fields say. */
export function isPage({ headers, statusCode = 0 }: IncomingMessage, request: IncomingMessage): boolean {
  const type = headers['content-type'] ?? '';
  const charset = /charset\s*=\s*"?([\w-]+)/i.exec(type)?.[1] ?? 'utf-8';
  const encoding = headers['content-encoding']?.trim().toLowerCase() ?? 'identity';
  return (
    request.method !== 'HEAD' &&
    statusCode !== 204 &&
    statusCode !== 205 &&
    statusCode !== 206 &&
    statusCode !== 304 &&
    /^text\/html\b/i.test(type) &&
    // What isn't at least ASCII below 128 can't be read here.
    /^(?:utf-?8|us-ascii|ascii|iso-8859-\d+|latin1|windows-125\d|koi8-[ru])$/i.test(charset) &&
    (encoding === 'identity' || decoders[encoding] !== undefined)
  );
}

export interface PageRelay {
  answer: IncomingMessage;
  fields: readonly string[];
  response: ServerResponse;
  inserts: PageInserts;
  /** What comes of it isn't a page after all, or can't be changed: the bytes that were read, and the rest as it is. */
  untouched(read: readonly Buffer[]): void;
  onFault(error: unknown): void;
}

/** Passes a page on with something put into its head, as it comes. */
export async function relayPage(relay: PageRelay): Promise<void> {
  const { answer, fields, response, inserts } = relay;
  const policies = [...headerPairs(fields)].filter(([name]) => name.toLowerCase() === 'content-security-policy');
  const { nonce, allowsScripts, allowsChannel } = policyOf(policies.map(([, value]) => value));
  if (!allowsScripts) {
    inserts.onNote(
      "a backend's security policy allows no scripts of its own origin, so its pages get no updates; let script-src hold 'self' or a nonce while you develop",
    );
    return relay.untouched([]);
  }
  if (!allowsChannel)
    inserts.onNote(
      "a backend's security policy allows no connection to its own origin, so its pages get no updates; let connect-src hold 'self' while you develop",
    );
  const inserter = new HtmlInserter(await inserts.prepare(), nonce);
  const encoding = answer.headers['content-encoding']?.trim().toLowerCase() ?? 'identity';
  const decoder = encoding === 'identity' ? undefined : decoders[encoding]!();
  const source = decoder ?? answer;
  const read: Buffer[] = [];
  let isBegun = false;
  const begin = () => {
    isBegun = true;
    read.length = 0;
    const kept = [...headerPairs(fields)].filter(([name]) => !aboutBytes.has(name.toLowerCase())).flat();
    response.sendDate = false;
    // It differs from start to start, so nobody may keep it.
    response.writeHead(answer.statusCode!, withoutControls(answer.statusMessage ?? ''), [...kept, 'cache-control', 'no-store']);
  };
  const giveUp = () => {
    answer.off('data', onRaw);
    source.off('data', onData);
    source.off('end', onEnd);
    answer.unpipe();
    decoder?.destroy();
    relay.untouched(read.splice(0));
  };
  const give = (bytes: Buffer) => {
    if (bytes.length > 0 && !response.write(bytes)) {
      source.pause();
      response.once('drain', () => source.resume());
    }
  };
  const onRaw = (chunk: Buffer) => {
    if (!isBegun) read.push(chunk);
  };
  const onData = (chunk: Buffer) => {
    const bytes = inserter.push(chunk);
    if (inserter.isPage === false && !isBegun) return giveUp();
    if (!isBegun && inserter.isPage) begin();
    if (isBegun) give(bytes);
  };
  const onEnd = () => {
    const rest = inserter.end();
    if (!isBegun && inserter.isPage !== true) return giveUp();
    if (!isBegun) begin();
    give(rest);
    response.end();
  };
  answer.on('data', onRaw);
  source.on('data', onData);
  source.on('end', onEnd);
  decoder?.on('error', (error) => {
    // What was said to be encoded isn't: as it came, it's the browser's business.
    if (!isBegun) giveUp();
    else {
      relay.onFault(error);
      response.destroy();
    }
  });
  if (decoder) answer.pipe(decoder);
  else answer.resume();
}
