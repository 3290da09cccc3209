import { dirname } from 'node:path';
import type { PackageFiles } from '../core/resolve/package-json.js';
import type { PackageWatcher } from './package-watcher.js';
import type { Paths } from './paths.js';
import { type FileChanges, Watcher } from './watcher.js';

export interface ProjectWatchOptions {
  root: string;
  /** Absolute paths of folders whose changes mean nothing. */
  ignored: readonly string[];
  poll: boolean;
  paths: Paths;
  packages: PackageFiles;
  /** Ids of the modules in use. */
  modules(): Iterable<string>;
  /** Something is missing, perhaps a package. */
  isLacking(): boolean;
  onChanges(changes: FileChanges): void;
  /** Files that will probably be among the next changes. */
  onSigns(paths: readonly string[]): void;
}

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

  constructor(options: ProjectWatchOptions) {
    this.#options = options;
  }

  /** Settles when every folder is being watched. What changed after `since` (as of `Date.now()`) counts too. */
  async begin(since: number): Promise<void> {
    const { root, ignored, poll, onChanges, onSigns, modules, paths } = this.#options;
    if (this.#isClosed) return;
    this.#files = new Watcher({ root, ignored, poll, onChanges, onSigns });
    await this.#files.begin(this.#outside);
    if (this.#isClosed) return;
    this.#files.catchUp(
      since,
      [...modules()].filter((id) => !id.startsWith('~vine/')).map((id) => paths.fileOf(id.replace(/\?.*$/, ''))),
    );
    this.packagesChanged();
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#timer);
    await Promise.all([this.#files?.close(), this.#packages?.close()]);
  }

  /** Sees to it that changes of a module's file will be noticed. */
  loaded(id: string): void {
    if (id.includes('node_modules/')) this.packagesChanged();
    else if (id.startsWith('../')) this.#watchOutside(id);
  }

  /** Other files of packages are in use, or they are other files than before. */
  packagesChanged(): void {
    if (!this.#files || this.#isClosed) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#watchPackages(), packagesPatienceMs);
    this.#timer.unref();
  }

  async #watchPackages(): Promise<void> {
    const { root, poll, paths, modules, isLacking } = this.#options;
    const { PackageWatcher } = await import('./package-watcher.js');
    if (this.#isClosed) return;
    this.#packages ??= new PackageWatcher({ root, isAwaited: isLacking(), onChange: (since) => this.#changed(since) });
    // Asking for the state of thousands of files again and again would keep a network busy.
    if (poll) return;
    const used = [...modules()].filter((id) => id.includes('node_modules/'));
    this.#packages.follow(new Set(used.map((id) => paths.fileOf(id.replace(/\?.*$/, '')))));
  }

  #changed(since: number): void {
    if (this.#isClosed) return;
    this.#options.onChanges({ since, written: new Set(), appeared: new Set(), disappeared: new Set(), isInPackages: true });
  }

  /** A linked package's own source lies elsewhere: its folder is watched too. */
  #watchOutside(id: string): void {
    const { packages, paths, root } = this.#options;
    const folder = packages.scopeOf(dirname(paths.fileOf(id)))?.folder;
    if (folder === undefined || this.#outside.has(folder) || root.startsWith(`${folder}/`)) return;
    this.#outside.add(folder);
    this.#files?.add(folder);
  }
}
