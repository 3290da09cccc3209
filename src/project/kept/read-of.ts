import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import { fileOfId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import { frameworkVersions, haveUntoldParts } from '../../frameworks/adapters.js';
import { installedVersion } from '../../frameworks/compilers.js';
import { type DiskFiles, entriesOnDisk, type FolderEntries } from '../files/disk-files.js';
import type { ModuleFiles } from '../files/module-files.js';
import type { ProjectOptions } from '../options.js';
import type { TsSettings } from '../read/ts-settings.js';
import { sassVersionOf } from '../styles/sass.js';
import type { StyleCompiler } from '../styles/style-compiler.js';
import { ownFingerprint } from './fingerprint.js';
import type { InputsTaken } from './inputs.js';

/** A project that was read, with what knows what that was. */
export interface ProjectRead {
  options: ProjectOptions;
  paths: Paths;
  graph: ModuleGraph<ModuleContent>;
  files: DiskFiles;
  moduleFiles: ModuleFiles;
  typescript: TsSettings;
  compiler: StyleCompiler;
}

/** What decides beside files about what a project comes to, as a text. */
export function optionsKey(options: ProjectOptions): string {
  const { root, pages, generated, insert, base, alias, roots, conditions, constants, adapters } = options;
  const own = [ownFingerprint(), fileURLToPath(import.meta.url), sassVersionOf(root), ...frameworkVersions(root)];
  const adapted = adapters.map(({ name }) => name);
  const { env } = process;
  const environment = [env.NODE_ENV, env.BROWSERSLIST, env.BROWSERSLIST_ENV, env.BROWSERSLIST_CONFIG];
  return JSON.stringify({ own, environment, root, pages, generated, insert, base, alias, roots, conditions, constants, adapted });
}

/** Versions of the project's own translators, which lower what ours doesn't. */
export function translatorsOf(root: string): string {
  return ['typescript', '@babel/core', '@swc/core'].map((name) => installedVersion(root, name)).join(' ');
}

/**
 * Whether all that a project was made of can be told: the user's own adapters may look at anything, and PostCSS plugins say what they
 * look at.
 */
export function isAllKnown({ options, compiler }: Pick<ProjectRead, 'options' | 'compiler'>): boolean {
  return options.adapters.length === 0 && !compiler.hasUntoldParts && !haveUntoldParts(options.root);
}

/** All that was asked of the disk while a project was read, with the answers. */
export function readOf(read: ProjectRead): InputsTaken {
  const { graph, files, moduleFiles, typescript, paths, options, compiler } = read;
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
    if (content.kind === 'style') for (const folder of content.folders) addAllIn(folder, addFile, addFolder);
  }
  for (const path of compiler.inputs) addFile(path);
  // A configuration may appear in any folder above a module.
  for (const folder of [...folders.keys()]) for (let at = folder; at.startsWith(options.root); at = dirname(at)) addFolder(at);
  return { ...seen, files: sources, folders: withoutAncestors(folders, read) };
}

/** Everything in a folder that a plugin looks through, but for packages and what begins with a dot. */
function addAllIn(folder: string, addFile: (path: string) => void, addFolder: (path: string) => void): void {
  addFolder(folder);
  for (const [name, kind] of entriesOnDisk(folder) ?? []) {
    if (name.startsWith('.') || name === 'node_modules') continue;
    if (kind === 'folder') addAllIn(join(folder, name), addFile, addFolder);
    else addFile(join(folder, name));
  }
}

/**
 * Folders above the project, such as one for everything temporary, hold much that is none of its business. What is looked
 * for there, package.json and packages, is a file or a folder of its own.
 */
function withoutAncestors(
  folders: ReadonlyMap<string, FolderEntries | undefined>,
  { graph, paths, options }: ProjectRead,
): Map<string, FolderEntries | undefined> {
  const above = [...graph.ids()].filter((id) => id.startsWith('../')).map((id) => dirname(paths.fileOf(id)));
  const withModules = new Set(above);
  const isForeign = (folder: string) =>
    options.root.startsWith(folder === '/' ? folder : `${folder}/`) && !withModules.has(folder);
  return new Map([...folders].filter(([folder]) => !isForeign(folder)));
}
