import { existsSync, readdirSync } from 'node:fs';
import { join, relative, sep } from 'node:path';
import type { Problem } from '../core/problem/problem.js';
import { statNow } from '../project/files/disk-files.js';
import { Project } from '../project/project.js';
import { BuildFailed, write } from './build.js';
import { BuildMemory } from './memory.js';
import type { BuildOptions, BuildResult } from './options.js';

/** Who is told of builds, one after another. */
export interface WatchListener {
  built(result: BuildResult, ms: number): void;
  failed(problems: readonly Problem[]): void;
  /** The settings may be others now, or (`ofPages`) the pages that patterns find. */
  settingsChanged(ofPages: boolean): void;
  failure(error: Error): void;
}

/** Builds, and builds again what a change concerns, until it's closed. */
export class BuildWatch {
  readonly #project: Project;
  readonly #options: BuildOptions;
  readonly #listener: WatchListener;
  readonly #memory = new BuildMemory();
  #isWanted = false;
  /** What `#copied` said when the last build began. */
  #copiedLast = '';
  /** The problems that were told last. */
  #told = '';
  #running: Promise<void> = Promise.resolve();

  constructor(options: BuildOptions, listener: WatchListener) {
    this.#options = options;
    this.#listener = listener;
    const copied = options.verbatim.map((folder) => `${literally(relative(options.root, folder))}/**`);
    this.#project = new Project({
      ...options,
      ignored: [...options.ignored, options.out],
      noticed: copied,
    });
    this.#project.on('warning', options.onWarning);
    this.#project.on('note', options.onNote);
    this.#project.on('failure', (error) => listener.failure(error));
    this.#project.on('problems', (problems) => this.#failed(problems));
    for (const event of ['settings', 'pages'] as const)
      this.#project.on(event, () => listener.settingsChanged(event === 'pages'));
    this.#project.on('noticed', ({ since }) => {
      // A folder that is new is looked at more than once.
      if (this.#copied() !== this.#copiedLast) this.#want(since);
    });
    for (const event of ['update', 'solved'] as const) this.#project.on(event, ({ since }) => this.#want(since));
  }

  /** Builds for the first time and begins to watch. */
  async begin(): Promise<void> {
    const from = performance.now();
    await this.#project.open();
    for (const note of [...this.#project.pages.values()].flatMap(({ notes }) => notes)) this.#options.onNote(note);
    this.#want(from);
    await this.#running;
  }

  /** Changes of these files (absolute paths) may mend the settings. */
  watchSettings(files: readonly string[]): void {
    for (const file of files) this.#project.settingsFiles.add(file);
  }

  async close(): Promise<void> {
    await this.#running;
    await this.#project.close();
  }

  /** What changes while a build is made gives one more. */
  #want(since: number): void {
    if (this.#isWanted) return;
    this.#isWanted = true;
    this.#running = this.#running.then(() => this.#build(since)).catch((error: Error) => this.#listener.failure(error));
  }

  async #build(since: number): Promise<void> {
    this.#isWanted = false;
    this.#copiedLast = this.#copied();
    try {
      const result = await this.#project.inTurn((read) => write(read, this.#options, this.#memory));
      this.#told = '';
      this.#noteFiles(result);
      this.#listener.built(result, performance.now() - since);
    } catch (error) {
      if (!(error instanceof BuildFailed)) throw error;
      this.#failed(error.problems);
    }
  }

  /** Tells what is wrong, once as long as nothing else is. */
  #failed(problems: readonly Problem[]): void {
    const told = JSON.stringify(problems);
    if (told !== this.#told) this.#listener.failed(problems);
    this.#told = told;
  }

  /** Tells the files of verbatim folders from what they may be later. */
  #copied(): string {
    try {
      const folders = this.#options.verbatim.filter((folder) => existsSync(folder));
      const files = folders.flatMap((folder) =>
        readdirSync(folder, { recursive: true }).map((path) => join(folder, String(path))),
      );
      const stats = files.map((file) => statNow(file));
      return files.map((file, at) => `${file} ${stats[at]?.mtimeMs} ${stats[at]?.size}`).join('\n');
    } catch (error) {
      return String(error); // the build that follows says what is wrong
    }
  }

  /** Files that are copied as they are count too; those of verbatim folders do anyway. */
  #noteFiles({ manifest }: BuildResult): void {
    const { base, root } = this.#options;
    for (const id of Object.keys(manifest.assets)) this.#project.noteServed(join(root, id), base + id);
  }
}

/** A path as a pattern that stands for nothing else. */
function literally(path: string): string {
  return path
    .split(sep)
    .join('/')
    .replace(/[()[\]{}!*?+@|\\]/g, '\\$&');
}
