import { readFileSync } from 'node:fs';
import { kindOfFile } from '../core/translate/kinds.js';
import { contentHash } from './content-hash.js';
import type { Paths } from './paths.js';

/** What a module's file holds: text where its kind is text, else bytes. */
export interface FileContent {
  content: string | Buffer;
  hash: string;
}

/** Reads a file as bytes; `undefined` where it has gone. */
export function readIfThere(path: string): Buffer | undefined {
  try {
    return readFileSync(path);
  } catch {
    return undefined; // it went between the event and now; the next event says so
  }
}

/** The hash that `ModuleFiles` has of a file; `undefined` where it can't be read. */
export function hashOfFile(path: string): string | undefined {
  const bytes = readIfThere(path);
  return bytes && contentHash(kindOfFile(path) === 'asset' ? bytes : bytes.toString());
}

/** The files of modules: reads them, and remembers by their hashes what of them was loaded. */
export class ModuleFiles {
  readonly #paths: Paths;
  /** Hashes of what was loaded, by module. */
  readonly #loaded = new Map<string, string>();
  /** What was found to be news and will be loaded next. */
  readonly #news = new Map<string, FileContent>();

  constructor(paths: Paths) {
    this.#paths = paths;
  }

  /** Whether something of a module's file was loaded. */
  isLoaded(id: string): boolean {
    return this.#loaded.has(id);
  }

  /** The hash of what was loaded of a module's file. */
  hashOf(id: string): string | undefined {
    return this.#loaded.get(id);
  }

  /** What a module's file holds now, if that is not what was loaded. */
  news(id: string): FileContent | undefined {
    const found = this.#read(id);
    return found && found.hash !== this.#loaded.get(id) ? found : undefined;
  }

  /** Whether there is news, which then is what is loaded next: it need not be read again. */
  hasNews(id: string): boolean {
    const found = this.news(id);
    if (found) this.#news.set(id, found);
    return found !== undefined;
  }

  /** What to load of a module's file; `undefined` where it can't be read. */
  load(id: string): FileContent | undefined {
    const found = this.#news.get(id) ?? this.#read(id);
    this.#news.delete(id);
    if (found) this.#loaded.set(id, found.hash);
    return found;
  }

  /** Forgets news that nobody loaded. */
  forgetNews(): void {
    this.#news.clear();
  }

  /** Forgets a module. */
  drop(id: string): void {
    this.#loaded.delete(id);
  }

  #read(id: string): FileContent | undefined {
    const [file, type] = id.split('?') as [string, string | undefined];
    const path = this.#paths.fileOf(file);
    const isText = type === undefined ? kindOfFile(file) !== 'asset' : type !== 'bytes' && type !== 'url';
    try {
      const content = isText ? readFileSync(path, 'utf8') : readFileSync(path);
      return { content, hash: contentHash(content) };
    } catch {
      return undefined; // as above, or it may not be read, which whoever loads it says
    }
  }
}
