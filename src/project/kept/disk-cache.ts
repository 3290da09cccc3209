import { existsSync, mkdirSync, readdirSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { PackedFile } from './packed-file.js';

/** Values that wait are written in portions of this many, so that requests come in between. */
const portion = 100;
const mostBytes = 256 << 20;
/** Writing waits until the project has been quiet for so long. */
const quietMs = 200;
const fileName = 'modules.kept';

/**
 * What earlier runs of a project made, kept by the hash of everything it was made of, so that nothing in it is ever wrong,
 * only unused. Several servers may use one folder at once. A cache that can't be used is dropped: it only costs time.
 */
export class DiskCache {
  readonly #waiting = new Map<string, () => string>();
  readonly #used = new Set<string>();
  readonly #onNote: (note: string) => void;
  readonly #limit: number;
  #file: PackedFile | undefined;
  #timer: NodeJS.Timeout | undefined;
  #mayWrite = false;
  #hasDamage = false;
  #writing: Promise<void> = Promise.resolve();

  private constructor(file: PackedFile, onNote: (note: string) => void, limit: number) {
    this.#file = file;
    this.#onNote = onNote;
    this.#limit = limit;
  }

  /**
   * Opens the cache in a folder; `undefined` where that can't be. `onNote` is told what the user should know. Beyond `limit`
   * bytes, entries that this run did not use are dropped.
   */
  static async open(folder: string, onNote: (note: string) => void, limit = mostBytes): Promise<DiskCache | undefined> {
    try {
      mkdirSync(folder, { recursive: true });
      dropOlderForms(folder);
      const onDamage = (why: string) => onNote(`what was kept is dropped, as far as it is damaged, and made anew: ${why}`);
      return new DiskCache(PackedFile.open(join(folder, fileName), onDamage), onNote, limit);
    } catch (error) {
      onNote(`nothing is kept for the next start: ${error instanceof Error ? error.message : String(error)}`);
      return undefined;
    }
  }

  get(key: string): string | undefined {
    const waiting = this.#waiting.get(key);
    if (waiting !== undefined) return waiting();
    if (!this.#file?.has(key)) return undefined;
    try {
      const value = this.#file.get(key);
      if (value !== undefined) this.#used.add(key);
      else this.#damaged();
      return value;
    } catch {
      this.#damaged(); // the disk can't be read there; it's made anew
      return undefined;
    }
  }

  /** Keeps a value, which is asked for when it's written; see `writeAll`. */
  put(key: string, value: () => string): void {
    if (!this.#file) return;
    this.#waiting.set(key, value);
    this.#used.add(key);
    this.#writeWhenQuiet();
  }

  /** Most of what is there was read. */
  settle(): void {
    this.#file?.settle();
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
    this.#file?.close();
    this.#file = undefined;
  }

  #damaged(): void {
    if (!this.#hasDamage) this.#onNote('some of what was kept is damaged and made anew');
    this.#hasDamage = true;
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
    try {
      while (this.#file && this.#waiting.size > 0) {
        const some = [...this.#waiting].slice(0, portion);
        this.#file.put(some.map(([key, value]) => [key, value()] as const));
        for (const [key, value] of some) if (this.#waiting.get(key) === value) this.#waiting.delete(key);
        await new Promise((resolve) => setImmediate(resolve));
      }
      // Half of the room stays free, or the next run would have to do it again.
      if (this.#file && this.#file.bytes > this.#limit) this.#file.keepOnly((key) => this.#used.has(key));
    } catch (error) {
      // The disk is full, or the folder may not be written any more.
      this.#waiting.clear();
      this.#onNote(`nothing more is kept for the next start: ${error instanceof Error ? error.message : String(error)}`);
      this.#file?.close();
      this.#file = undefined;
    }
  }
}

/** Earlier versions kept a folder or files of another form. */
function dropOlderForms(folder: string): void {
  for (const name of readdirSync(folder))
    if (/^(?:modules(?:-lock)?|reading-\d+)$/.test(name)) rmSync(join(folder, name), { recursive: true, force: true });
}

/** Takes away everything that is kept for later starts, but for the lists of builds. */
export function forgetKept(folder: string): void {
  if (!existsSync(folder)) return;
  for (const name of readdirSync(folder))
    if (name === fileName || /^(?:start|build)-/.test(name)) rmSync(join(folder, name), { recursive: true, force: true });
}
