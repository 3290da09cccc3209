import { closeSync, existsSync, mkdirSync, openSync, readdirSync, readSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import type { RootDatabase } from 'lmdb';

/** Values that wait are written in portions of this many, so that requests come in between. */
const portion = 100;
const mostBytes = 256 << 20;
/** Bytes of a key that the database takes. */
const longestKey = 1900;
/** Writing waits until the project has been quiet for so long. */
const quietMs = 200;

/**
 * What earlier runs of a project made, kept by the hash of everything it was made of, so that nothing in it is ever wrong,
 * only unused. Several servers may use one folder at once. A cache that can't be used is dropped: it only costs time.
 */
export class DiskCache {
  readonly #folder: string;
  readonly #marker: string;
  readonly #waiting = new Map<string, () => string>();
  readonly #used = new Set<string>();
  #database: RootDatabase<string, string> | undefined;
  #timer: NodeJS.Timeout | undefined;
  #mayWrite = false;
  #writing: Promise<void> = Promise.resolve();
  readonly #limit: number;

  private constructor(folder: string, database: RootDatabase<string, string>, limit: number) {
    this.#limit = limit;
    this.#folder = folder;
    this.#marker = join(folder, `reading-${process.pid}`);
    this.#database = database;
  }

  /**
   * Opens the cache in a folder; `undefined` where that can't be. `onNote` is told what the user should know. Beyond `limit`
   * bytes, entries that this run did not use are dropped.
   */
  static async open(folder: string, onNote: (note: string) => void, limit = mostBytes): Promise<DiskCache | undefined> {
    try {
      mkdirSync(folder, { recursive: true });
      const damage = damageOf(folder);
      if (damage !== undefined) drop(folder, damage, onNote);
      const { open } = await import('lmdb');
      const openHere = () =>
        open<string, string>({ path: join(folder, 'modules'), encoding: 'string', noSync: true, maxReaders: 64 });
      let database: RootDatabase<string, string>;
      try {
        database = openHere();
      } catch (error) {
        drop(folder, error instanceof Error ? error.message : String(error), onNote);
        database = openHere();
      }
      const cache = new DiskCache(folder, database, limit);
      // Should reading crash the process, the next one sees this and starts afresh.
      writeFileSync(cache.#marker, '');
      return cache;
    } catch (error) {
      onNote(`nothing is kept for the next start: ${error instanceof Error ? error.message : String(error)}`);
      return undefined;
    }
  }

  get(key: string): string | undefined {
    const waiting = this.#waiting.get(key);
    if (waiting !== undefined) return waiting();
    try {
      const value = this.#database?.get(key);
      if (value !== undefined) this.#used.add(key);
      return value;
    } catch {
      return undefined; // made by something else: it's made anew and written over
    }
  }

  /** Keeps a value, which is asked for when it's written; see `writeAll`. */
  put(key: string, value: () => string): void {
    if (!this.#database || Buffer.byteLength(key) > longestKey) return;
    this.#waiting.set(key, value);
    this.#used.add(key);
    this.#writeWhenQuiet();
  }

  /** Reading went well up to here. */
  settle(): void {
    rmSync(this.#marker, { force: true });
  }

  /** Writes what was put. From now on, more is written whenever nothing else is going on; before, only in the end. */
  async writeAll(): Promise<void> {
    this.#mayWrite = true;
    this.#writing = this.#writing.then(() => this.#write());
    await this.#writing;
  }

  async close(): Promise<void> {
    clearTimeout(this.#timer);
    await this.#writing;
    await this.#write();
    rmSync(this.#marker, { force: true });
    const database = this.#database;
    this.#database = undefined;
    await database?.close();
  }

  #writeWhenQuiet(): void {
    clearTimeout(this.#timer);
    if (this.#waiting.size === 0 || !this.#mayWrite) return;
    this.#timer = setTimeout(() => {
      this.#writing = this.#writing.then(() => this.#write());
    }, quietMs);
    this.#timer.unref();
  }

  async #write(): Promise<void> {
    const database = this.#database;
    if (!database) return;
    try {
      while (this.#waiting.size > 0) {
        const some = [...this.#waiting].slice(0, portion);
        await Promise.all(some.map(([key, value]) => database.put(key, value())));
        for (const [key, value] of some) if (this.#waiting.get(key) === value) this.#waiting.delete(key);
      }
      await this.#bound(database);
    } catch {
      this.#waiting.clear(); // the disk is full, or the folder went away: the next start makes it anew
    }
  }

  /** Drops what this run did not use where the file has grown too large. Freed room is used again. */
  async #bound(database: RootDatabase<string, string>): Promise<void> {
    if (sizeOf(join(this.#folder, 'modules')) < this.#limit) return;
    for (const key of database.getKeys()) if (!this.#used.has(key)) await database.remove(key);
  }
}

/** What is wrong with a cache folder, as far as it can be told without reading the entries. */
function damageOf(folder: string): string | undefined {
  const marker = readdirSync(folder).find(
    (name) => name.startsWith('reading-') && !isRunning(Number(name.slice('reading-'.length))),
  );
  if (marker !== undefined) return 'an earlier start ended while reading it';
  const file = join(folder, 'modules');
  if (!existsSync(file)) return undefined;
  const data = statSync(file).isDirectory() ? join(file, 'data.mdb') : file;
  return existsSync(data) ? damageOfFile(data) : undefined;
}

/**
 * The first two pages of an LMDB file each hold a magic number at byte 24, the page size at 48, the number of the last page
 * at 144 and a transaction number at 152. A file shorter than the newer of them says was cut off, and reading it could crash.
 */
function damageOfFile(file: string): string | undefined {
  const { size } = statSync(file);
  if (size === 0) return undefined;
  const head = Buffer.alloc(160);
  const descriptor = openSync(file, 'r');
  try {
    const metas = [0, pageSizeAt(descriptor, head)].map((at) => {
      readSync(descriptor, head, 0, head.length, at);
      const isOurs = head.readUInt32LE(24) === lmdbMagic;
      return {
        isOurs,
        pageSize: head.readUInt32LE(48),
        lastPage: head.readBigUInt64LE(144),
        transaction: head.readBigUInt64LE(152),
      };
    });
    if (!metas.every(({ isOurs }) => isOurs)) return 'it is not ours';
    const [newer] = metas.sort((a, b) => (a.transaction < b.transaction ? 1 : -1));
    return BigInt(size) < (newer!.lastPage + 1n) * BigInt(newer!.pageSize) ? 'it is incomplete' : undefined;
  } finally {
    closeSync(descriptor);
  }
}

const lmdbMagic = 0xbeefc0de;

function pageSizeAt(descriptor: number, head: Buffer): number {
  readSync(descriptor, head, 0, head.length, 0);
  return head.readUInt32LE(48);
}

function drop(folder: string, why: string, onNote: (note: string) => void): void {
  for (const name of readdirSync(folder))
    if (name.startsWith('modules') || name.startsWith('reading-')) rmSync(join(folder, name), { recursive: true, force: true });
  onNote(`the cache was dropped and is made anew: ${why}`);
}

function isRunning(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'EPERM';
  }
}

function sizeOf(path: string): number {
  const stats = statSync(path, { throwIfNoEntry: false });
  if (!stats?.isDirectory()) return stats?.size ?? 0;
  return readdirSync(path).reduce((sum, name) => sum + sizeOf(join(path, name)), 0);
}
