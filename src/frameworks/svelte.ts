import { existsSync, readFileSync, statSync } from 'node:fs';
import { basename, join } from 'node:path';
import type { RawMap } from '../core/maps/raw-map.js';
import { contentHash, shortHash } from '../core/text/content-hash.js';
import type { Adapter, AdapterContext, AdapterMessage, AdapterResult } from '../core/translate/adapter.js';
import { blanked } from './blanked.js';
import { type FoundCompiler, findCompiler, installedVersion } from './compilers.js';
import { svelteHelper } from './svelte-helper.js';

interface Place {
  line: number;
  /** From 0. */
  column: number;
}

interface Warning {
  code: string;
  message: string;
  start?: Place;
}

interface Compiled {
  js: { code: string; map: RawMap };
  css: { code: string; map: RawMap } | null;
  warnings: Warning[];
}

interface Preprocessed {
  code: string;
  map?: RawMap | string;
  dependencies?: string[];
}

/** The part of `svelte/compiler` that is used here. */
interface SvelteCompiler {
  compile(source: string, options: object): Compiled;
  compileModule?(source: string, options: object): Compiled;
  preprocess(source: string, preprocessors: unknown, options: { filename: string }): Promise<Preprocessed>;
}

/** What a project's `svelte.config.js` says, as far as it concerns components. */
interface SvelteSettings {
  preprocess?: unknown;
  compilerOptions?: Record<string, unknown>;
  onwarn?: (warning: Warning, handler: (warning: Warning) => void) => void;
}

interface Content {
  content: string;
  attributes: Record<string, string | boolean>;
}

const need = { framework: 'svelte', entry: 'svelte/compiler', majors: [4, 5], what: 'Components of Svelte' } as const;
const settingsNames = ['svelte.config.js', 'svelte.config.mjs', 'svelte.config.ts'];

/** Runs a file of the project's own as it is now. Tells what it imports, and settles with what it exports. */
export type RunModule = (file: string, parts: (path: string) => void) => Promise<Record<string, unknown>>;

/**
 * Makes modules of `.svelte`, `.svelte.js` and `.svelte.ts` files, with the compiler of the project's own Svelte. `root`: absolute path.
 */
export function svelteAdapter(root: string, run: RunModule): Adapter {
  const reader = new SettingsReader(root, run);
  let found: Promise<FoundCompiler<SvelteCompiler>> | undefined;
  const compilerFor = (file: string) => {
    found ??= findCompiler<SvelteCompiler>(file, need).catch((error: unknown) => {
      found = undefined;
      throw error;
    });
    return found;
  };
  return {
    name: 'svelte',
    files: /\.svelte(?:\.[jt]s)?$/,
    helpers: { 'state.js': svelteHelper },
    version: () =>
      looksAtProcess(root)
        ? undefined
        : `${installedVersion(root, 'svelte')} ${installedVersion(root, 'sass')} ${preprocessorsOf(root)}`,
    async translate(source, context) {
      const { compiler, version } = await compilerFor(context.file);
      const major = Number.parseInt(version, 10);
      const settings = await reader.of(context);
      const translation = new Translation({ compiler, major, settings, context });
      try {
        return /\.svelte\.[jt]s$/.test(context.file) ? await translation.module(source) : await translation.component(source);
      } catch (error) {
        throw 'problem' in Object(error) ? error : failure(error);
      }
    },
  };
}

interface TranslationOptions {
  compiler: SvelteCompiler;
  major: number;
  settings: SvelteSettings;
  context: AdapterContext;
}

/** One file on its way to modules. */
class Translation {
  readonly #options: TranslationOptions;

  constructor(options: TranslationOptions) {
    this.#options = options;
  }

  get #isBuilt(): boolean {
    return this.#options.context.mode === 'production';
  }

  /** A module with runes. */
  async module(source: string): Promise<AdapterResult> {
    const { compiler, context } = this.#options;
    if (!compiler.compileModule)
      throw refused(`${context.id} is a module with runes, which Svelte 5 has, and an older one is installed.`);
    const isTypeScript = context.file.endsWith('.ts');
    const plain = isTypeScript ? await context.toScript(source, 'ts') : { code: source };
    const { js, warnings } = compiler.compileModule(plain.code, {
      filename: context.file,
      generate: 'client',
      dev: !this.#isBuilt,
      rootDir: context.root,
    });
    return { code: js.code, map: await chained(js.map, plain.map), ...this.#warnings(warnings) };
  }

  async component(source: string): Promise<AdapterResult> {
    const { major, context } = this.#options;
    // Older compilers know no types.
    const prepared = await this.#prepared(source, major < 5);
    let made = prepared;
    let compiled: Compiled;
    try {
      compiled = this.#compile(prepared);
    } catch (error) {
      // The compiler itself only leaves types out; what becomes code, such as an enum, is translated before.
      if ((error as { code?: unknown }).code !== 'typescript_invalid_feature') throw error;
      made = await this.#prepared(source, true);
      compiled = this.#compile(made);
    }
    const { js, css } = compiled;
    const name = basename(context.file, '.svelte');
    const isHot = !this.#isBuilt && major >= 5 && !this.#isCustomElement;
    const about = { map: js.map, source: made.code, name, id: context.id, hash: contentHash };
    const hot = isHot ? (await import('./svelte-state.js')).keepState(js.code, about) : undefined;
    const code = hot?.code ?? withoutHot(js.code);
    const parts = css?.code ? { 'style.css': { text: css.code, map: css.map, isFinished: true } } : undefined;
    return {
      code: parts ? `${code}\nimport 'part:style.css';\n` : code,
      map: hot?.map ?? js.map,
      ...(parts ? { parts } : {}),
      ...(hot?.holdsNoState ? { holdsNoState: true } : {}),
      ...this.#warnings(compiled.warnings),
    };
  }

  get #isCustomElement(): boolean {
    return this.#options.settings.compilerOptions?.customElement === true;
  }

  #compile({ code, map }: Preprocessed): Compiled {
    const { compiler, major, settings, context } = this.#options;
    const cssClass = `svelte-${shortHash(context.id)}`;
    return compiler.compile(code, {
      filename: context.file,
      ...(major < 5
        ? { generate: 'dom' }
        : { generate: 'client', rootDir: context.root, hmr: !this.#isBuilt && !this.#isCustomElement }),
      dev: !this.#isBuilt,
      css: this.#isCustomElement ? 'injected' : 'external',
      // The same from one version of the file to the next, so that a change of the styles is none of the code.
      cssHash: () => cssClass,
      ...(map ? { sourcemap: map } : {}),
      ...settings.compilerOptions,
    });
  }

  /** The component after the project's own preprocessors, and with its styles as CSS. */
  async #prepared(source: string, isTranslated: boolean): Promise<Preprocessed> {
    const { compiler, settings, context } = this.#options;
    const filename = context.file;
    const groups = settings.preprocess === undefined ? [] : [settings.preprocess].flat();
    // The compiler's own way takes half a millisecond even where nothing comes of it.
    const sheet = groups.length === 0 && !isTranslated ? onlySheet(source) : undefined;
    const made = sheet ? await this.#style(source, sheet, {}) : undefined;
    if (sheet !== undefined && !made) return { code: source };
    const own = {
      name: 'vine-spark',
      style: ({ content, attributes }: Content) => made ?? this.#style(source, content, attributes),
      ...(isTranslated ? { script: ({ content, attributes }: Content) => this.#script(source, content, attributes) } : {}),
    };
    const result = await compiler.preprocess(source, [...groups, own], { filename });
    for (const path of result.dependencies ?? []) context.dependOn(path);
    return result.code === source ? { code: source } : result;
  }

  async #style(source: string, content: string, { lang }: Content['attributes']) {
    const { context } = this.#options;
    const language = typeof lang === 'string' && lang !== 'postcss' ? lang : 'css';
    const start = source.indexOf(content);
    if (!['css', 'scss', 'sass'].includes(language))
      throw refused(`Styles in the language '${language}' are not translated.`, source, start);
    // On the lines of the file, so that what is wrong is shown where it is.
    const text = start === -1 ? content : blanked(source, start, start + content.length);
    const { code, map } = await context.toCss(text, language);
    return code === text ? undefined : { code, ...(map ? { map } : {}) };
  }

  async #script(source: string, content: string, { lang }: Content['attributes']) {
    if (lang !== 'ts' && lang !== 'tsx') return undefined;
    const start = source.indexOf(content);
    const text = start === -1 ? content : blanked(source, start, start + content.length);
    return this.#options.context.toScript(text, lang);
  }

  #warnings(warnings: Warning[]): { warnings?: AdapterMessage[] } {
    const { settings, context } = this.#options;
    if (context.id.includes('node_modules/')) return {};
    const kept: Warning[] = [];
    for (const warning of warnings) {
      if (settings.onwarn) settings.onwarn(warning, (told) => kept.push(told));
      else kept.push(warning);
    }
    return kept.length === 0
      ? {}
      : { warnings: kept.map((warning) => ({ message: firstLine(warning.message), ...placeOf(warning) })) };
  }
}

/** The sheet of a component that has one of CSS, or none; `undefined` where it's not as simple as that. */
function onlySheet(source: string): string | undefined {
  const first = source.indexOf('<style');
  if (first === -1) return '';
  const isOnly = source.indexOf('<style', first + 1) === -1 && !source.includes('<!--');
  return isOnly ? /<style>([\s\S]*?)<\/style>/.exec(source)?.[1] : undefined;
}

/** Nobody takes updates of the component by itself. */
function withoutHot(code: string): string {
  return code.replaceAll(/\bimport\.meta\.hot\b/g, 'undefined');
}

/** Changes with whatever decides, beside files, about what the project's settings of Svelte do: the packages that are installed. */
export function preprocessorsOf(root: string): string {
  const lists = ['.package-lock.json', '.modules.yaml', '.yarn-state.yml'].map((name) => join(root, 'node_modules', name));
  return settingsFile(root) === undefined ? '' : stampOf(lists);
}

/** Whether the project's settings of Svelte look at what the process was started with, of which nobody tells. */
export function looksAtProcess(root: string): boolean {
  const file = settingsFile(root);
  return file !== undefined && /\bprocess\b/.test(readFileSync(file, 'utf8').replaceAll('process.env.NODE_ENV', ''));
}

function settingsFile(root: string): string | undefined {
  return settingsNames.map((name) => join(root, name)).find((path) => existsSync(path));
}

/** A project's settings of Svelte, run again when they or what they import has changed. */
class SettingsReader {
  readonly #root: string;
  readonly #run: RunModule;
  #known: { stamp: string; parts: Set<string>; settings: Promise<SvelteSettings> } | undefined;

  constructor(root: string, run: RunModule) {
    this.#root = root;
    this.#run = run;
  }

  async of(context: AdapterContext): Promise<SvelteSettings> {
    for (const name of settingsNames) context.dependOn(join(this.#root, name));
    const file = settingsFile(this.#root);
    if (!file || context.id.includes('node_modules/')) return {};
    if (this.#known?.stamp !== stampOf([file, ...(this.#known?.parts ?? [])])) this.#known = undefined;
    this.#known ??= this.#read(file);
    const { parts, settings } = this.#known;
    try {
      return await settings;
    } catch (error) {
      const message = `${basename(file)} cannot be used: ${error instanceof Error ? error.message.split('\n')[0] : String(error)}`;
      throw Object.assign(new Error(message, { cause: error }), {
        problem: { code: 'settings-unreadable', message, hint: 'It holds settings of Svelte; correct it, or delete it.' },
      });
    } finally {
      for (const part of parts) context.dependOn(part);
    }
  }

  #read(file: string) {
    const known = { stamp: stampOf([file]), parts: new Set<string>(), settings: Promise.resolve<SvelteSettings>({}) };
    known.settings = this.#run(file, (part) => {
      known.parts.add(part);
      known.stamp = stampOf([file, ...known.parts]);
    }).then(({ default: settings = {} }) => settings as SvelteSettings);
    known.settings.catch(() => {}); // whoever asks is told
    return known;
  }
}

function stampOf(files: Iterable<string>): string {
  return [...files].map((file) => statSync(file, { throwIfNoEntry: false })?.mtimeMs ?? '').join();
}

function failure(error: unknown): Error {
  const { message, start, position } = Object(error) as { message?: string; start?: Place; position?: unknown };
  const text = firstLine(message ?? String(error));
  return Object.assign(new Error(text, { cause: error }), {
    errors: [{ message: text, ...placeOf(start ? { start } : {}) }],
    problem: { code: 'component-invalid', message: '' },
    position,
  });
}

function refused(message: string, source = '', at = -1): Error {
  const lines = source.slice(0, Math.max(0, at)).split('\n');
  return Object.assign(new Error(message), {
    errors: [{ message, line: lines.length, column: lines.at(-1)!.length + 1 }],
    problem: { code: 'component-invalid', message: '' },
  });
}

function placeOf({ start }: { start?: Place }): { line?: number; column?: number } {
  return start ? { line: start.line, column: start.column + 1 } : {};
}

function firstLine(message: string): string {
  return message.split('\n')[0]!;
}

async function chained(outer: RawMap, inner: RawMap | undefined): Promise<RawMap> {
  if (!inner) return outer;
  const { chainMaps } = await import('../core/maps/raw-map.js');
  return chainMaps(outer, inner);
}
