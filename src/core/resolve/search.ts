import { builtinModules } from 'node:module';
import { basename, dirname, isAbsolute, join, relative } from 'node:path';
import { nearMiss } from '../problem/near-miss.js';
import type { PackageFiles, PackageJson } from './package-json.js';
import { mainOf, onceOnly, type PackageReading, type RequestUse, requiredTarget } from './package-main.js';
import { exportedTarget, importedTarget } from './package-targets.js';
import type { Failure, Resolution, ResolverOptions } from './resolution.js';

const scriptExtensions = ['.ts', '.tsx', '.mts', '.js', '.jsx', '.mjs', '.cjs', '.cts', '.json', '.css', '.scss', '.sass'];
const styleExtensions = ['.css', '.scss', '.sass'];
/** TypeScript wants the extension of the output in an import; the file has that of the source. */
const sourceExtensions: Record<string, string[]> = {
  '.js': ['.ts', '.tsx', '.jsx'],
  '.jsx': ['.tsx'],
  '.mjs': ['.mts'],
  '.cjs': ['.cts'],
};
const builtins = new Set(builtinModules);

/** The search for the file that one specifier means. */
export class Search {
  readonly #options: ResolverOptions;
  readonly #packages: PackageFiles;
  readonly #use: RequestUse;

  constructor(options: ResolverOptions, packages: PackageFiles, use: RequestUse) {
    this.#options = options;
    this.#packages = packages;
    this.#use = use;
  }

  run(specifier: string, folder: string): Resolution {
    const { alias, root } = this.#options;
    for (const [name, target] of Object.entries(alias)) {
      if (specifier !== name && !specifier.startsWith(`${name}/`)) continue;
      const rest = specifier.slice(name.length);
      const base = target.startsWith('.') || isAbsolute(target) ? asInUrl(join(root, target)) : target;
      specifier = base + rest;
    }
    // A specifier of a path is a URL reference: what follows `?` or `#` isn't of the path, and escapes stand for characters.
    if (/[?#%]/.test(specifier) && /^\.{0,2}\//.test(specifier)) {
      const path = decodedPath(specifier.replace(/[?#].*$/s, ''));
      // `require` and sheets name files as they are called.
      const asCalled = this.#use === 'require' || path === undefined ? this.#exact(specifier, folder) : undefined;
      const asUrl = path === undefined ? undefined : this.#fromPath(path, folder);
      if (asCalled) return asCalled;
      if (asUrl && 'found' in asUrl) return asUrl;
      return this.#exact(specifier, folder) ?? asUrl ?? this.#fail({ reason: 'file-missing', tried: join(folder, specifier) });
    }
    const bare = specifier.includes('?') || specifier.includes('#') ? specifier.replace(/(?<!^)[?#].*$/, '') : specifier;
    return this.#fromPath(bare, folder) ?? this.#elsewhere(bare, folder);
  }

  /** A file that is called exactly so. */
  #exact(specifier: string, folder: string): Resolution | undefined {
    const path = specifier.startsWith('/') ? join(this.#options.root, specifier) : join(folder, specifier);
    return this.#exists(path) ? this.#done(path) : undefined;
  }

  /** What a path means; `undefined` for what is none. */
  #fromPath(bare: string, folder: string): Resolution | undefined {
    const { root } = this.#options;
    if (bare.startsWith('.') && /^\.{1,2}(?:\/|$)/.test(bare)) return this.#path(join(folder, bare), folder, bare);
    if (bare.startsWith('/')) {
      const inRoot = this.#path(join(root, bare), folder, bare);
      return 'found' in inRoot || !bare.startsWith(root) ? inRoot : this.#path(bare, folder, bare);
    }
    return undefined;
  }

  /** What a name means: one that the project maps, a package, or a name of the package itself. */
  #elsewhere(bare: string, folder: string): Resolution {
    const candidates = this.#options.mapped(bare, folder);
    for (const candidate of candidates) {
      const found = this.#file(candidate) ?? this.#folder(candidate);
      if (found) return this.#done(found);
    }
    const resolution = bare.startsWith('#') ? this.#internal(bare, folder) : this.#bare(bare, folder);
    const isLost = 'failure' in resolution && resolution.failure.reason === 'package-missing';
    // The project's own mapping has a place for it: that is where it's missing, and no package of that name.
    const [tried] = candidates;
    return isLost && tried !== undefined ? this.#fail({ reason: 'file-missing', tried, ...this.#similar(tried) }) : resolution;
  }

  #done(found: string): Resolution {
    const real = this.#options.files.realPath(found);
    const why = this.#options.refusal(found, real);
    return why === undefined ? { found: real } : this.#fail({ reason: 'refused', why, file: real });
  }

  #fail(failure: Failure): Resolution {
    return { failure };
  }

  /** A path, with or without its extension, of a file or a folder with an index. */
  #path(path: string, folder: string, specifier: string): Resolution {
    const mapped = this.#browserMapped(path);
    if (mapped === false) return { empty: true };
    const wanted = mapped ?? path;
    const found = this.#file(wanted) ?? this.#folder(wanted.replace(/\/$/, ''));
    if (found) {
      const again = this.#browserMapped(found);
      if (again === false) return { empty: true };
      return this.#done(again ?? found);
    }
    if (this.#use === 'style' && !specifier.startsWith('.')) return this.#bare(specifier, folder);
    return this.#fail({ reason: 'file-missing', tried: path, ...this.#similar(path) });
  }

  /** A file or folder with nearly the same name, for "did you mean". */
  #similar(path: string): { similar?: string; isCase?: boolean } {
    const wanted = basename(path);
    const names = this.#options.files.list(dirname(path));
    const withoutExtension = (name: string) => name.replace(/\.[^.]+$/, '');
    const sameButCase = names.find((name) =>
      [name, withoutExtension(name)].some((form) => form.toLowerCase() === wanted.toLowerCase()),
    );
    if (sameButCase) return { similar: sameButCase, isCase: true };
    const near =
      nearMiss(wanted, names) ?? names.find((name) => withoutExtension(name) === nearMiss(wanted, names.map(withoutExtension)));
    return near ? { similar: near } : {};
  }

  #exists(path: string): boolean {
    return this.#options.files.kindOf(path) === 'file';
  }

  #file(path: string): string | undefined {
    if (path.endsWith('/')) return undefined;
    if (this.#exists(path)) return path;
    const extension = path.endsWith('s') || path.endsWith('x') ? /\.[cm]?jsx?$/.exec(path)?.[0] : undefined;
    if (extension) {
      const stem = path.slice(0, -extension.length);
      for (const source of sourceExtensions[extension] ?? []) if (this.#exists(stem + source)) return stem + source;
    }
    return this.#withExtension(path);
  }

  #withExtension(stem: string): string | undefined {
    for (const extension of this.#extensions()) if (this.#exists(stem + extension)) return stem + extension;
    return undefined;
  }

  get #reading(): PackageReading {
    return { readText: (path) => this.#options.files.readText(path), fileAt: (path) => this.#file(path) };
  }

  #extensions(): readonly string[] {
    return this.#use === 'style' ? styleExtensions : scriptExtensions;
  }

  #folder(path: string): string | undefined {
    if (this.#options.files.kindOf(path) !== 'folder') return undefined;
    const description = this.#packages.at(path);
    if (description) {
      const main = mainOf(description, this.#use);
      if (main) {
        const target = join(path, main);
        const found = this.#file(target) ?? this.#index(target);
        if (found && this.#use === 'require') return onceOnly(path, description, found, this.#reading);
        if (found) return found;
      }
    }
    return this.#index(path);
  }

  #index(folder: string): string | undefined {
    const stem = join(folder, 'index');
    return this.#withExtension(stem);
  }

  /** What the `browser` map of the governing package makes of a path: another one, `false` for nothing, or no answer. */
  #browserMapped(path: string): string | false | undefined {
    const scope = this.#packages.scopeOf(dirname(path));
    const map = browserMap(scope);
    if (!scope || !map) return undefined;
    const key = `./${relative(scope.folder, path)}`;
    for (const name of [key, ...scriptExtensions.map((extension) => key + extension), `${key}/index.js`]) {
      if (!Object.hasOwn(map, name)) continue;
      const target = map[name];
      return target === false ? false : join(scope.folder, String(target));
    }
    return undefined;
  }

  #bare(specifier: string, folder: string): Resolution {
    for (const rootFolder of this.#options.roots) {
      const base = join(this.#options.root, rootFolder, specifier);
      const found = this.#file(base) ?? this.#folder(base);
      if (found) return this.#done(found);
    }
    const scope = this.#packages.scopeOf(folder);
    const mapped = browserMap(scope)?.[specifier];
    if (mapped === false) return { empty: true };
    if (typeof mapped === 'string' && mapped !== specifier) {
      return mapped.startsWith('.') ? this.#path(join(scope!.folder, mapped), folder, mapped) : this.#bare(mapped, folder);
    }
    const { packageName, subpath } = splitPackage(specifier);
    if (scope?.name === packageName && scope.exports !== undefined) return this.#inPackage(scope, packageName, subpath);
    for (let at = folder; ; at = dirname(at)) {
      const packageFolder = join(at, 'node_modules', packageName);
      if (this.#options.files.kindOf(packageFolder) === 'folder') {
        const description = this.#packages.at(packageFolder) ?? { folder: packageFolder };
        return this.#inPackage(description, packageName, subpath);
      }
      if (dirname(at) === at) break;
    }
    const builtin = specifier.replace(/^node:/, '');
    if (specifier.startsWith('node:') || builtins.has(builtin)) return this.#fail({ reason: 'builtin', name: builtin });
    return this.#fail({ reason: 'package-missing', packageName });
  }

  #inPackage(description: PackageJson, packageName: string, subpath: string): Resolution {
    if (description.exports !== undefined && description.exports !== null) {
      const key = subpath === '' ? '.' : `./${subpath}`;
      const target =
        this.#use === 'require'
          ? requiredTarget(description, key, this.#conditions(), this.#reading)
          : exportedTarget(description.exports, key, this.#conditions());
      if (target === undefined || target === null)
        return this.#fail({ reason: 'entry-missing', packageName, subpath, offers: offersOf(description.exports) });
      return this.#exported(join(description.folder, target), packageName, subpath);
    }
    if (subpath) return this.#path(join(description.folder, subpath), description.folder, `./${subpath}`);
    const found = this.#folder(description.folder);
    if (!found) return this.#fail({ reason: 'entry-missing', packageName, subpath });
    const mapped = this.#browserMapped(found);
    if (mapped === false) return { empty: true };
    return this.#done((mapped && this.#file(mapped)) || found);
  }

  /** What `exports` names is exact: no extensions are tried, but a `browser` map still counts. */
  #exported(path: string, packageName: string, subpath: string): Resolution {
    const mapped = this.#browserMapped(path);
    if (mapped === false) return { empty: true };
    const target = mapped ?? path;
    if (this.#exists(target)) return this.#done(target);
    // It's a part of a URL.
    const decoded = target.includes('%') ? decodedPath(target) : undefined;
    if (decoded !== undefined && this.#exists(decoded)) return this.#done(decoded);
    const source = this.#file(target);
    return source ? this.#done(source) : this.#fail({ reason: 'entry-missing', packageName, subpath, isListed: true });
  }

  #internal(specifier: string, folder: string): Resolution {
    const scope = this.#packages.scopeOf(folder);
    const target = importedTarget(scope?.imports, specifier, this.#conditions());
    if (!scope || target === undefined || target === null) return this.#fail({ reason: 'internal-missing', specifier });
    return target.startsWith('.') ? this.#path(join(scope.folder, target), folder, target) : this.#bare(target, folder);
  }

  #conditions(): ReadonlySet<string> {
    const module = this.#use === 'require' ? ['require'] : ['import', 'module'];
    const style = this.#use === 'style' ? ['style'] : [];
    const { conditions, frameworkConditions, mode } = this.#options;
    return new Set([...conditions, ...frameworkConditions(), ...style, ...module, 'browser', mode]);
  }
}

/** The paths that `exports` lists, as they are imported. */
function offersOf(exports: unknown): string[] {
  const keys = typeof exports === 'object' && exports !== null && !Array.isArray(exports) ? Object.keys(exports) : [];
  return keys.filter((key) => key.startsWith('.') && key !== './package.json');
}

function browserMap(description: PackageJson | undefined): Record<string, unknown> | undefined {
  const { browser } = description ?? {};
  return typeof browser === 'object' && browser !== null ? (browser as Record<string, unknown>) : undefined;
}

/** `@scope/name/path` -> its package and the path in it, empty for the package itself. */
export function splitPackage(specifier: string): { packageName: string; subpath: string } {
  const parts = specifier.split('/');
  const size = specifier.startsWith('@') ? 2 : 1;
  return { packageName: parts.slice(0, size).join('/'), subpath: parts.slice(size).join('/') };
}

/** A path of the disk as it stands in a URL, whose escapes are resolved again. */
function asInUrl(path: string): string {
  return path.replace(/[%?#]/g, encodeURIComponent);
}

/** A path with its escapes resolved; `undefined` where they are broken, or where one hides a slash (which natively fails too). */
export function decodedPath(path: string): string | undefined {
  try {
    return /%(?:2f|00)/i.test(path) ? undefined : decodeURIComponent(path);
  } catch {
    return undefined;
  }
}
