import { readdirSync, readFileSync, realpathSync, statSync } from 'node:fs';
import type { Files } from '../core/files.js';

/** The disk, with what was asked before remembered until it's reported as changed. */
export class DiskFiles implements Files {
  readonly #kinds = new Map<string, 'file' | 'folder' | undefined>();
  readonly #realPaths = new Map<string, string>();

  kindOf(path: string): 'file' | 'folder' | undefined {
    if (this.#kinds.has(path)) return this.#kinds.get(path);
    const stats = statSync(path, { throwIfNoEntry: false });
    const kind = stats?.isFile() ? 'file' : stats?.isDirectory() ? 'folder' : undefined;
    this.#kinds.set(path, kind);
    return kind;
  }

  readText(path: string): string | undefined {
    try {
      return readFileSync(path, 'utf8');
    } catch {
      return undefined; // missing, a folder, or not ours to read: for whoever asks it isn't there
    }
  }

  list(folder: string): string[] {
    return this.kindOf(folder) === 'folder' ? readdirSync(folder).sort() : [];
  }

  realPath(path: string): string {
    const known = this.#realPaths.get(path);
    if (known) return known;
    const real = realpathSync(path);
    this.#realPaths.set(path, real);
    return real;
  }

  /** Forgets what is known of `path`. */
  forget(path: string): void {
    this.#kinds.delete(path);
    this.#realPaths.delete(path);
  }

  forgetAll(): void {
    this.#kinds.clear();
    this.#realPaths.clear();
  }
}
