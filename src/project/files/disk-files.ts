import { existsSync, mkdirSync, readdirSync, readFileSync, realpathSync, type Stats, statSync } from 'node:fs';
import { dirname } from 'node:path';
import type { Files } from '../../core/files.js';
import { contentHash } from '../../core/text/content-hash.js';

type Kind = 'file' | 'folder' | undefined;

/** Names in a folder with what they are. */
export type FolderEntries = ReadonlyMap<string, Kind | 'link'>;

/** What was asked of a disk, with its answers. */
export interface SeenOnDisk {
  /** Entries by folder; `undefined` for a folder that can't be read. */
  folders: ReadonlyMap<string, FolderEntries | undefined>;
  /** Kinds of what lies behind links. */
  links: ReadonlyMap<string, Kind>;
  realPaths: ReadonlyMap<string, string>;
  /** Hashes of texts; `undefined` for what can't be read. */
  texts: ReadonlyMap<string, string | undefined>;
}

/**
 * The disk, with what was asked before remembered until it's reported as changed. Folders are read whole: resolution asks
 * for many names in each of them, most of which aren't there.
 */
export class DiskFiles implements Files {
  /** By paths without links: changes are told of those. */
  readonly #folders = new Map<string, FolderEntries | undefined>();
  /** Paths of folders that go through links -> paths without them. */
  readonly #ways = new Map<string, string>();
  readonly #linked = new Map<string, Kind>();
  /** Where those links lead. */
  readonly #linkedTo = new Map<string, string | undefined>();
  readonly #realPaths = new Map<string, string>();
  readonly #texts = new Map<string, string | undefined>();

  /** What was asked so far and not forgotten. */
  get seen(): SeenOnDisk {
    return { folders: this.#folders, links: this.#linked, realPaths: this.#realPaths, texts: this.#texts };
  }

  kindOf(path: string): Kind {
    const cut = path.lastIndexOf('/');
    if (cut <= 0) return kindOnDisk(path);
    const kind = this.#entriesOf(path.slice(0, cut))?.get(path.slice(cut + 1));
    return kind === 'link' ? this.#behindLink(path) : kind;
  }

  readText(path: string): string | undefined {
    const text = textOnDisk(path);
    this.#texts.set(path, text === undefined ? undefined : contentHash(text));
    return text;
  }

  list(folder: string): string[] {
    return [...(this.#entriesOf(folder.length > 1 ? folder.replace(/\/$/, '') : folder)?.keys() ?? [])].sort();
  }

  realPath(path: string): string {
    const known = this.#realPaths.get(path);
    if (known !== undefined) return known;
    const cut = path.lastIndexOf('/');
    const name = path.slice(cut + 1);
    const entry = cut <= 0 ? 'link' : this.#entriesOf(path.slice(0, cut))?.get(name);
    if (entry !== 'link' && entry !== undefined) return `${this.#realFolder(path.slice(0, cut))}/${name}`;
    const real = realPathNow(path) ?? path;
    this.#realPaths.set(path, real);
    return real;
  }

  /** Forgets what is known of `path`. */
  forget(path: string): void {
    this.#folders.delete(path);
    this.#folders.delete(path.slice(0, path.lastIndexOf('/')));
    // Links that lead there, or led nowhere.
    for (const [link, real] of this.#linkedTo) {
      if (real !== undefined && real !== path) continue;
      this.#linked.delete(link);
      this.#linkedTo.delete(link);
      this.#realPaths.delete(link);
    }
    for (const way of this.#ways.keys()) if (way === path || way.startsWith(`${path}/`)) this.#ways.delete(way);
    this.#linked.delete(path);
    this.#linkedTo.delete(path);
    this.#realPaths.delete(path);
    this.#texts.delete(path);
  }

  forgetAll(): void {
    this.#folders.clear();
    this.#ways.clear();
    this.#linked.clear();
    this.#linkedTo.clear();
    this.#realPaths.clear();
    this.#texts.clear();
  }

  #entriesOf(folder: string): FolderEntries | undefined {
    const known = this.#folders.get(folder);
    if (known !== undefined || this.#folders.has(folder)) return known;
    const real = this.#ways.get(folder) ?? this.#wayTo(folder);
    if (real !== folder) return this.#entriesOf(real);
    const entries = entriesOnDisk(folder);
    this.#folders.set(folder, entries);
    return entries;
  }

  /** The path of a folder without links, as far as there is anything. */
  #wayTo(folder: string): string {
    let there = folder;
    let real = realPathNow(there);
    while (real === undefined && there.lastIndexOf('/') > 0) {
      there = there.slice(0, there.lastIndexOf('/'));
      real = realPathNow(there);
    }
    if (real === undefined || real === there) return folder;
    this.#realPaths.set(there, real);
    const way = real + folder.slice(there.length);
    this.#ways.set(folder, way);
    return way;
  }

  #behindLink(path: string): Kind {
    if (this.#linked.has(path)) return this.#linked.get(path);
    const kind = kindOnDisk(path);
    this.#linked.set(path, kind);
    this.#linkedTo.set(path, realPathNow(path));
    return kind;
  }

  #realFolder(folder: string): string {
    const known = this.#realPaths.get(folder);
    if (known !== undefined) return known;
    const real = realPathNow(folder) ?? folder;
    this.#realPaths.set(folder, real);
    return real;
  }
}

function textOnDisk(path: string): string | undefined {
  // Reading a pipe would never end.
  if (!statNow(path)?.isFile()) return undefined;
  try {
    return readFileSync(path, 'utf8');
  } catch {
    return undefined; // missing, a folder, or not ours to read: for whoever asks it isn't there
  }
}

/** What is there; links are followed. */
export function kindOnDisk(path: string): Kind {
  const stats = statNow(path);
  return stats?.isFile() ? 'file' : stats?.isDirectory() ? 'folder' : undefined;
}

/** The state of what is at a path, links followed; `undefined` for whatever can't be looked at. */
export function statNow(path: string): Stats | undefined {
  try {
    return statSync(path, { throwIfNoEntry: false });
  } catch {
    return undefined; // a circle of links, a name that is too long, a folder that may not be entered: nobody can read it
  }
}

/** A path with all links followed; `undefined` where there is nothing. */
export function realPathNow(path: string): string | undefined {
  try {
    return realpathSync.native(path);
  } catch {
    return undefined; // as above
  }
}

/** Reads a folder. */
export function entriesOnDisk(folder: string): FolderEntries | undefined {
  try {
    const entries = readdirSync(folder, { withFileTypes: true });
    return new Map(
      entries.map((entry) => [
        entry.name,
        entry.isFile() ? 'file' : entry.isDirectory() ? 'folder' : entry.isSymbolicLink() ? 'link' : undefined,
      ]),
    );
  } catch {
    return undefined; // no folder, or one that may not be read
  }
}

/**
 * Makes a folder and those above it, one after the other: some file systems never answer to a request for several (Node.js 20, /proc).
 * Throws what the system says.
 */
export function makeFolder(path: string): void {
  if (existsSync(path)) return;
  makeFolder(dirname(path));
  try {
    mkdirSync(path);
  } catch (error) {
    if (!existsSync(path)) throw error; // else another process made it meanwhile
  }
}
