import { unwatchFile, watchFile } from 'node:fs';
import { dirname } from 'node:path';
import { fileOfId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { PackageFiles } from '../../core/resolve/package-json.js';
import { ownIdPrefix } from '../../core/urls.js';
import { statNow } from '../files/disk-files.js';
import type { PackageWatcher } from './package-watcher.js';
import { type FileChanges, Watcher } from './watcher.js';

export interface ProjectWatchOptions {
  root: string;
  /** Absolute paths of folders whose changes mean nothing. */
  ignored: readonly string[];
  poll: boolean;
  paths: Paths;
  packages: PackageFiles;
  /** Ids of the modules in use, and of those that can't be made. */
  modules(): Iterable<string>;
  /** Ids of the files that went into modules beside their own, there or not. */
  inputs(): Iterable<string>;
  /** Whether a file (absolute path) is in use. */
  isUsed(path: string): boolean;
  /** Absolute paths of folders outside the project that are watched too. */
  others(): Iterable<string>;
  /** Absolute paths of everything that counts if the whole project may be another one. */
  everything(): Iterable<string>;
  /** Absolute paths of configuration files, which may lie where nothing else is watched. */
  configurations(): Iterable<string>;
  /** Told what the user should know. */
  onNote(note: string): void;
  /** Something is missing, perhaps a package. */
  isLacking(): boolean;
  onChanges(changes: FileChanges): void;
  /** Files that will probably be among the next changes. */
  onSigns(paths: readonly string[]): void;
}

const aloneEveryMs = 300;
/** How often it's looked whether the project's folder is where it was. */
const rootEveryMs = 1000;

/** How long after packages came into use they are looked through for files to watch: it can wait. */
const packagesPatienceMs = 300;

/** Watches whatever the project's modules come from: its folder, linked packages elsewhere, and installed packages. */
export class ProjectWatch {
  readonly #options: ProjectWatchOptions;
  /** Folders outside the project. */
  readonly #outside = new Set<string>();
  #files: Watcher | undefined;
  #packages: PackageWatcher | undefined;
  #timer: NodeJS.Timeout | undefined;
  #isClosed = false;
  /** `Date.now()` when the project was begun to be read. */
  #since = 0;
  #guard: NodeJS.Timeout | undefined;
  /** Tells the project's folder from others of its name. */
  #rootId: string | undefined;
  #isRootGone = false;
  #isLimitTold = false;
  readonly #alone = new Set<string>();

  constructor(options: ProjectWatchOptions) {
    this.#options = options;
  }

  /** Settles when every folder is being watched. What changed after `since` (as of `Date.now()`) counts too. */
  async begin(since: number): Promise<void> {
    const { modules, paths } = this.#options;
    if (this.#isClosed) return;
    this.#since = since;
    for (const folder of this.#options.others()) this.#outside.add(folder);
    this.#files = this.#watcher();
    await this.#files.begin(this.#outside);
    if (this.#isClosed) return;
    this.#files.catchUp(
      since,
      [...modules()].filter((id) => !id.startsWith(ownIdPrefix)).map((id) => paths.fileOf(fileOfId(id))),
    );
    this.packagesChanged();
    this.#watchAlone(since);
    this.#guard ??= setInterval(() => this.#lookForRoot(), rootEveryMs).unref();
  }

  #watcher(): Watcher {
    const { root, ignored, poll, onChanges, onSigns, isUsed } = this.#options;
    this.#rootId = idOfFolder(root);
    return new Watcher({ root, ignored, poll, onChanges, onSigns, isUsed, onLimit: (code) => this.#noteLimit(code) });
  }

  #noteLimit(code: string): void {
    if (this.#isLimitTold) return;
    this.#isLimitTold = true;
    const remedy =
      code === 'ENOSPC'
        ? 'raise the limit fs.inotify.max_user_watches (sysctl) to be told of changes at once'
        : 'raise the limit of open files (ulimit -n, or fs.inotify.max_user_instances) to be told of changes at once';
    this.#options.onNote(
      `the system lets no more folders be watched (${code}), so files are looked at again and again: ${remedy}`,
    );
  }

  /** The project's folder may be moved away, and come back or be replaced; no watcher tells that. */
  #lookForRoot(): void {
    const { root, onNote } = this.#options;
    const id = idOfFolder(root);
    if (this.#isClosed || id === this.#rootId) return;
    if (id === undefined) {
      if (!this.#isRootGone) onNote('the project folder is gone; what it held goes on being served until it is back');
      this.#isRootGone = true;
      return;
    }
    this.#isRootGone = false;
    this.#rootId = id;
    const old = this.#files;
    const fresh = this.#watcher();
    this.#files = fresh;
    Promise.resolve(old?.close())
      .then(() => fresh.begin(this.#outside))
      .then(() => this.#compareAll())
      .catch((error: unknown) => onNote(`the project folder cannot be watched: ${String(error)}`));
  }

  /** Lets everything be compared with what is there now. */
  #compareAll(): void {
    const { everything, onChanges } = this.#options;
    const paths = [...new Set(everything())];
    const there = new Set(paths.filter((path) => statNow(path)?.isFile()));
    const gone = new Set(paths.filter((path) => !there.has(path)));
    onChanges({ since: performance.now(), written: there, appeared: new Set(), disappeared: gone, isInPackages: true });
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    clearInterval(this.#guard);
    for (const path of this.#alone) unwatchFile(path);
    await Promise.all([this.#files?.close(), this.#packages?.close()]);
  }

  /** Sees to it that changes of a file will be noticed. */
  read(id: string): void {
    if (id.includes('node_modules/')) {
      if (!this.#packages?.follows(this.#options.paths.fileOf(fileOfId(id)))) this.packagesChanged();
    } else if (id.startsWith('../')) this.#watchOutside(id);
  }

  /** Other files of packages are in use, or they are other files than before. */
  packagesChanged(): void {
    if (!this.#files || this.#isClosed) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#watchPackages(), packagesPatienceMs);
    this.#timer.unref();
  }

  async #watchPackages(): Promise<void> {
    this.#watchAlone();
    const { root, poll, paths, modules, inputs, isLacking } = this.#options;
    const { PackageWatcher } = await import('./package-watcher.js');
    if (this.#isClosed) return;
    this.#packages ??= new PackageWatcher({
      root,
      isAwaited: isLacking(),
      since: this.#since,
      onChange: (since, files) => this.#changed(since, files),
      onLimit: (code) => this.#noteLimit(code),
    });
    // Asking for the state of thousands of files again and again would keep a network busy.
    if (poll) return;
    const used = [...modules(), ...inputs()].filter((id) => id.includes('node_modules/'));
    // What a package.json says decides which files those are.
    const folders = new Set(used.flatMap((id) => /^.*node_modules\/(?:@[^/]+\/)?[^/]+\//.exec(id)?.[0] ?? []));
    const ids = [...used.map(fileOfId), ...[...folders].map((folder) => `${folder}package.json`)];
    this.#packages.follow(new Set(ids.map((id) => paths.fileOf(id))));
  }

  /** A configuration outside the project is looked at now and then: its folder may be anybody's. */
  #watchAlone(since = Number.POSITIVE_INFINITY): void {
    const { root, configurations } = this.#options;
    for (const path of configurations()) if (!path.startsWith(`${root}/`)) this.#follow(path, since);
  }

  /** Looks at a file now and then. What changed after `since` (as of `Date.now()`) counts too. */
  #follow(path: string, since = Number.POSITIVE_INFINITY): void {
    const { onChanges } = this.#options;
    const before = statNow(path);
    if (this.#alone.has(path) || before === undefined) return;
    this.#alone.add(path);
    const written = new Set([path]);
    const none = () => new Set<string>();
    const onChange = () => onChanges({ since: performance.now(), written, appeared: none(), disappeared: none() });
    // It takes its first look later; what it must differ from is what was read.
    if (before.ctimeMs >= since) onChange();
    watchFile(path, { persistent: false, interval: aloneEveryMs }, onChange);
    setTimeout(() => {
      if (!this.#isClosed && statNow(path)?.mtimeMs !== before.mtimeMs) onChange();
    }, 2 * aloneEveryMs).unref();
  }

  #changed(since: number, files: ReadonlySet<string>): void {
    if (this.#isClosed) return;
    const written = new Set([...files].filter((file) => statNow(file)?.isFile()));
    this.#options.onChanges({ since, written, appeared: new Set(), disappeared: new Set(), isInPackages: true });
  }

  /** A linked package's own source lies elsewhere, and so does what a workspace shares: those folders are watched too. */
  #watchOutside(id: string): void {
    const { packages, paths, root } = this.#options;
    const file = paths.fileOf(id);
    if ([...this.#outside].some((known) => file.startsWith(`${known}/`))) return;
    const scope = packages.scopeOf(dirname(file))?.folder;
    const isPackage = scope !== undefined && !root.startsWith(`${scope}/`);
    const folder = isPackage ? scope : folderBeside(root, file);
    if (folder === undefined) return this.#follow(file);
    this.#outside.add(folder);
    this.#files?.add(folder);
  }
}

/** The first folder on the way to a file that doesn't hold `root`: `libs` of `libs/ui/src/a.ts`, where more may come. */
function folderBeside(root: string, file: string): string | undefined {
  let beside: string | undefined;
  for (let at = dirname(file); !root.startsWith(`${at === '/' ? '' : at}/`); at = dirname(at)) beside = at;
  return beside;
}

function idOfFolder(folder: string): string | undefined {
  const stats = statNow(folder);
  return stats?.isDirectory() ? `${stats.dev} ${stats.ino}` : undefined;
}
