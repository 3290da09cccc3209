import { dirname, join, resolve } from 'node:path';
import type Picomatch from 'picomatch';
import { lazily } from '../core/lazily.js';
import { fileOfId, typedIds } from '../core/module-id.js';
import { entriesOf, ownIdPrefix } from '../core/urls.js';
import type { ProjectOptions } from './options.js';
import type { ProjectGraph } from './project-graph.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** The files of which something is served, or of which a change matters. */
export class UsedFiles {
  readonly #read: ProjectGraph;
  readonly #options: ProjectOptions;
  /** Files that browsers got as they are, with the paths under which they did. */
  readonly served = new Map<string, string>();
  /** Absolute paths of the files that the settings are made of, those among them that are wrong for now. */
  readonly settings: Set<string>;

  constructor(read: ProjectGraph, options: ProjectOptions) {
    this.#read = read;
    this.#options = options;
    this.settings = new Set(options.settingsFiles);
  }

  /** Whether an id names a file that the user may want to edit: a page, a module, or what one was made of. */
  isOwn(id: string): boolean {
    if (id.split('/').some((part) => part.startsWith('.') && part !== '..')) return false;
    const { pages, modules, builder, files, paths, problems } = this.#read;
    const isKnown = pages.byId.has(id) || modules.has(id) || builder.failed.has(id) || builder.madeOf.isUsed(id);
    return (isKnown || problems.some(({ file }) => file === id)) && files.kindOf(paths.fileOf(id)) === 'file';
  }

  /** Whether a change of a file (absolute path) matters. */
  isUsed(path: string): boolean {
    const { pages, modules, builder, loader, paths } = this.#read;
    const id = paths.idOf(path);
    const isModule = [id, ...typedIds(id), ...loader.partsOf(id)].some(
      (known) => modules.has(known) || builder.failed.has(known),
    );
    return isModule || pages.byId.has(id) || builder.madeOf.isUsed(id) || this.served.has(path) || this.#isWanted(path);
  }

  /** Whether some module asks for a file of that name in vain. */
  #isWanted(path: string): boolean {
    const name = path.slice(path.lastIndexOf('/') + 1);
    return this.#read.problems.some(
      ({ code, frame }) => code === 'import-unresolved' && frame?.some(({ text }) => text.includes(name)),
    );
  }

  /** Folders of a backend's files that lie outside the project. */
  foldersOutside(): string[] {
    const { root, noticed } = this.#options;
    const folders = noticed.map((pattern) => {
      const { base } = picomatch().scan(pattern);
      return resolve(root, base === pattern ? dirname(pattern) : base);
    });
    return folders.filter((folder) => folder !== root && !folder.startsWith(`${root}/`) && !root.startsWith(`${folder}/`));
  }

  /** Absolute paths of all files that went into what is served. */
  *everything(): Generator<string> {
    const { pages, modules, builder, paths } = this.#read;
    for (const id of [...modules.ids(), ...builder.failed.keys()])
      if (!id.startsWith(ownIdPrefix) && pages.inlineText(id) === undefined) yield paths.fileOf(fileOfId(id));
    for (const id of pages.byId.keys()) if (!entriesOf(id)) yield paths.fileOf(id);
    yield* [...this.served.keys(), ...this.settings, join(this.#options.root, 'package.json')];
  }
}
