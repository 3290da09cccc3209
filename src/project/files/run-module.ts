import { accessSync, constants, existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, extname, join, resolve } from 'node:path';
import { fileURLToPath, pathToFileURL } from 'node:url';
import type { Import, parse as Parse } from 'es-module-lexer';
import { problemAt, VineError } from '../../core/problem/problem.js';
import { contentHash } from '../../core/text/content-hash.js';
import { refuseTooDeep } from '../../core/translate/nesting.js';
import { defaultScriptOptions } from '../../core/translate/script-options.js';
import { translateScript } from '../../core/translate/translate-script.js';
import { configParts, forgetLoaded } from './config-parts.js';

/** A file of the user's own that is code for Node.js, ready to run. */
export interface RunnableModule {
  /** Runs it. Settles with what it exports. */
  run(): Promise<Record<string, unknown>>;
  /** Takes away what was made for that, once it has run. */
  dispose(): void;
}

/**
 * Makes a file, TypeScript or JavaScript, ready to run with all of the user's own files that it imports, as they are now: Node.js would
 * run a file once only. They are translated to files in the nearest cache folder, where packages are found as beside the file, and
 * `import.meta` stays that of the file. CommonJS runs where it stands. `parts` is told the absolute paths of the files that are
 * imported, also before one fails.
 *
 * @throws VineError `settings-unreadable` for a file that can't be parsed, or an Error for one that isn't there.
 */
export async function prepareModule(file: string, parts: (path: string) => void): Promise<RunnableModule> {
  const copies = new Copies(parts);
  try {
    const url = await copies.urlOf(file);
    return { run: () => import(url) as Promise<Record<string, unknown>>, dispose: () => copies.dispose() };
  } catch (error) {
    copies.dispose();
    throw error;
  }
}

/**
 * Runs a file, see `prepareModule`. Settles with what it exports.
 *
 * @throws as that does, and whatever the file throws.
 */
export async function runModule(file: string, parts: (path: string) => void): Promise<Record<string, unknown>> {
  const prepared = await prepareModule(file, parts);
  try {
    return await prepared.run();
  } finally {
    prepared.dispose();
  }
}

const untilExit = new Set<string>();

/** Takes files away when the process ends. */
function keepUntilExit(paths: Iterable<string>): void {
  if (untilExit.size === 0)
    process.once('exit', () => {
      for (const path of untilExit) rmSync(path, { force: true });
    });
  for (const path of paths) untilExit.add(path);
}

/** Stands for `import.meta` in a copy. */
const metaName = 'spark$meta';
let number = 0;

class Copies {
  readonly #parts: (path: string) => void;
  /** What was copied, by what it's of. */
  readonly #paths = new Map<string, string>();
  /** Some of it may be asked for at any time. */
  #isNeededLater = false;

  constructor(parts: (path: string) => void) {
    this.#parts = parts;
  }

  /** The URL by which Node.js runs a file anew. */
  async urlOf(file: string): Promise<string> {
    // Under a name that it hasn't had yet, it's read anew.
    if (file.endsWith('.json')) return `${pathToFileURL(file).href}?${number++}`;
    if (!/\.[mc]?[jt]s$/.test(file)) return pathToFileURL(file).href;
    const known = this.#paths.get(file);
    if (known !== undefined) return pathToFileURL(known).href;
    const source = readFileSync(file, 'utf8');
    const { init, parse } = await import('es-module-lexer');
    await init();
    if (isCommonJs(file, source, parse)) return this.#commonJs(file);
    const copy = join(writableCacheFor(file), `settings-${contentHash(file)}-${Date.now()}-${number++}.mjs`);
    this.#paths.set(file, copy);
    refuseTooDeep(file, source);
    const translated = await translateScript(source, {
      id: file,
      inPackage: false,
      mode: 'production',
      refresh: false,
      options: defaultScriptOptions,
    });
    if ('code' in translated) throw new VineError({ ...translated, code: 'settings-unreadable' });
    let text = translated.text;
    let usesMeta = false;
    for (const { specifier, start, end, type } of (await importsOf(file, text, parse)).toReversed()) {
      if (type === 'import-meta') {
        usesMeta = true;
        text = text.slice(0, start) + metaName + text.slice(end);
      }
      if (typeof specifier !== 'string' || specifier.startsWith('node:')) continue;
      const target = JSON.stringify(await this.#target(specifier, file));
      if (type === 'dynamic') this.#isNeededLater = true;
      text = text.slice(0, start) + (type === 'dynamic' ? target : target.slice(1, -1)) + text.slice(end);
    }
    writeFileSync(copy, usesMeta ? `${metaOf(file)}\n${text}` : text);
    return pathToFileURL(copy).href;
  }

  dispose(): void {
    if (this.#isNeededLater) keepUntilExit(this.#paths.values());
    else for (const path of this.#paths.values()) rmSync(path, { force: true });
  }

  /** What a copy imports instead of what its file does. */
  async #target(specifier: string, file: string): Promise<string> {
    if (/^\.{1,2}\//.test(specifier)) return this.urlOf(this.#partAt(resolve(dirname(file), specifier)));
    if (specifier.startsWith('file:')) return this.urlOf(fileURLToPath(specifier));
    try {
      const found = createRequire(file).resolve(specifier);
      // Packages of the user's own may be sources, and names that package.json gives mean something beside the file only.
      if (!found.startsWith('/') || found.includes('/node_modules/'))
        return specifier.startsWith('#') && found.startsWith('/') ? pathToFileURL(found).href : specifier;
      this.#parts(found);
      return await this.urlOf(found);
    } catch (error) {
      // What is for modules only is found by Node.js itself.
      if ((error as NodeJS.ErrnoException).code !== 'MODULE_NOT_FOUND') return specifier;
      throw error;
    }
  }

  #partAt(path: string): string {
    const inTypeScript = path.replace(/\.([mc]?)js$/, '.$1ts');
    const candidates = [path, inTypeScript, ...['.ts', '.js', '.mjs', '/index.ts', '/index.js'].map((ending) => path + ending)];
    const found = candidates.find((candidate) => existsSync(candidate) && extname(candidate) !== '');
    if (found === undefined) {
      // Whichever comes mends it.
      for (const candidate of new Set(candidates)) if (extname(candidate) !== '') this.#parts(candidate);
      throw new Error(`it imports ${path}, which does not exist`);
    }
    this.#parts(found);
    return found;
  }

  /** Lets a CommonJS module and its parts run again. */
  #commonJs(file: string): string {
    const parts = configParts(file);
    for (const part of parts) if (part !== file) this.#parts(part);
    forgetLoaded(file, parts);
    return `${pathToFileURL(file).href}?${number++}`;
  }
}

/** What a module's text imports. JavaScript that nobody translated may be none, which is told with its place. */
async function importsOf(file: string, text: string, parse: typeof Parse): Promise<readonly Import[]> {
  try {
    return parse(text)[0];
  } catch (error) {
    const { syntaxMistake } = await import('../../core/translate/check-syntax.js');
    const { message, start, end } = syntaxMistake(text, true) ?? { message: 'It is no module.', start: 0, end: 1 };
    throw new VineError(problemAt({ file, text, start, end }, { code: 'settings-unreadable', message }), { cause: error });
  }
}

/** Whether a file is CommonJS: by its name, else by what it holds. */
function isCommonJs(file: string, source: string, parse: (text: string) => readonly unknown[]): boolean {
  if (/\.[cm]?ts$|\.mjs$/.test(file)) return false;
  if (file.endsWith('.cjs')) return true;
  try {
    return parse(source)[3] === false && /\b(?:module|exports|require)\b/.test(source);
  } catch {
    return false; // whoever translates it says what is wrong
  }
}

/** The cache folder from which packages are found as they are beside a file; one beside it where that can't be written to. */
function writableCacheFor(file: string): string {
  const beside = join(dirname(file), 'node_modules/.cache/vine-spark');
  for (let at = dirname(file); dirname(at) !== at; at = dirname(at)) {
    if (!existsSync(join(at, 'node_modules'))) continue;
    const found = join(at, 'node_modules/.cache/vine-spark');
    try {
      mkdirSync(found, { recursive: true });
      accessSync(found, constants.W_OK);
      return found;
    } catch {
      break; // an installation of somebody else's
    }
  }
  mkdirSync(beside, { recursive: true });
  return beside;
}

/** Declares what `import.meta` is in a file. */
function metaOf(file: string): string {
  const text = (value: string) => JSON.stringify(value);
  const url = pathToFileURL(file).href;
  const paths = `url: ${text(url)}, filename: ${text(file)}, dirname: ${text(dirname(file))}`;
  const resolving = `(specifier) => /^\\.{0,2}\\//.test(specifier) ? new URL(specifier, ${text(url)}).href : import.meta.resolve(specifier)`;
  return `const ${metaName} = { ${paths}, resolve: ${resolving} };`;
}
