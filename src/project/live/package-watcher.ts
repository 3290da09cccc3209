import { existsSync } from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { type FSWatcher, watch } from 'chokidar';
import { entriesOnDisk, statNow } from '../files/disk-files.js';

export interface PackageWatcherOptions {
  root: string;
  /** Some package is missing, so its install may be under way already. */
  isAwaited: boolean;
  /** `Date.now()` before any file of a package was read. */
  since: number;
  /**
   * Packages were installed, upgraded, linked or edited. `since`: `performance.now()` of the first sign of it; `files`: those of the
   * followed ones of which that is known.
   */
  onChange(since: number, files: ReadonlySet<string>): void;
  /** The system lets no more be watched. */
  onLimit(code: string): void;
}

/** Installing takes a while and touches many files; it's over when nothing has happened for this long. */
const quietMs = 250;
/** Files are looked at again after these times: by then they are being watched. */
const lookAgainMs = [50, 400];
/** Clocks of file systems go in steps. */
const clockStepMs = 20;
/** What package managers write last into `node_modules`. */
const markers = new Set(['.package-lock.json', '.modules.yaml', '.yarn-state.yml', '.yarn-integrity']);

/**
 * Watches the files that were taken out of packages, and the `node_modules` folders in which packages come and go. What
 * exactly changed is not told of all: whoever asks compares contents, since package managers replace whole folders.
 */
export class PackageWatcher {
  readonly #options: PackageWatcherOptions;
  readonly #watcher: FSWatcher;
  #files = new Set<string>();
  /** Files of which something was told since the last report. */
  #changed = new Set<string>();
  #timer: NodeJS.Timeout | undefined;
  #since: number | undefined;
  /** `Date.now()` from which on nothing was told yet. */
  #untoldFrom: number;
  /** The times of files that were told without the watcher; `undefined` for those that were gone. */
  readonly #told = new Map<string, number | undefined>();
  #isClosed = false;

  constructor(options: PackageWatcherOptions) {
    this.#options = options;
    this.#untoldFrom = options.since;
    this.#watcher = watch(packageFolders(options.root), {
      ignoreInitial: true,
      depth: 0,
      ignored: (path, stats) => stats?.isFile() === true && !this.#files.has(path) && !markers.has(basename(path)),
    });
    let isTold = false;
    this.#watcher.on('error', (error) => {
      const { code } = error as NodeJS.ErrnoException;
      if (!isTold && (code === 'ENOSPC' || code === 'EMFILE')) options.onLimit(code);
      isTold = true;
    });
    this.#watcher.on('all', (_event, path) => this.#note([path]));
    // A package whose folder is replaced by another or by a link within a moment: the watcher sees what was there before.
    this.#watcher.on('raw', (event, name, details) => {
      const { watchedPath = '' } = details as { watchedPath?: string };
      const isFolderOfPackages = /(?:^|[/\\])(?:node_modules|@[^/\\]+)$/.test(watchedPath);
      if (event === 'rename' && isFolderOfPackages && typeof name === 'string' && !name.startsWith('.')) this.#note([]);
    });
    this.#watchScopes();
    // What was installed before the watcher stood is not missed.
    if (options.isAwaited) this.#watcher.once('ready', () => this.#note([]));
  }

  /** A package with a scope comes and goes in a folder of its own. */
  #watchScopes(): void {
    for (const folder of packageFolders(this.#options.root))
      for (const name of entriesOnDisk(folder)?.keys() ?? []) if (name.startsWith('@')) this.#watcher.add(join(folder, name));
  }

  /** Whether a file is among those that are watched. */
  follows(file: string): boolean {
    return this.#files.has(file);
  }

  /** Watches these files too. What changed since they were read, or last watched, is told as well. */
  follow(files: ReadonlySet<string>): void {
    const fresh = [...files].filter((file) => !this.#files.has(file));
    if (fresh.length === 0) return;
    this.#files = new Set(files);
    this.#watcher.add(fresh);
    for (const delayMs of lookAgainMs) setTimeout(() => this.#noteMissed(fresh), delayMs).unref();
  }

  /** Until files were being watched nobody told what became of them. */
  #noteMissed(files: readonly string[]): void {
    if (this.#isClosed) return;
    const missed = files.filter((file) => this.#files.has(file) && this.#isMissed(file));
    if (missed.length > 0) this.#note(missed);
  }

  /** Whether a file is another one than when all was told last. One that is gone, or is of a time to come, is so once. */
  #isMissed(file: string): boolean {
    const time = statNow(file)?.ctimeMs;
    if (time !== undefined && time < this.#untoldFrom - clockStepMs) return false;
    const isTold = this.#told.has(file) && this.#told.get(file) === time;
    this.#told.set(file, time);
    return !isTold;
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    await this.#watcher.close();
  }

  #note(paths: readonly string[]): void {
    for (const path of paths) if (this.#files.has(path)) this.#changed.add(path);
    this.#since ??= performance.now();
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => {
      const since = this.#since!;
      this.#since = undefined;
      // Something else may have led here before the watcher stood, or before these were looked at.
      for (const file of this.#files) if (this.#isMissed(file)) this.#changed.add(file);
      this.#untoldFrom = Date.now();
      this.#watchScopes();
      // Replaced files are other files for the system: they are watched anew.
      const files = this.#files;
      this.#files = new Set();
      this.#watcher.unwatch([...files]);
      const changed = this.#changed;
      this.#changed = new Set();
      this.#options.onChange(since, changed);
    }, quietMs);
  }
}

/** The `node_modules` folders that resolution looks into: that of the project, there or not yet, and those above it. */
function packageFolders(root: string): string[] {
  const folders = [join(root, 'node_modules')];
  for (let at = dirname(root); at !== dirname(at); at = dirname(at)) {
    const folder = join(at, 'node_modules');
    if (existsSync(folder)) folders.push(folder);
  }
  return folders;
}
