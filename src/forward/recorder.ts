import { renameSync, writeFileSync } from 'node:fs';
import type { IncomingMessage } from 'node:http';
import { brotliDecompressSync, gunzipSync, inflateSync } from 'node:zlib';
import { type HarEntry, writeHar } from './har.js';
import { headerPairs } from './headers.js';

export interface RecorderOptions {
  /** Absolute path of the HAR file. */
  file: string;
  /** Keep cookies and credentials, which are left out otherwise. */
  withSecrets: boolean;
  /** Version of the program, for the file's creator. */
  version: string;
  /** Told what the user should know. */
  onNote(note: string): void;
}

const secrets = new Set(['authorization', 'proxy-authorization', 'cookie', 'set-cookie']);
/** Bodies beyond this are left out, and so are exchanges beyond so many: the oldest go. */
const longestBody = 8 << 20;
const mostEntries = 5000;
/** Stands in the content of an answer whose body was too long to be kept. */
export const leftOut = 'left out: longer than 8 MB';
const writeAfterMs = 300;

/** Writes exchanges with backends to a HAR file as they end. */
export class Recorder {
  readonly #options: RecorderOptions;
  readonly #entries: HarEntry[] = [];
  #timer: NodeJS.Timeout | undefined;

  constructor(options: RecorderOptions) {
    this.#options = options;
    this.#write();
  }

  /** Follows an exchange. Bodies are collected as they pass, without holding them up. */
  begin(request: IncomingMessage, origin: string): Recording {
    const startedAt = new Date();
    const from = performance.now();
    const sent = collect(request);
    return {
      answered: (answer, fields) => {
        const waitMs = performance.now() - from;
        const received = collect(answer);
        answer.once('end', () => {
          const time = performance.now() - from;
          this.#add({
            startedDateTime: startedAt.toISOString(),
            time,
            request: this.#requestOf(request, origin, sent),
            response: this.#responseOf(answer, fields, received),
            cache: {},
            timings: { send: 0, wait: waitMs, receive: time - waitMs },
          });
        });
      },
    };
  }

  /** Writes what wasn't written yet. */
  close(): void {
    if (!this.#timer) return;
    clearTimeout(this.#timer);
    this.#tryToWrite();
  }

  /** A disk that is full must not end the server; the next exchange tries again. */
  #tryToWrite(): void {
    try {
      this.#write();
    } catch (error) {
      this.#timer = undefined;
      this.#options.onNote(`the recording is not written: ${error instanceof Error ? error.message : String(error)}`);
    }
  }

  #requestOf(request: IncomingMessage, origin: string, body: Body): HarEntry['request'] {
    const url = new URL(origin + readPath(request.url ?? '/'));
    const text = Buffer.concat(body.chunks).toString('utf8');
    return {
      method: request.method ?? 'GET',
      url: url.href,
      httpVersion: 'HTTP/1.1',
      cookies: [],
      headers: this.#fieldsOf(request.rawHeaders),
      queryString: [...url.searchParams].map(([name, value]) => ({ name, value })),
      ...(text === '' ? {} : { postData: { mimeType: request.headers['content-type'] ?? '', text } }),
      headersSize: -1,
      bodySize: Buffer.byteLength(text),
    };
  }

  #responseOf(answer: IncomingMessage, fields: readonly string[], body: Body): HarEntry['response'] {
    const bytes = decoded(Buffer.concat(body.chunks), answer.headers['content-encoding']);
    const text = bytes.toString('utf8');
    const isText = Buffer.from(text, 'utf8').equals(bytes);
    return {
      status: answer.statusCode!,
      statusText: answer.statusMessage ?? '',
      httpVersion: 'HTTP/1.1',
      cookies: [],
      headers: this.#fieldsOf(fields),
      content: {
        size: bytes.length,
        mimeType: answer.headers['content-type'] ?? '',
        ...(body.size > longestBody ? { comment: leftOut } : {}),
        ...(isText ? { text } : { text: bytes.toString('base64'), encoding: 'base64' }),
      },
      redirectURL: String(answer.headers.location ?? ''),
      headersSize: -1,
      bodySize: bytes.length,
    };
  }

  #fieldsOf(rawHeaders: readonly string[]): { name: string; value: string }[] {
    return [...headerPairs(rawHeaders)]
      .filter(([name]) => this.#options.withSecrets || !secrets.has(name.toLowerCase()))
      .map(([name, value]) => ({ name, value }));
  }

  #add(entry: HarEntry): void {
    this.#entries.push(entry);
    if (this.#entries.length > mostEntries) this.#entries.shift();
    this.#timer ??= setTimeout(() => this.#tryToWrite(), writeAfterMs);
  }

  /** Through a second file, so that whoever reads it never finds half of one. */
  #write(): void {
    this.#timer = undefined;
    const { file, version } = this.#options;
    writeFileSync(`${file}.part`, writeHar(this.#entries, version));
    renameSync(`${file}.part`, file);
  }
}

/** An exchange that is being recorded. `fields` are those that the browser gets. */
export interface Recording {
  answered(answer: IncomingMessage, fields: readonly string[]): void;
}

interface Body {
  chunks: Buffer[];
  size: number;
}

function collect(message: IncomingMessage): Body {
  const body: Body = { chunks: [], size: 0 };
  message.on('data', (chunk: Buffer) => {
    body.size += chunk.length;
    if (body.size <= longestBody) body.chunks.push(chunk);
    // Half a body is no use to anybody.
    else body.chunks.length = 0;
  });
  return body;
}

function decoded(bytes: Buffer, encoding: string | undefined): Buffer {
  try {
    if (encoding === 'gzip') return gunzipSync(bytes);
    if (encoding === 'br') return brotliDecompressSync(bytes);
    if (encoding === 'deflate') return inflateSync(bytes);
  } catch {
    // Cut off or mislabelled: it's kept as it came.
  }
  return bytes;
}

/** The path and query of a request-target, as `URL` takes them behind an origin. */
function readPath(target: string): string {
  const path = target.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '');
  return path.startsWith('/') ? path : `/${path}`;
}
