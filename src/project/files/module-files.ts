import { readFileSync } from 'node:fs';
import { kindOfFile } from '../../core/file-kinds.js';
import { fileOfId, splitId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { Problem } from '../../core/problem/problem.js';
import { explainRefusal } from '../../core/resolve/explain-failure.js';
import { contentHash } from '../../core/text/content-hash.js';
import { realPathNow, statNow } from './disk-files.js';
import type { FileGate } from './file-gate.js';

/** What a module's file holds: text where its kind is text, else bytes. */
export interface FileContent {
  content: string | Buffer;
  hash: string;
}

/** Reads a file as bytes; `undefined` where it has gone. */
export function readIfThere(path: string): Buffer | undefined {
  if (!statNow(path)?.isFile()) return undefined;
  try {
    return readFileSync(path);
  } catch {
    return undefined; // it went between the event and now; the next event says so
  }
}

/** The hash that `ModuleFiles` has of a file; `undefined` where it can't be read. */
export function hashOfFile(path: string): string | undefined {
  const bytes = readIfThere(path);
  return bytes && hashOfBytes(path, bytes);
}

/** The same of what was read of it. */
export function hashOfBytes(path: string, bytes: Buffer): string {
  return contentHash(kindOfFile(path) === 'asset' ? bytes : bytes.toString());
}

/** Texts that are longer can't be worked with in any reasonable time. */
const longestFile = 64 << 20;

/** The files of modules: reads them, and remembers by their hashes what of them was loaded. */
export class ModuleFiles {
  readonly #paths: Paths;
  /** Hashes of what was loaded, by module. */
  readonly #loaded = new Map<string, string>();
  /** What was found to be news and will be loaded next. */
  readonly #news = new Map<string, FileContent>();

  readonly #gate: FileGate;

  constructor(paths: Paths, gate: FileGate) {
    this.#paths = paths;
    this.#gate = gate;
  }

  /** Why `load` gave nothing. */
  problemOf(id: string): Problem {
    const file = fileOfId(id);
    const path = this.#paths.fileOf(file);
    const real = realPathNow(path);
    const why = real === undefined ? undefined : this.#gate.refusal(path, real);
    const told = { severity: 'error', file } as const;
    if (real !== undefined && why !== undefined) return { ...told, ...explainRefusal({ why, file: real }, file) };
    const size = statNow(path)?.size;
    if (size !== undefined && size > longestFile)
      return {
        ...told,
        code: 'file-too-large',
        message: `${file} has ${Math.round(size / 2 ** 20)} MB, and more than ${longestFile >> 20} MB are not read.`,
        hint: 'Let the page fetch it, or divide it.',
      };
    return size === undefined
      ? {
          ...told,
          code: 'file-missing',
          message: `${file} is not there any more.`,
          hint: 'Bring it back, or take out what names it.',
        }
      : { ...told, code: 'file-unreadable', message: `${file} cannot be read.`, hint: 'Look at its permissions.' };
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
    // When it's back it's news, the same or not.
    else this.#loaded.delete(id);
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
    const { file, type } = splitId(id);
    const path = this.#paths.fileOf(file);
    const isText = type === undefined ? kindOfFile(file) !== 'asset' : type !== 'bytes' && type !== 'url' && type !== 'instance';
    const stats = statNow(path);
    // Not a pipe or a device, which would never end.
    if (!stats?.isFile() || stats.size > longestFile || !this.#gate.mayRead(path)) return undefined;
    try {
      const content = isText ? readFileSync(path, 'utf8') : readFileSync(path);
      return { content, hash: contentHash(content) };
    } catch {
      return undefined; // as above, or it may not be read, which whoever loads it says
    }
  }
}
