import { existsSync, readFileSync, statSync } from 'node:fs';
import { join, relative, sep } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { type FSWatcher, watch } from 'chokidar';

/** Files that changed together. */
export interface FileChanges {
  /** `performance.now()` of the first change: the time of day may be set back. */
  since: number;
  /** Absolute paths of files that changed or appeared. */
  written: Set<string>;
  appeared: Set<string>;
  disappeared: Set<string>;
  /** Something in packages changed, who knows what. */
  isInPackages?: boolean;
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
const quietMs = 10;
const longestWaitMs = 250;
/** So many files at once are written by a program, e.g. by switching branches, which may stop for a moment in between. */
const bulkSize = 12;
const bulkQuietMs = 80;
const longestBulkMs = 5000;
/** The watcher reports a file at most once in 50 ms: what is written within that time is found by looking again. */
const lookAgainMs = 70;
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
  readonly #lookingAgain = new Set<NodeJS.Timeout>();

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
    // Comes before the watcher has looked at the file: more is on its way, so what has come waits a little longer.
    this.#watcher.on('raw', () => {
      if (this.#pending) this.#flushWhenQuiet();
    });
  }

  /** Watches another folder. */
  add(folder: string): void {
    this.#watcher.add(folder);
  }

  /** Settles when every folder is being watched. */
  ready(): Promise<void> {
    return new Promise((resolve) => this.#watcher.once('ready', resolve));
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    for (const timer of this.#lookingAgain) clearTimeout(timer);
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
    this.#pending ??= { since: performance.now(), written: new Set(), appeared: new Set(), disappeared: new Set() };
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
    this.#flushWhenQuiet();
  }

  #flushWhenQuiet(): void {
    // Something that is written all the time, such as a log, must not keep everything else waiting.
    const { since, written, disappeared } = this.#pending!;
    const isBulk = written.size + disappeared.size >= bulkSize;
    if (performance.now() - since > (isBulk ? longestBulkMs : longestWaitMs)) return;
    clearTimeout(this.#timer);
    const timer = setTimeout(
      () => {
        // A busy process runs its timers late: events that are waiting to be read come first.
        setImmediate(() => {
          if (this.#timer === timer) void this.#flush();
        });
      },
      isBulk ? bulkQuietMs : quietMs,
    );
    this.#timer = timer;
  }

  async #flush(): Promise<void> {
    const changes = this.#pending;
    if (!changes) return;
    // Git holds this file while it switches branches.
    const isBulk = changes.written.size + changes.disappeared.size >= bulkSize;
    if (isBulk && performance.now() - changes.since < longestBulkMs && existsSync(join(this.#options.root, '.git/index.lock'))) {
      this.#timer = setTimeout(() => void this.#flush(), bulkQuietMs);
      return;
    }
    this.#pending = undefined;
    await waitForContent(changes.written);
    if (this.#isClosed) return;
    this.#lookAgain(changes.written);
    this.#options.onChanges(changes);
  }

  /** Reports files again that were written once more since now. */
  #lookAgain(paths: ReadonlySet<string>): void {
    const before = new Map([...paths].map((path) => [path, signatureOf(path)]));
    const timer = setTimeout(() => {
      this.#lookingAgain.delete(timer);
      for (const [path, signature] of before) {
        const now = signatureOf(path);
        if (now !== signature && now !== undefined) this.#note('change', path);
      }
    }, lookAgainMs);
    this.#lookingAgain.add(timer);
  }
}

/** Editors that empty a file before they write it must not be read in between. */
async function waitForContent(paths: Iterable<string>): Promise<void> {
  const until = performance.now() + emptyGraceMs;
  let empty = [...paths].filter(isEmpty);
  while (empty.length > 0 && performance.now() < until) {
    await delay(5);
    empty = empty.filter(isEmpty);
  }
}

/** Changes with every write to a file; `undefined` where there is none. */
function signatureOf(path: string): string | undefined {
  const stats = statSync(path, { throwIfNoEntry: false });
  return stats && `${stats.mtimeMs} ${stats.size} ${stats.ino}`;
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
