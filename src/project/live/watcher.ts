import { existsSync, lstatSync, readdirSync } from 'node:fs';
import { basename, dirname, join, relative, sep } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import type { FSWatcher } from 'chokidar';
import { statNow } from '../files/disk-files.js';

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
  /** A link came, went or leads elsewhere now, so that any path may mean another file. */
  isRelinked?: boolean;
}

export interface WatcherOptions {
  root: string;
  /** Absolute paths of folders to leave out, e.g. of the build's output. */
  ignored: readonly string[];
  /** Asked again and again instead of being told, for network file systems. */
  poll: boolean;
  /** Whether a file is in use: then its name doesn't tell that it's an editor's. */
  isUsed(path: string): boolean;
  /** The system lets no more be watched; from now on it's asked again and again. `code` is the system's. */
  onLimit(code: string): void;
  onChanges(changes: FileChanges): void;
  /** Files that will probably be among the next changes: what they need can be begun. */
  onSigns(paths: readonly string[]): void;
}

/** Changes that come within this time of each other belong together. */
const quietMs = 4;
const longestWaitMs = 250;
/** So many files at once are written by a program, e.g. by switching branches, which may stop for a moment in between. */
const bulkSize = 12;
const bulkQuietMs = 30;
const longestBulkMs = 5000;
/** Signs of changes are told together after this time. */
const signsMs = 1;
/** A folder that appeared is looked at again after these times: by then it's being watched. */
const lookAgainMs = [0, 60, 400];
/** An empty file may be one that is just being written, and one that went may be back in a moment: they get this long. */
const emptyGraceMs = 150;
const goneGraceMs = 100;
/** Clocks of file systems go in steps. */
const clockStepMs = 20;
/** How often files are asked for where the system doesn't tell. */
const pollEveryMs = 300;
/** What a system says where nothing more can be watched or opened. */
const limits = new Set(['ENOSPC', 'EMFILE', 'ENFILE', 'ENOMEM']);
const alwaysIgnored = /(?:^|\/)(?:node_modules|\.git|\.hg|\.svn|\.cache)(?:\/|$)/;
/** What editors leave beside the file they save. */
const editorFile = /(?:~|\.sw[a-z]|\.tmp|\.bak|\.crswap|___jb_(?:tmp|old)___)$|(?:^|\/)(?:\.#|#.*#$|4913$)/;

/**
 * Watches folders and reports changes of the files in them in groups. Only folders are watched, since a system tells of the
 * files in a folder too: what happened to a file, a look at it says when its group is complete.
 */
export class Watcher {
  readonly #options: WatcherOptions;
  #watcher: FSWatcher | undefined;
  /** Names of the files in each folder. */
  readonly #known = new Map<string, Set<string>>();
  /** Links. What is behind one isn't watched here: it is anyway where it's one of ours. */
  readonly #links = new Set<string>();
  /** `Date.now()` when folders that appeared were first listed. */
  readonly #listedAt = new Map<string, number>();
  #pending: { since: number; paths: Set<string> } | undefined;
  /** Files that were away: whoever looked meanwhile found nothing, so when they are back they count as new. */
  readonly #away = new Set<string>();
  #timer: NodeJS.Timeout | undefined;
  readonly #signs = new Set<string>();
  #isReady = false;
  #isClosed = false;

  readonly #folders: Set<string>;
  #isPolling: boolean;
  #takenOver: Promise<void> | undefined;

  constructor(options: WatcherOptions) {
    this.#options = options;
    this.#folders = new Set([options.root]);
    this.#isPolling = options.poll;
  }

  /** Begins to watch the root and other folders. Settles when every folder in them is being watched. */
  async begin(others: Iterable<string>): Promise<void> {
    for (const folder of others) this.#folders.add(folder);
    await this.#watch();
  }

  async #watch(): Promise<void> {
    const { watch } = await import('chokidar');
    if (this.#isClosed) return;
    const poll = this.#isPolling;
    const watcher = watch([...this.#folders], {
      ignored: (path, stats) =>
        this.#isLeftOut(path) || (stats !== undefined && !stats.isDirectory() && (!poll || this.#isIgnored(path))),
      usePolling: poll,
      interval: pollEveryMs,
      binaryInterval: pollEveryMs,
      // A link leads into what is watched anyway, or to where nothing is to be read; or round in circles.
      followSymlinks: false,
      ignorePermissionErrors: true,
    });
    this.#watcher = watcher;
    const failed = new Promise<string>((resolve) => {
      watcher.on('error', (error) => {
        const { code } = error as NodeJS.ErrnoException;
        if (code !== undefined && limits.has(code)) resolve(code);
      });
    });
    void failed.then((code) => this.#pollInstead(watcher, code));
    watcher.on('addDir', (folder) => this.#noteNewFolder(folder));
    watcher.on('unlinkDir', (folder) => this.#noteGone(folder));
    for (const event of ['add', 'change', 'unlink'] as const) watcher.on(event, (path) => this.#noteFile(event, path));
    watcher.on('raw', (_event, name, details) => this.#noteRaw(name, details as { watchedPath?: string }));
    const ready = new Promise<void>((resolve) => watcher.once('ready', () => resolve()));
    await Promise.race([ready, failed]);
    // Polling has taken over, and is ready when that is.
    if (this.#watcher !== watcher) return this.#takenOver;
    this.#isReady = true;
  }

  /** Goes on without being told by the system, and looks for what was missed meanwhile. */
  #pollInstead(watcher: FSWatcher, code: string): void {
    if (this.#isClosed || this.#watcher !== watcher || this.#isPolling) return;
    this.#isPolling = true;
    this.#watcher = undefined;
    const since = Date.now() - 10 * pollEveryMs;
    this.#options.onLimit(code);
    this.#takenOver = watcher.close().then(async () => {
      await this.#watch();
      this.catchUp(since, []);
    });
    this.#takenOver.catch(() => {}); // whoever waits for it is told
  }

  /** Watches another folder. */
  add(folder: string): void {
    this.#folders.add(folder);
    this.#watcher?.add(folder);
  }

  /** Reports files that were written after `time` (as of `Date.now()`), and those of `expected` that aren't there. */
  catchUp(time: number, expected: Iterable<string>): void {
    for (const [folder, names] of this.#known) {
      for (const name of names) {
        const stats = statNow(join(folder, name));
        if (stats && stats.ctimeMs < time - clockStepMs) continue;
        // Whoever asked for it before may have been told that it isn't there: it counts as new, unless it went.
        if (stats) names.delete(name);
        this.#note(join(folder, name));
      }
    }
    for (const path of expected) {
      const names = this.#known.get(dirname(path));
      if (!path.startsWith(this.#options.root + sep) || this.#isIgnored(path) || names?.has(basename(path))) continue;
      if (existsSync(path)) continue;
      this.#namesIn(dirname(path)).add(basename(path));
      this.#note(path);
    }
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    await this.#watcher?.close();
  }

  /** Whether a file means nothing: one of a folder that is left out, or what an editor leaves beside what it saves. */
  #isIgnored(path: string): boolean {
    return this.#isLeftOut(path) || (editorFile.test(path) && !this.#options.isUsed(path));
  }

  #isLeftOut(path: string): boolean {
    const inside = relative(this.#options.root, path).split(sep).join('/');
    return alwaysIgnored.test(inside) || this.#options.ignored.some((folder) => path === folder || path.startsWith(folder + sep));
  }

  #namesIn(folder: string): Set<string> {
    const known = this.#known.get(folder);
    if (known) return known;
    const names = new Set<string>();
    this.#known.set(folder, names);
    return names;
  }

  /** A folder is about to be watched: what happens in it until then is found by looking at it once more. */
  #noteNewFolder(folder: string): void {
    // It may have been listed before, when its own folder told of it.
    const from = (this.#listedAt.get(folder) ?? Date.now()) - clockStepMs;
    this.#noteFolder(folder);
    if (!this.#isReady) return;
    for (const delayMs of lookAgainMs) setTimeout(() => this.#noteWrittenSince(folder, from), delayMs);
  }

  #noteWrittenSince(folder: string, time: number): void {
    if (this.#isClosed) return;
    this.#noteFolder(folder);
    for (const name of this.#known.get(folder) ?? []) {
      const stats = statNow(join(folder, name));
      if (stats === undefined || stats.ctimeMs >= time) this.#note(join(folder, name));
    }
  }

  /** Takes down the files of a folder. Those that are new are told. */
  #noteFolder(folder: string): void {
    const names = this.#namesIn(folder);
    if (this.#isReady && !this.#listedAt.has(folder)) this.#listedAt.set(folder, Date.now());
    for (const entry of entriesOf(folder)) {
      const path = join(folder, entry.name);
      if (names.has(entry.name) || this.#isLeftOut(path) || (!entry.isDirectory() && this.#isIgnored(path))) continue;
      if (entry.isDirectory()) {
        if (this.#isReady && !this.#known.has(path)) this.#noteFolder(path);
      } else if (this.#isReady) this.#note(path);
      else names.add(entry.name);
      if (entry.isSymbolicLink()) this.#links.add(path);
    }
  }

  #noteGone(folder: string): void {
    for (const [known, names] of this.#known) {
      if (known !== folder && !known.startsWith(folder + sep)) continue;
      this.#listedAt.delete(known);
      for (const name of names) {
        this.#away.add(join(known, name));
        this.#note(join(known, name));
      }
    }
  }

  /** Comes from polling only. */
  #noteFile(event: 'add' | 'change' | 'unlink', path: string): void {
    if (event === 'add' && !this.#isReady) this.#namesIn(dirname(path)).add(basename(path));
    else this.#note(path);
  }

  #noteRaw(name: string | null, { watchedPath }: { watchedPath?: string }): void {
    if (watchedPath === undefined || !this.#isReady || this.#isPolling) return;
    if (name === null) {
      // Some systems don't say which file it was.
      for (const known of this.#known.get(watchedPath) ?? []) this.#note(join(watchedPath, known));
      return this.#noteFolder(watchedPath);
    }
    const path = join(watchedPath, name);
    if (!this.#isIgnored(path)) this.#note(path);
  }

  #note(path: string): void {
    this.#pending ??= { since: performance.now(), paths: new Set() };
    this.#pending.paths.add(path);
    if (this.#signs.size === 0) setTimeout(() => this.#tellSigns(), signsMs);
    this.#signs.add(path);
    this.#flushWhenQuiet(this.#pending);
  }

  #tellSigns(): void {
    const paths = [...this.#signs];
    this.#signs.clear();
    if (!this.#isClosed) this.#options.onSigns(paths);
  }

  #flushWhenQuiet({ since, paths }: { since: number; paths: Set<string> }): void {
    // Something that is written all the time, such as a log, must not keep everything else waiting.
    const isBulk = paths.size >= bulkSize;
    if (this.#timer && performance.now() - since > (isBulk ? longestBulkMs : longestWaitMs)) return;
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
    const pending = this.#pending;
    if (!pending) return;
    const { since, paths } = pending;
    // Git holds this file while it switches branches.
    const isBulk = paths.size >= bulkSize;
    if (isBulk && performance.now() - since < longestBulkMs && existsSync(join(this.#options.root, '.git/index.lock'))) {
      this.#timer = setTimeout(() => void this.#flush(), bulkQuietMs);
      return;
    }
    this.#pending = undefined;
    this.#timer = undefined;
    const changes: FileChanges = { since, written: new Set(), appeared: new Set(), disappeared: new Set() };
    await this.#lookAt(paths, changes);
    if (this.#isClosed || (changes.written.size + changes.disappeared.size === 0 && !changes.isRelinked)) return;
    this.#options.onChanges(changes);
  }

  /** Sees what became of files. One that is empty, or was there and isn't, is looked at again for a while. */
  async #lookAt(paths: Iterable<string>, changes: FileChanges): Promise<void> {
    const { written, appeared, disappeared } = changes;
    const began = performance.now();
    let open = [...paths];
    for (;;) {
      const waited = performance.now() - began;
      open = open.filter((path) => {
        const stats = statNow(path);
        const names = this.#namesIn(dirname(path));
        const isKnown = names.has(basename(path));
        const isLink = stats !== undefined && isLinkNow(path);
        if (this.#links.delete(path) || isLink) changes.isRelinked = true;
        if (isLink) this.#links.add(path);
        if (isLink && stats.isDirectory()) {
          names.add(basename(path));
          return false;
        }
        if (!stats?.isFile()) {
          // A folder that appeared: what is in it comes by itself.
          if (stats?.isDirectory() && !this.#known.has(path)) this.#noteFolder(path);
          if (isKnown && waited < goneGraceMs) {
            this.#away.add(path);
            return true;
          }
          this.#away.delete(path);
          if (!isKnown) return false;
          names.delete(basename(path));
          disappeared.add(path);
          return false;
        }
        if (stats.size === 0 && waited < emptyGraceMs) return true;
        written.add(path);
        if (this.#away.delete(path) || !isKnown) appeared.add(path);
        names.add(basename(path));
        return false;
      });
      if (open.length === 0 || this.#isClosed) return;
      await delay(5);
    }
  }
}

function isLinkNow(path: string): boolean {
  try {
    return lstatSync(path).isSymbolicLink();
  } catch {
    return false; // it went meanwhile
  }
}

function entriesOf(folder: string) {
  try {
    return readdirSync(folder, { withFileTypes: true });
  } catch {
    return []; // it went meanwhile, which will be told too
  }
}
