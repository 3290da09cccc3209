import { existsSync } from 'node:fs';
import { basename, dirname, join } from 'node:path';
import { type FSWatcher, watch } from 'chokidar';

export interface PackageWatcherOptions {
  root: string;
  /** Some package is missing, so its install may be under way already. */
  isAwaited: boolean;
  /** Packages were installed, upgraded, linked or edited. `since`: `performance.now()` of the first sign of it. */
  onChange(since: number): void;
  /** The system lets no more be watched. */
  onLimit(code: string): void;
}

/** Installing takes a while and touches many files; it's over when nothing has happened for this long. */
const quietMs = 250;
/** What package managers write last into `node_modules`. */
const markers = new Set(['.package-lock.json', '.modules.yaml', '.yarn-state.yml', '.yarn-integrity']);

/**
 * Watches the files that were taken out of packages, and the `node_modules` folders in which packages come and go. What
 * exactly changed is not told: whoever asks compares contents, since package managers replace whole folders.
 */
export class PackageWatcher {
  readonly #options: PackageWatcherOptions;
  readonly #watcher: FSWatcher;
  #files = new Set<string>();
  #timer: NodeJS.Timeout | undefined;
  #since: number | undefined;

  constructor(options: PackageWatcherOptions) {
    this.#options = options;
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
    this.#watcher.on('all', () => this.#note());
    // A package whose folder is replaced by another or by a link within a moment: the watcher sees what was there before.
    this.#watcher.on('raw', (event, name, details) => {
      const { watchedPath = '' } = details as { watchedPath?: string };
      const isFolderOfPackages = /(?:^|[/\\])(?:node_modules|@[^/\\]+)$/.test(watchedPath);
      if (event === 'rename' && isFolderOfPackages && typeof name === 'string' && !name.startsWith('.')) this.#note();
    });
    // What was installed before the watcher stood is not missed.
    if (options.isAwaited) this.#watcher.once('ready', () => this.#note());
  }

  /** Watches these files too. */
  follow(files: ReadonlySet<string>): void {
    const fresh = [...files].filter((file) => !this.#files.has(file));
    if (fresh.length === 0) return;
    this.#files = new Set(files);
    this.#watcher.add(fresh);
  }

  async close(): Promise<void> {
    clearTimeout(this.#timer);
    await this.#watcher.close();
  }

  #note(): void {
    this.#since ??= performance.now();
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => {
      const since = this.#since!;
      this.#since = undefined;
      // Replaced files are other files for the system: they are watched anew.
      const files = this.#files;
      this.#files = new Set();
      this.#watcher.unwatch([...files]);
      this.#options.onChange(since);
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
