import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { kindOfFile } from '../../core/file-kinds.js';
import type { PackageFiles, PackageJson } from '../../core/resolve/package-json.js';
import type { RefusalReason } from '../../core/resolve/resolution.js';
import { isWebContent } from '../../core/translate/web-content.js';
import { realPathNow } from './disk-files.js';
import { packageAbove, workspaceRootOf } from './workspace-root.js';

const ownRequire = createRequire(import.meta.url);
/** Packages of ours that modules of the user's import, see `RequestTargets`. */
const ownPackages = ['@oxc-project/runtime'];

export interface FileGateOptions {
  /** Absolute path, links resolved. */
  root: string;
  packages: PackageFiles;
}

/**
 * Decides which files may leave this machine, for whoever reads or sends one: those of the project, of its workspace or the package
 * that it's part of, and of their packages, by the path that is left when all links are followed, and none whose name begins with a dot.
 *
 * A package outside those folders counts too where a `node_modules` folder links it under its own name: one that is installed
 * elsewhere, or sources that a package.json lists. So a link that leads to anything else leads nowhere.
 */
export class FileGate {
  readonly #options: FileGateOptions;
  /** Folders with a slash at the end; found again when packages may have changed. */
  #known: string[] | undefined;
  /** Links to packages elsewhere -> the folder that they led to. */
  readonly #links = new Map<string, string>();
  /** Folders of linked packages that still count; forgotten with everything else that is known of packages. */
  #linked: string[] | undefined;

  constructor(options: FileGateOptions) {
    this.#options = options;
  }

  get #folders(): readonly string[] {
    this.#known ??= this.#find();
    return this.#known;
  }

  #find(): string[] {
    const { root } = this.#options;
    const own = ownPackages.map((name) => folderOfPackage(name));
    const folders = [root, workspaceRootOf(root) ?? packageAbove(root), ...packageFoldersOf(root), ...own];
    return folders.filter((folder) => folder !== undefined).map(withSlash);
  }

  /** Why the file at `path` may not be read; `undefined` where it may. `real` is `path` with all links followed. */
  refusal(path: string, real: string): RefusalReason | undefined {
    const folder = this.#folderOf(real) ?? (this.#noteLink(path, real) ? this.#folderOf(real) : undefined);
    if (folder === undefined) return 'outside';
    return isHidden(real.slice(folder.length), real) ? 'hidden' : undefined;
  }

  /** Whether the file at `path` may be read now, e.g. because a module is made of it. */
  mayRead(path: string): boolean {
    const real = realPathNow(path);
    return real !== undefined && this.refusal(path, real) === undefined;
  }

  /** Whether a file of a package may be read for that package, e.g. because its source map names it: only its own files. */
  mayReadFor(path: string, packageFile: string): boolean {
    const real = realPathNow(path);
    if (real === undefined || this.refusal(path, real) !== undefined) return false;
    const folder = packageFolderOf(packageFile);
    return folder === undefined || real.startsWith(withSlash(realPathNow(folder) ?? folder));
  }

  /** The real path of a file that may be sent because somebody asks for its path; `undefined` where it may not. */
  ofProject(path: string): string | undefined {
    const { root } = this.#options;
    const real = realPathNow(path);
    if (real === undefined || !path.startsWith(withSlash(root)) || !isWebContent(path) || !isWebContent(real)) return undefined;
    if (this.refusal(path, real) !== undefined) return undefined;
    const ways = [path.slice(root.length), `/${real.slice(this.#folderOf(real)!.length)}`];
    return ways.some((way) => isDotted(way) || way.includes('/node_modules/')) ? undefined : real;
  }

  /** The real path of a file of a verbatim folder, under the same conditions but for its type. */
  ofVerbatim(folder: string, inside: string): string | undefined {
    const path = join(folder, inside);
    const real = realPathNow(path);
    const realFolder = realPathNow(folder);
    if (real === undefined || realFolder === undefined || !this.isVerbatim(folder, realFolder)) return undefined;
    if (inside.split('/').some((part) => part.startsWith('.'))) return undefined;
    if (real.startsWith(withSlash(realFolder))) return isDotted(real.slice(realFolder.length)) ? undefined : real;
    return this.refusal(path, real) === undefined && !isDotted(real.slice(this.#folderOf(real)!.length)) ? real : undefined;
  }

  /** Whether a verbatim folder is one: a link in the project leads nowhere else, but the settings may name a place elsewhere. */
  isVerbatim(folder: string, realFolder = realPathNow(folder)): boolean {
    if (realFolder === undefined) return false;
    return !folder.startsWith(withSlash(this.#options.root)) || this.#folderOf(withSlash(realFolder)) !== undefined;
  }

  /** Forgets what package.json files and links said. */
  forget(): void {
    this.#known = undefined;
    this.#linked = undefined;
  }

  #folderOf(real: string): string | undefined {
    return (
      this.#folders.find((folder) => real.startsWith(folder)) ?? this.#linkedFolders().find((folder) => real.startsWith(folder))
    );
  }

  /** Folders of linked packages, and those in which what they need is installed. */
  #linkedFolders(): string[] {
    if (this.#linked) return this.#linked;
    const folders = [...this.#links].filter(([link, folder]) => realPathNow(link) === folder && this.#counts(link, folder));
    const needed = folders.flatMap(([, folder]) => [folder, ...packageFoldersOf(folder)]);
    this.#linked = [...new Set(needed.map(withSlash))];
    return this.#linked;
  }

  /** Takes down the link that `path` leads through to a package elsewhere. Returns whether there is one that counts. */
  #noteLink(path: string, real: string): boolean {
    const link = packageFolderOf(path);
    const folder = link === undefined ? undefined : realPathNow(link);
    if (link === undefined || folder === undefined || !real.startsWith(withSlash(folder))) return false;
    if (this.#links.get(link) === folder || !this.#counts(link, folder)) return false;
    this.#links.set(link, folder);
    this.#linked = undefined;
    return true;
  }

  /** Whether a link stands for the package that its name says: one installed elsewhere, or one that a package.json lists. */
  #counts(link: string, folder: string): boolean {
    const { packages: descriptions } = this.#options;
    const at = link.lastIndexOf('/node_modules/');
    const [user, name] = [link.slice(0, at), link.slice(at + '/node_modules/'.length)];
    const realUser = realPathNow(user);
    const packages = realUser && withSlash(join(realUser, 'node_modules'));
    const isOurs = this.#folders.some(
      (known) => packages?.startsWith(known) || (realUser && withSlash(realUser).startsWith(known)),
    );
    if (!isOurs || descriptions.at(folder)?.name !== name) return false;
    if (folder.endsWith(`/node_modules/${name}`)) return true;
    // What an installed package brings along can't lead to sources.
    return !`${user}/`.includes('/node_modules/') && declares(descriptions.scopeOf(user), name);
  }
}

function withSlash(folder: string): string {
  return folder.endsWith('/') ? folder : `${folder}/`;
}

/** The `node_modules` folders in which what modules of a folder import is looked for. */
function packageFoldersOf(folder: string): string[] {
  return above(folder).flatMap((at) => realPathNow(join(at, 'node_modules')) ?? []);
}

/** The folder of the package that a path leads into; `undefined` where it leads into none. */
function packageFolderOf(path: string): string | undefined {
  return /^.*\/node_modules\/(?:@[^/]+\/)?[^/]+(?=\/)/.exec(path)?.[0];
}

/** A folder and all those above it. */
function above(folder: string): string[] {
  const parent = dirname(folder);
  return parent === folder ? [folder] : [folder, ...above(parent)];
}

function folderOfPackage(name: string): string | undefined {
  try {
    return realPathNow(dirname(ownRequire.resolve(`${name}/package.json`)));
  } catch {
    return undefined; // it isn't installed; whoever needs it says so
  }
}

function declares(description: PackageJson | undefined, name: string): boolean {
  const lists = ['dependencies', 'devDependencies', 'optionalDependencies', 'peerDependencies'] as const;
  return lists.some((list) => Object.hasOwn(Object(description?.[list]), name));
}

function isDotted(path: string): boolean {
  return /(?:^|\/)\./.test(path);
}

/**
 * Whether a name on the way begins with a dot. Package managers keep packages in such folders of `node_modules`, and generated
 * scripts and styles may lie in a folder that does; the name of the file itself never begins so.
 */
function isHidden(inside: string, real: string): boolean {
  if (!isDotted(inside)) return false;
  const path = `/${inside}`
    .replace(/^.*\/node_modules\/\.[^/]+\/(?:.*\/)?node_modules(?=\/)/, '')
    .replace(/^\/\.[^/]+\/(?:.*\/)?node_modules(?=\/)/, '');
  if (!isDotted(path)) return false;
  const kind = kindOfFile(real);
  const isSource = kind === 'script' || kind === 'style';
  return !isSource || /\/\.[^/]*$/.test(path) || /\/(?:\.git|\.ssh|node_modules\/\.cache)\//.test(path);
}
