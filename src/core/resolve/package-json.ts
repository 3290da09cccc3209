import { dirname, join } from 'node:path';
import type { Files } from '../files.js';
import { parseJson } from '../text/json.js';

/** What resolution reads of a package.json. */
export interface PackageJson {
  /** The folder that holds it. */
  folder: string;
  name?: string;
  type?: string;
  main?: unknown;
  module?: unknown;
  browser?: unknown;
  exports?: unknown;
  sideEffects?: unknown;
  version?: unknown;
  license?: unknown;
  imports?: unknown;
  dependencies?: Record<string, string>;
  devDependencies?: unknown;
  optionalDependencies?: unknown;
  peerDependencies?: unknown;
}

/** Whether an installation brings a package since a package.json lists it. Not every manager brings peers. */
export function listsPackage(
  { dependencies, devDependencies, optionalDependencies }: Omit<PackageJson, 'folder'>,
  name: string,
): boolean {
  return [dependencies, devDependencies, optionalDependencies].some(
    (list) => typeof list === 'object' && list !== null && Object.hasOwn(list, name),
  );
}

/** Reads package.json files once and remembers them until told to forget. */
export class PackageFiles {
  readonly #files: Files;
  readonly #byFolder = new Map<string, PackageJson | undefined>();
  readonly #scopeOf = new Map<string, PackageJson | undefined>();

  constructor(files: Files) {
    this.#files = files;
  }

  /** The package.json in `folder` itself. One that can't be parsed counts as absent. */
  at(folder: string): PackageJson | undefined {
    if (this.#byFolder.has(folder)) return this.#byFolder.get(folder);
    const parsed = this.#read(folder);
    this.#byFolder.set(folder, parsed);
    return parsed;
  }

  /** The package.json that governs `folder`: its own or the nearest above it. */
  scopeOf(folder: string): PackageJson | undefined {
    if (this.#scopeOf.has(folder)) return this.#scopeOf.get(folder);
    const parent = dirname(folder);
    const scope = this.at(folder) ?? (parent === folder || folder.endsWith('/node_modules') ? undefined : this.scopeOf(parent));
    this.#scopeOf.set(folder, scope);
    return scope;
  }

  forget(): void {
    this.#byFolder.clear();
    this.#scopeOf.clear();
  }

  #read(folder: string): PackageJson | undefined {
    const text = this.#files.readText(join(folder, 'package.json'));
    if (text === undefined) return undefined;
    try {
      const value: unknown = parseJson(text);
      return typeof value === 'object' && value !== null ? { ...value, folder } : undefined;
    } catch {
      return undefined; // npm itself names the broken file; for resolution it's as if it weren't there
    }
  }
}
