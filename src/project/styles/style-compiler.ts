import { existsSync, readFileSync } from 'node:fs';
import { basename, dirname, extname, join } from 'node:path';
import { setImmediate as othersFirst } from 'node:timers/promises';
import { fileURLToPath, pathToFileURL } from 'node:url';
import type { AcceptedPlugin, Message } from 'postcss';
import type { RawMap } from '../../core/maps/raw-map.js';
import type { Mode } from '../../core/mode.js';
import type { Problem } from '../../core/problem/problem.js';
import { explainRefusal } from '../../core/resolve/explain-failure.js';
import { withoutMark } from '../../core/text/json.js';
import { configParts, forgetLoaded } from '../files/config-parts.js';
import { realPathNow } from '../files/disk-files.js';
import type { FileGate } from '../files/file-gate.js';
import { type CompiledStyle, mapOf, run } from './compiled-style.js';
import { CssModules } from './css-modules.js';
import { brokenConfig, configNames, loadPostcssConfig } from './postcss-config.js';
import { loadSass } from './sass.js';
import { styleProblem } from './style-problem.js';

/** What a sheet may write for a package, with a sign in front of its name. */
export const olderPackage = /^~[\w@]/;

/** How a part of a file differs from a sheet. */
export interface StylePart {
  /** Nothing is to be done to it. */
  isFinished?: boolean;
  /** The map from its text back to the file. */
  map?: RawMap;
  /** What is to be done when Sass and PostCSS are through with it. */
  finish?(css: string): Promise<{ code: string; map?: RawMap }>;
}

export interface StyleCompilerOptions {
  mode: Mode;
  root: string;
  /** Absolute paths for a bare specifier, e.g. through an alias, best first. */
  mapped(specifier: string, folder: string): readonly string[];
  /** The file that a specifier in a sheet means, or why there is none. */
  resolve(specifier: string, file: string): { found: string } | { problem: Pick<Problem, 'code' | 'message' | 'hint'> };
  /** Which files may be read. */
  gate: FileGate;
  /** The id of a file. */
  idOf(file: string): string;
}

const cssModule = /\.module\.[a-z]+$/;

/** Turns the user's style sheets into CSS: Sass, the project's own PostCSS plugins, CSS modules. Loads what it needs when it needs it. */
export class StyleCompiler {
  readonly #options: StyleCompilerOptions;
  readonly #modules: CssModules;
  #plugins: Promise<AcceptedPlugin[]> | undefined;
  /** Absolute path of the PostCSS configuration, if there is one. */
  configFile: string | undefined;
  /** Files of the project's own that it's made of, itself too. */
  #parts = new Set<string>();

  constructor(options: StyleCompilerOptions) {
    this.#options = options;
    const { resolve, idOf } = options;
    const compile = (id: string, file: string) => this.compile(id, file, readFileSync(file, 'utf8'));
    this.#modules = new CssModules({ resolve, idOf, compile });
  }

  /** Whether the PostCSS configuration takes in what nobody tells of: files of the project's own, or what a process is started with. */
  get hasUntoldParts(): boolean {
    if (this.configFile === undefined) return false;
    const text = readFileSync(this.configFile, 'utf8').replaceAll('process.env.NODE_ENV', '');
    if (/\bprocess\b/.test(text)) return true;
    return /\b(?:from|require|import)\b\s*\(?\s*['"`]\.{0,2}\//.test(text) || /['"`]\.{1,2}\/[^'"`*]*['"`]\s*:/.test(text);
  }

  /** Absolute paths of files, there or not, that decide what the PostCSS plugins do, beside what they tell of. */
  get inputs(): string[] {
    if (this.configFile === undefined) return [];
    const { root } = this.#options;
    const versions = ['.package-lock.json', '.modules.yaml', '.yarn-state.yml'].map((name) => join('node_modules', name));
    const names = ['package.json', '.browserslistrc', 'package-lock.json', 'pnpm-lock.yaml', 'yarn.lock', ...versions];
    return [this.configFile, ...names.map((name) => join(root, name))];
  }

  /** Whether the project has PostCSS plugins; known when a sheet has been compiled. */
  get usesPlugins(): boolean {
    return this.configFile !== undefined;
  }

  /** Absolute paths of files, there or not, one of which would hold the PostCSS configuration. */
  get configCandidates(): string[] {
    return configNames.map((name) => join(this.#options.root, name));
  }

  /** Whether a file (absolute path) is the PostCSS configuration, or one of the project's own that it takes in. */
  isConfiguration(path: string): boolean {
    return this.configFile === path || this.#parts.has(path);
  }

  /** Forgets the PostCSS configuration, e.g. after a change. */
  forget(): void {
    this.#plugins = undefined;
    if (this.configFile !== undefined) forgetLoaded(this.configFile, this.#parts);
  }

  /** What comes next may be made of other files than what was loaded until now. */
  forgetTaken(): void {
    this.#modules.forget();
  }

  /** What Sass and the project's PostCSS plugins make of a text in a language, which is that of a file or stands for it. */
  async toCss(id: string, file: string, source: string, language: string): Promise<CompiledStyle | Problem> {
    return this.compile(id, `${file}?toCss.${language}`, source);
  }

  async compile(
    id: string,
    file: string,
    written: string,
    { isFinished, map, finish }: StylePart = {},
  ): Promise<CompiledStyle | Problem> {
    const source = withoutMark(written);
    let style: CompiledStyle = { css: source, dependencies: [], folders: [], composed: [], ...(map ? { map } : {}) };
    try {
      if (isFinished) return style;
      if (/\.s[ac]ss$/.test(file)) style = await through(style, await this.#sass(file, source));
      const refused = style.dependencies.map((path) => this.#refused(path)).find((found) => found !== undefined);
      if (refused) throw refused;
      if (!id.includes('node_modules/')) style = await this.#postcss(file, style);
      if (finish) {
        const { code, map: finished } = await finish(style.css);
        style = await through(style, { ...style, css: code, ...(finished ? { map: finished } : {}) });
      }
      if (cssModule.test(file)) style = await this.#modules.compile(id, file, style);
      return style;
    } catch (error) {
      const { idOf } = this.#options;
      return styleProblem(error, { id, file, source }, { mayRead: (path) => this.#refused(path) === undefined, idOf });
    }
  }

  /** What to throw for a sheet that Sass took from where nothing may be taken. */
  #refused(path: string): Error | undefined {
    const real = realPathNow(path) ?? path;
    const why = this.#options.gate.refusal(path, real);
    if (why === undefined) return undefined;
    const name = basename(path)
      .replace(/^_/, '')
      .replace(/\.\w+$/, '');
    return Object.assign(new Error(path), { specifier: name, problem: explainRefusal({ why, file: real }, name) });
  }

  async #sass(file: string, source: string): Promise<CompiledStyle> {
    const sass = await loadSass(this.#options.root);
    // At one go it takes a third to a half of the time; in steps it let nobody else in either. What is waiting comes first.
    await othersFirst();
    const result = sass.compileString(source, {
      syntax: extname(file) === '.sass' ? 'indented' : 'scss',
      url: pathToFileURL(onDisk(file)),
      sourceMap: true,
      sourceMapIncludeSources: true,
      quietDeps: true,
      logger: { warn: () => {}, debug: () => {} },
      importers: [
        {
          findFileUrl: (url, { containingUrl }) =>
            this.#sassFile(url, containingUrl ? fileURLToPath(containingUrl) : onDisk(file)),
        },
        new sass.NodePackageImporter(this.#options.root),
      ],
    });
    const dependencies = result.loadedUrls
      .filter(({ protocol }) => protocol === 'file:')
      .map((url) => fileURLToPath(url))
      .filter((path) => path !== onDisk(file));
    return { css: result.css, map: result.sourceMap as unknown as RawMap, dependencies, folders: [], composed: [] };
  }

  /** Where `@use "package/sheet"` or an alias leads; Sass itself tries extensions and partials. */
  #sassFile(url: string, from: string): URL | null {
    if (/^[a-z][a-z0-9+.-]*:/i.test(url)) return null;
    for (const candidate of this.#options.mapped(url, dirname(from))) if (hasSassFile(candidate)) return pathToFileURL(candidate);
    for (let at = dirname(from); ; at = dirname(at)) {
      const candidate = join(at, 'node_modules', url);
      if (existsSync(join(at, 'node_modules', url.split('/')[0]!)) && hasSassFile(candidate)) return pathToFileURL(candidate);
      if (dirname(at) !== at) continue;
      return olderPackage.test(url) ? this.#sassFile(url.slice(1), from) : this.#sassFileAbove(url, from);
    }
  }

  /** A name counted from a folder above, up to that of the package or the project, as sheets have it that are made with a list of folders. */
  #sassFileAbove(url: string, from: string): URL | null {
    if (url.startsWith('.')) return null;
    for (let at = dirname(from); at !== this.#options.root && !existsSync(join(at, 'package.json')); ) {
      at = dirname(at);
      if (dirname(at) === at) break;
      if (hasSassFile(join(at, url))) return pathToFileURL(join(at, url));
    }
    return null;
  }

  async #postcss(file: string, style: CompiledStyle): Promise<CompiledStyle> {
    this.#plugins ??= this.#loadPlugins();
    const plugins = await this.#plugins;
    if (plugins.length === 0) return style;
    const result = await run(plugins, file, style);
    const dependencies = result.messages
      .filter(({ type }: Message) => type === 'dependency')
      .map((message: Message) => String(message.file));
    const folders = result.messages
      .filter(({ type }: Message) => type === 'dir-dependency')
      .map((message: Message) => String(message.dir));
    return {
      ...style,
      css: result.css,
      map: await mapOf(result, style),
      dependencies: [...style.dependencies, ...dependencies],
      folders,
    };
  }

  async #loadPlugins(): Promise<AcceptedPlugin[]> {
    const { root, mode } = this.#options;
    const parts = new Set<string>();
    try {
      const found = await loadPostcssConfig(root, mode, (part) => parts.add(part));
      // It may have gone.
      this.configFile = found?.file;
      this.#parts = new Set(found ? [...configParts(found.file), ...parts] : []);
      return found?.plugins ?? [];
    } catch (error) {
      const configFile = brokenConfig(root);
      // What mends it may be a part of it.
      this.#parts = new Set([...configParts(join(root, configFile)), ...parts]);
      throw Object.assign(error instanceof Error ? error : new Error(String(error)), { configFile });
    }
  }
}

/** A style with its map led on through the one that it was made of. */
async function through(before: CompiledStyle, after: CompiledStyle): Promise<CompiledStyle> {
  if (!before.map || !after.map || after.map === before.map) return after;
  return { ...after, map: (await import('../../core/maps/raw-map.js')).chainMaps(after.map, before.map) };
}

/** The path of the file that a path with the name of a part behind it is of. */
function onDisk(file: string): string {
  return file.replace(/\?(?:part|toCss)\.[\w.-]+$/, '');
}

/** Sass looks for `name`, `name.scss`, `_name.scss`, `name/_index.scss` and so on. */
function hasSassFile(path: string): boolean {
  const name = path.slice(dirname(path).length + 1);
  const stems = [path, join(dirname(path), `_${name}`), join(path, '_index'), join(path, 'index')];
  return stems.some((stem) =>
    ['', '.scss', '.sass', '.css'].some(
      (extension) => (extension !== '' || extname(stem) !== '') && existsSync(stem + extension),
    ),
  );
}
