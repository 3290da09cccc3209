import { existsSync, readFileSync } from 'node:fs';
import { entriesOnDisk, type FolderEntries, kindOnDisk } from '../project/files/disk-files.js';
import { hashOfBytes } from '../project/files/module-files.js';

/** What a build looks at on disk beside what it reads modules from, by absolute paths. */
export class OtherFiles {
  /** Hashes of what was read; `''` for what somebody else read, `undefined` for what wasn't there. */
  readonly hashes = new Map<string, string | undefined>();
  readonly folders = new Map<string, FolderEntries | undefined>();
  readonly kinds = new Map<string, 'file' | 'folder' | undefined>();

  /** Reads a file. Throws what the system says. */
  read(path: string): Buffer {
    const bytes = readFileSync(path);
    this.hashes.set(path, hashOfBytes(path, bytes));
    return bytes;
  }

  /** Notes that somebody else reads a file, if it's there. */
  noteRead(path: string): void {
    if (!this.hashes.has(path)) this.hashes.set(path, existsSync(path) ? '' : undefined);
  }

  /** Notes that what is in a folder matters. */
  noteFolder(path: string): void {
    this.folders.set(path, entriesOnDisk(path));
  }

  /** Notes that it matters whether something is there. */
  noteKind(path: string): void {
    this.kinds.set(path, kindOnDisk(path));
  }
}
