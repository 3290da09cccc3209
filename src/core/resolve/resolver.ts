import { basename, join } from 'node:path';
import { PackageFiles } from './package-json.js';
import type { RequestUse } from './package-main.js';
import type { Resolution, ResolverOptions } from './resolution.js';
import { decodedPath, Search } from './search.js';

/** Finds the files that specifiers mean: paths, packages with `exports` and `browser` fields, aliases. */
export class Resolver {
  readonly packages: PackageFiles;
  readonly #options: ResolverOptions;
  /** Answers by folder, then by use and specifier. */
  readonly #cache = new Map<string, Map<string, Resolution>>();

  constructor(options: ResolverOptions) {
    this.#options = options;
    this.packages = new PackageFiles(options.files);
  }

  /** Resolves `specifier` as `importer` (an absolute path) uses it. */
  resolve(specifier: string, importer: string, use: RequestUse): Resolution {
    const folder = importer.slice(0, importer.lastIndexOf('/')) || '/';
    let answers = this.#cache.get(folder);
    if (!answers) {
      answers = new Map();
      this.#cache.set(folder, answers);
    }
    const key = use === 'import' ? specifier : `${use}\0${specifier}`;
    const known = answers.get(key);
    if (known) return known;
    const resolution = new Search(this.#options, this.packages, use).run(specifier, folder);
    answers.set(key, resolution);
    return resolution;
  }

  /** Where an alias or the project's own mapping puts a specifier: absolute paths, best first. */
  mapped(specifier: string, folder: string): string[] {
    const { alias, root, mapped } = this.#options;
    const aliased = Object.entries(alias).flatMap(([name, target]) =>
      specifier === name || specifier.startsWith(`${name}/`) ? [join(root, target) + specifier.slice(name.length)] : [],
    );
    return [...aliased, ...mapped(specifier, folder)];
  }

  /** Forgets the answers that the appearing of `path` changes. Returns which they were: folder of the importer and specifier. */
  appeared(path: string): { folder: string; specifier: string }[] {
    const name = basename(path);
    const stem = name.replace(/\.[^.]+$/, '');
    const affected: { folder: string; specifier: string }[] = [];
    for (const [folder, answers] of this.#cache) {
      for (const [key, answer] of answers) {
        if ('found' in answer && !mayMean(key, name, stem)) continue;
        const [specifier, use] = key.split('\0').reverse() as [string, RequestUse | undefined];
        const now = new Search(this.#options, this.packages, use ?? 'import').run(specifier, folder);
        if ('found' in now && 'found' in answer ? now.found === answer.found : !('found' in now) && !('found' in answer))
          continue;
        answers.delete(key);
        affected.push({ folder, specifier });
      }
    }
    return affected;
  }

  /** Forgets the answers that led to `path`. */
  disappeared(path: string): void {
    for (const answers of this.#cache.values())
      for (const [key, answer] of answers) if ('found' in answer && answer.found === path) answers.delete(key);
  }

  /** Forgets everything, e.g. after an installation. */
  forget(): void {
    this.#cache.clear();
    this.packages.forget();
  }
}

/** Whether a specifier, as it is in a key of the cache, may mean a file of that name, for all that its last part shows. */
function mayMean(key: string, name: string, stem: string): boolean {
  if (stem === 'index' || name === 'package.json') return true;
  const written = key.slice(Math.max(key.lastIndexOf('/'), key.lastIndexOf('\0')) + 1);
  const last = written.includes('%') ? (decodedPath(written) ?? written) : written;
  return last.startsWith(stem) && (last.length === stem.length || last === name || last[stem.length] === '.');
}
