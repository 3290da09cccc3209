import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { setTimeout } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import { fileOfId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import { frameworkVersions } from '../../frameworks/adapters.js';
import { type DiskFiles, entriesOnDisk, type FolderEntries } from '../files/disk-files.js';
import type { ModuleFiles } from '../files/module-files.js';
import type { ProjectOptions } from '../options.js';
import type { TsSettings } from '../read/ts-settings.js';
import { sassVersionOf } from '../styles/sass.js';
import type { StyleCompiler } from '../styles/style-compiler.js';
import { ownFingerprint } from './fingerprint.js';
import { type Inputs, noticedMs, takeInputs } from './inputs.js';
import { keepStart, LastStart, type StartAnswers } from './last-start.js';

export interface StartKeeperOptions {
  options: ProjectOptions;
  paths: Paths;
  graph: ModuleGraph<ModuleContent>;
  files: DiskFiles;
  moduleFiles: ModuleFiles;
  typescript: TsSettings;
  compiler: StyleCompiler;
  /** Told what the user should know. */
  onNote(note: string): void;
}

/** Keeps what a start answered, with everything that it was made of, and finds it again. */
export class StartKeeper {
  readonly #parts: StartKeeperOptions;

  constructor(parts: StartKeeperOptions) {
    this.#parts = parts;
  }

  /** What the last start answered, where that still holds. */
  async find(): Promise<LastStart | undefined> {
    const { cacheFolder, revision, trace } = this.#parts.options;
    if (cacheFolder === undefined || revision > 0) return undefined;
    // Whoever waits for a connection comes first.
    await new Promise((resolve) => setImmediate(resolve));
    const from = trace.now();
    const found = LastStart.find(cacheFolder, this.#fingerprint(), this.#parts.onNote);
    trace.span('start', found ? 'the last start still holds' : 'the last start does not hold', from);
    return found;
  }

  /**
   * Keeps answers, where all that they were made of can be told: the user's own adapters may look at anything, and PostCSS
   * plugins say what they look at. `since`: no file was read before that time (as of `Date.now()`).
   */
  async keep(answers: StartAnswers, since: number): Promise<void> {
    const { options, compiler } = this.#parts;
    const isKnown = options.adapters.length === 0 && !compiler.hasLocalParts;
    if (!isKnown || options.cacheFolder === undefined) return;
    let inputs = this.#inputs(since);
    if (!inputs) {
      // Perhaps something was written a moment ago.
      await setTimeout(noticedMs);
      inputs = this.#inputs(since);
    }
    if (inputs) await keepStart(options.cacheFolder, this.#fingerprint(), inputs, answers);
  }

  /** What decides about the answers beside files. */
  #fingerprint(): string {
    const { root, pages, generated, insert, base, alias, roots, conditions, constants, adapters } = this.#parts.options;
    const own = [ownFingerprint(), fileURLToPath(import.meta.url), sassVersionOf(root), ...frameworkVersions(root)];
    const adapted = adapters.map(({ name }) => name);
    return JSON.stringify({ own, root, pages, generated, insert, base, alias, roots, conditions, constants, adapted });
  }

  #inputs(since: number): Inputs | undefined {
    const { graph, files, moduleFiles, typescript, paths, options, compiler } = this.#parts;
    const seen = files.seen;
    const sources = new Map(seen.texts);
    const folders = new Map(seen.folders);
    const addFile = (path: string) => {
      if (!sources.has(path)) sources.set(path, existsSync(path) ? '' : undefined);
    };
    const addFolder = (path: string) => {
      if (!folders.has(path)) folders.set(path, entriesOnDisk(path));
    };
    for (const path of typescript.lookedAt) addFile(path);
    for (const id of graph.ids()) {
      const content = graph.content(id)!;
      const file = paths.fileOf(fileOfId(id));
      const hash = moduleFiles.hashOf(id);
      if (hash !== undefined) sources.set(file, hash);
      if (content.kind === 'asset') continue;
      for (const dependency of (content.dependencies ?? []).map((name) => paths.fileOf(name))) {
        addFile(dependency);
        addFolder(dirname(dependency));
        addFolder(dirname(file));
      }
      if (content.kind === 'style') for (const folder of content.folders) this.#addAllIn(folder, addFile, addFolder);
    }
    for (const path of compiler.inputs) addFile(path);
    // A configuration may appear in any folder above a module.
    for (const folder of [...folders.keys()]) for (let at = folder; at.startsWith(options.root); at = dirname(at)) addFolder(at);
    return takeInputs({ ...seen, files: sources, folders: this.#withoutAncestors(folders) }, since);
  }

  /** Everything in a folder that a plugin looks through, but for packages and what begins with a dot. */
  #addAllIn(folder: string, addFile: (path: string) => void, addFolder: (path: string) => void): void {
    addFolder(folder);
    for (const [name, kind] of entriesOnDisk(folder) ?? []) {
      if (name.startsWith('.') || name === 'node_modules') continue;
      if (kind === 'folder') this.#addAllIn(join(folder, name), addFile, addFolder);
      else addFile(join(folder, name));
    }
  }

  /**
   * Folders above the project, such as one for everything temporary, hold much that is none of its business. What is looked
   * for there, package.json and packages, is a file or a folder of its own.
   */
  #withoutAncestors(folders: ReadonlyMap<string, FolderEntries | undefined>): Map<string, FolderEntries | undefined> {
    const { graph, paths, options } = this.#parts;
    const above = [...graph.ids()].filter((id) => id.startsWith('../')).map((id) => dirname(paths.fileOf(id)));
    const withModules = new Set(above);
    const isForeign = (folder: string) =>
      options.root.startsWith(folder === '/' ? folder : `${folder}/`) && !withModules.has(folder);
    return new Map([...folders].filter(([folder]) => !isForeign(folder)));
  }
}
