import { dirname, join } from 'node:path';
import type { PathsMatcher, TsConfigResult } from 'get-tsconfig';
import type { Problem } from '../../core/problem/problem.js';
import type { PackageFiles } from '../../core/resolve/package-json.js';
import { defaultScriptOptions, type ScriptOptions } from '../../core/translate/script-options.js';
import { statNow } from '../files/disk-files.js';

interface Known {
  config: TsConfigResult | undefined;
  options: ScriptOptions;
  paths: PathsMatcher | null;
}

/** Targets whose classes have no fields of their own: there, `useDefineForClassFields` is off unless set. */
const withoutFields = /^(?:es3|es5|es6|es20(?:1\d|20|21))$/i;

/** What the nearest tsconfig.json or jsconfig.json says, with `extends` and project references followed. */
export class TsSettings {
  readonly #isOurs: (path: string) => boolean;
  readonly #idOf: (path: string) => string;
  readonly #packages: PackageFiles;
  readonly #byFolder = new Map<string, Known>();
  /** Configuration files that can't be read, by name. */
  readonly problems = new Map<string, Problem>();
  /** Absolute paths of the files that were read. */
  readonly files = new Set<string>();

  /** What the reader asked the disk, by names of its own that hold the paths. */
  readonly #asked = new Asked();
  #reader: typeof import('get-tsconfig') | undefined;

  /** `isOurs`: whether a file (absolute path) belongs to the project, its workspace or a linked package. `idOf` says what it's called. */
  constructor(packages: PackageFiles, isOurs: (path: string) => boolean, idOf: (path: string) => string) {
    this.#isOurs = isOurs;
    this.#idOf = idOf;
    this.#packages = packages;
  }

  /** To be awaited once before anything but `candidates` is asked; until then there are no candidates. */
  async load(): Promise<void> {
    this.#reader = await import('get-tsconfig');
  }

  /** How a script is to be translated. */
  optionsFor(file: string): ScriptOptions {
    return this.#of(dirname(file)).options;
  }

  /** Paths that `paths` and `baseUrl` give for a specifier, best first. */
  candidates(specifier: string, folder: string): string[] {
    return this.#reader ? (this.#of(folder).paths?.(specifier) ?? []) : [];
  }

  /** Whether a file was read, e.g. because a configuration extends it. */
  isRead(path: string): boolean {
    return this.files.has(path) || this.lookedAt.includes(path);
  }

  /** Absolute paths that were looked at, whether there was anything or not. */
  get lookedAt(): string[] {
    const paths = [...this.#asked.keys()].flatMap((key) => /(?<=^\w+:)\/.*?(?=:utf-?8$|$)/i.exec(key)?.[0] ?? []);
    return [...new Set([...paths, ...this.files])];
  }

  forget(): void {
    this.#asked.clear();
    this.#byFolder.clear();
    this.files.clear();
    this.problems.clear();
  }

  #of(folder: string): Known {
    const known = this.#byFolder.get(folder);
    if (known) return known;
    const config = this.#find(folder);
    if (config) this.files.add(config.path);
    const made: Known = {
      config,
      options: this.#options(config, folder),
      paths: (config && this.#usable(config.path, () => this.#reader!.createPathsMatcher(config))) ?? null,
    };
    this.#byFolder.set(folder, made);
    return made;
  }

  #find(folder: string): TsConfigResult | undefined {
    if (folder.includes('/node_modules/')) return undefined;
    const found = ['tsconfig.json', 'jsconfig.json']
      .map((name) => this.#read(folder, name))
      .filter((config) => config !== undefined);
    // Of the two, the nearer one.
    const [config] = found.sort((a, b) => dirname(b.path).length - dirname(a.path).length);
    if (!config) return undefined;
    const file = join(folder, 'module.ts');
    return this.#usable(config.path, () => referenced(config, file, this.#reader!, this.#asked)) ?? config;
  }

  /** What is read from a configuration; a problem where that fails. */
  #usable<Result>(path: string, read: () => Result): Result | undefined {
    this.#asked.left = mostAsked;
    try {
      return read();
    } catch (error) {
      // One above the project and its workspace belongs to something else.
      if (!this.#isOurs(path)) return undefined;
      const name = this.#idOf(path);
      const message = (error instanceof Error ? error.message : String(error)).replace(/[.?]$/, '');
      this.problems.set(name, {
        code: 'settings-unreadable',
        severity: 'error',
        message: `${name} cannot be used: ${message}.`,
        file: name,
        hint: 'Correct it, or the file that it names.',
      });
      return undefined;
    }
  }

  #read(folder: string, name: string): TsConfigResult | undefined {
    const path = nearest(folder, name);
    // A device or a pipe in its place would be read for ever.
    if (path !== undefined && !statNow(path)?.isFile()) return undefined;
    const found = this.#usable(path ?? join(folder, name), () => this.#reader!.getTsconfig(folder, name, this.#asked));
    return found && this.#isOurs(found.path) ? found : undefined;
  }

  #options(found: TsConfigResult | undefined, folder: string): ScriptOptions {
    const options = found?.config.compilerOptions ?? {};
    const isClassic = options.jsx === 'react' && options.jsxImportSource === undefined;
    const importSource = options.jsxImportSource ?? this.#usualJsxSource(folder);
    return {
      jsx: {
        runtime: isClassic ? 'classic' : 'automatic',
        ...(importSource && !isClassic ? { importSource } : {}),
        ...(isClassic && options.jsxFactory ? { pragma: options.jsxFactory } : {}),
        ...(isClassic && options.jsxFragmentFactory ? { pragmaFragment: options.jsxFragmentFactory } : {}),
      },
      legacyDecorators: options.experimentalDecorators ?? defaultScriptOptions.legacyDecorators,
      decoratorMetadata: options.emitDecoratorMetadata ?? defaultScriptOptions.decoratorMetadata,
      verbatimImports: options.verbatimModuleSyntax ?? defaultScriptOptions.verbatimImports,
      definedFields: options.useDefineForClassFields ?? !withoutFields.test(options.target ?? 'esnext'),
    };
  }

  /** A project that depends on Preact or Vue, and not on React, means that by its JSX. */
  #usualJsxSource(folder: string): string | undefined {
    const { dependencies = {} } = this.#packages.scopeOf(folder) ?? {};
    if ('react' in dependencies) return undefined;
    return ['preact', 'vue'].find((name) => name in dependencies);
  }
}

/** So often the reader may ask for one configuration: each file that it extends takes some ten. Two that extend two each, and so on, take for ever. */
const mostAsked = 50_000;

/** What was asked before, and a limit for asking. */
class Asked extends Map<string, unknown> {
  left = mostAsked;

  override get(key: string): unknown {
    if (this.left-- <= 0) throw new Error('it leads to too many files by extends');
    return super.get(key);
  }
}

/** Of a configuration that only lists others, the listed one that includes a file. */
function referenced(
  found: TsConfigResult,
  file: string,
  { parseTsconfig, createFilesMatcher }: typeof import('get-tsconfig'),
  asked: Asked,
): TsConfigResult | undefined {
  const { references, files, include } = found.config;
  if (!references || include || (files?.length ?? 0) > 0) return undefined;
  for (const { path } of references) {
    const target = join(dirname(found.path), path);
    const candidate = target.endsWith('.json') ? target : join(target, 'tsconfig.json');
    const result = { path: candidate, config: parseTsconfig(candidate, asked as Map<string, unknown> as Map<string, string>) };
    if (createFilesMatcher(result)(file)) return result;
  }
  return undefined;
}

/** The path of the nearest thing of a name, in a folder or above it. */
function nearest(folder: string, name: string): string | undefined {
  for (let at = folder; ; at = dirname(at)) {
    if (statNow(join(at, name))) return join(at, name);
    if (dirname(at) === at) return undefined;
  }
}
