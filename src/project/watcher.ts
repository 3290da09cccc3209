import { readFileSync, statSync } from 'node:fs';
import { relative, sep } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { type FSWatcher, watch } from 'chokidar';

/** Files that changed together. */
export interface FileChanges {
  /** `Date.now()` of the first change. */
  since: number;
  /** Absolute paths of files that changed or appeared. */
  written: Set<string>;
  appeared: Set<string>;
  disappeared: Set<string>;
}

export interface WatcherOptions {
  root: string;
  /** Absolute paths of folders to leave out, e.g. of the build's output. */
  ignored: readonly string[];
  /** Asked again and again instead of being told, for network file systems. */
  poll: boolean;
  onChanges(changes: FileChanges): void;
}

/** Changes that come within this time of each other belong together. */
const quietMs = 8;
/** An empty file may be one that is just being written: it gets this long. */
const emptyGraceMs = 150;
const alwaysIgnored = /(?:^|\/)(?:node_modules|\.git|\.hg|\.svn|\.cache)(?:\/|$)/;
/** What editors leave beside the file they save. */
const editorFile = /(?:~|\.sw[a-z]|\.tmp|\.bak|\.crswap|___jb_(?:tmp|old)___)$|(?:^|\/)(?:\.#|#.*#$|4913$)/;

/** Watches the project's folder and reports changes in groups. */
export class Watcher {
  readonly #options: WatcherOptions;
  readonly #watcher: FSWatcher;
  #pending: FileChanges | undefined;
  #timer: NodeJS.Timeout | undefined;
  #isClosed = false;

  constructor(options: WatcherOptions) {
    this.#options = options;
    this.#watcher = watch(options.root, {
      ignoreInitial: true,
      ignored: (path) => this.#isIgnored(path),
      usePolling: options.poll,
      // An editor that saves by renaming removes the file for a moment: one change, not two.
      atomic: true,
    });
    this.#watcher.on('all', (event, path) => this.#note(event, path));
  }

  /** Settles when every folder is being watched. */
  ready(): Promise<void> {
    return new Promise((resolve) => this.#watcher.once('ready', resolve));
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    await this.#watcher.close();
  }

  #isIgnored(path: string): boolean {
    const inside = relative(this.#options.root, path).split(sep).join('/');
    return (
      alwaysIgnored.test(inside) ||
      editorFile.test(inside) ||
      this.#options.ignored.some((folder) => path === folder || path.startsWith(folder + sep))
    );
  }

  #note(event: string, path: string): void {
    if (event !== 'add' && event !== 'change' && event !== 'unlink') return;
    this.#pending ??= { since: Date.now(), written: new Set(), appeared: new Set(), disappeared: new Set() };
    const { written, appeared, disappeared } = this.#pending;
    if (event === 'unlink') {
      written.delete(path);
      appeared.delete(path);
      disappeared.add(path);
    } else {
      disappeared.delete(path);
      written.add(path);
      if (event === 'add') appeared.add(path);
    }
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#flush(), quietMs);
  }

  async #flush(): Promise<void> {
    const changes = this.#pending;
    if (!changes) return;
    this.#pending = undefined;
    await waitForContent(changes.written);
    if (!this.#isClosed) this.#options.onChanges(changes);
  }
}

/** Editors that empty a file before they write it must not be read in between. */
async function waitForContent(paths: Iterable<string>): Promise<void> {
  const until = Date.now() + emptyGraceMs;
  let empty = [...paths].filter(isEmpty);
  while (empty.length > 0 && Date.now() < until) {
    await delay(5);
    empty = empty.filter(isEmpty);
  }
}

function isEmpty(path: string): boolean {
  return statSync(path, { throwIfNoEntry: false })?.size === 0;
}

/** Reads a file as bytes; `undefined` where it has gone. */
export function readIfThere(path: string): Buffer | undefined {
  try {
    return readFileSync(path);
  } catch {
    return undefined; // it went between the event and now; the next event says so
  }
}
