import type { IncomingMessage, ServerResponse } from 'node:http';
import { setTimeout as delay } from 'node:timers/promises';
import { nearMiss } from '../core/problem/near-miss.js';
import type { HarEntry } from './har.js';
import { leftOut } from './recorder.js';

export interface ReplayOptions {
  entries: readonly HarEntry[];
  /** Answer from the recording always, or only where the backend can't be reached. */
  isOnly: boolean;
  /** Take as long as the backend took. */
  withDelays: boolean;
}

/** Fields that concern the recorded message's form, not its content, which is kept decoded. */
const notReplayed = new Set(['content-length', 'content-encoding', 'transfer-encoding', 'connection', 'keep-alive', 'trailer']);

/** Answers from a recording: what was asked several times comes in the order in which it was recorded, the last one again and again. */
export class Replay {
  readonly isOnly: boolean;
  readonly #withDelays: boolean;
  readonly #entries = new Map<string, HarEntry[]>();

  constructor({ entries, isOnly, withDelays }: ReplayOptions) {
    this.isOnly = isOnly;
    this.#withDelays = withDelays;
    for (const entry of entries) {
      if (entry.response.content.comment === leftOut) continue;
      const key = keyOf(entry.request.method, pathOf(entry.request.url));
      this.#entries.set(key, [...(this.#entries.get(key) ?? []), entry]);
    }
  }

  has(request: IncomingMessage): boolean {
    return this.#entries.has(keyOf(request.method ?? 'GET', request.url ?? '/'));
  }

  /** Answers a request. Returns the status, or `undefined` where the recording has nothing for it. */
  async answer(request: IncomingMessage, response: ServerResponse): Promise<number | undefined> {
    const entries = this.#entries.get(keyOf(request.method ?? 'GET', request.url ?? '/'));
    request.resume();
    if (!entries) return undefined;
    const { response: recorded, time } = entries.length > 1 ? entries.shift()! : entries[0]!;
    if (this.#withDelays) await delay(time);
    const { text = '', encoding } = recorded.content;
    const body = Buffer.from(text, encoding === 'base64' ? 'base64' : 'utf8');
    const fields = recorded.headers.filter(({ name }) => !notReplayed.has(name.toLowerCase()));
    const hasBody = recorded.status !== 204 && recorded.status !== 304;
    response.writeHead(recorded.status, recorded.statusText, [
      ...fields.flatMap(({ name, value }) => [name, value]),
      ...(hasBody ? ['content-length', String(body.length)] : []),
    ]);
    response.end(request.method === 'HEAD' || !hasBody ? undefined : body);
    return recorded.status;
  }

  /** What to say where nothing was recorded. */
  explain(request: IncomingMessage): string {
    const key = keyOf(request.method ?? 'GET', request.url ?? '/');
    const guess = nearMiss(key, [...this.#entries.keys()]);
    return `The recording has no answer to ${key}.${guess ? ` It has one to ${guess}.` : ''} Record it with --record while the backend runs.`;
  }
}

function keyOf(method: string, path: string): string {
  return `${method.toUpperCase()} ${path}`;
}

function pathOf(url: string): string {
  if (!URL.canParse(url)) return url;
  const { pathname, search } = new URL(url);
  return pathname + search;
}
