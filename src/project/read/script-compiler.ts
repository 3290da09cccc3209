import { dirname } from 'node:path';
import type { Linked, ModuleRequest } from '../../core/link/linked.js';
import type { Mode } from '../../core/mode.js';
import type { Paths } from '../../core/paths.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { contentHash } from '../../core/text/content-hash.js';
import type { Trace } from '../../core/trace.js';
import type { ScriptTargets } from '../../core/translate/translate-script.js';
import { type CompiledScript, type CompileSettings, compileScript, type MadeScript, type NotCompiled } from './compile-script.js';
import { packScript, unpackScript } from './packed-script.js';
import type { RequestTargets } from './request-targets.js';
import { tooDeep } from './trial.js';
import type { TsSettings } from './ts-settings.js';

/** Texts that outlive the process, by key. */
export interface KeptTexts {
  get(key: string): string | undefined;
  /** Keeps a text, which is asked for when it's written. */
  put(key: string, text: () => string): void;
}

export interface ScriptCompilerOptions {
  paths: Paths;
  resolver: Resolver;
  targets: RequestTargets;
  typescript: TsSettings;
  mode: Mode;
  buildTargets?: ScriptTargets | undefined;
  constants: Readonly<Record<string, string>>;
  trace: Trace;
  /** Results of earlier runs; absent where nothing is kept. */
  cache(): KeptTexts | undefined;
  /** Changes with whatever may compile the same source to something else. */
  fingerprint: string;
  /** React is there, so components keep their state across updates. */
  refresh(): boolean;
}

/** What tells a source from others. */
export interface SourceVersion {
  /** Hash of the source. */
  hash: string;
  /** See `LinkInput.checked`. */
  isChecked: boolean;
}

/** Takes scripts from their text to the linked form, as quickly as the cache allows. */
export class ScriptCompiler {
  readonly #options: ScriptCompilerOptions;
  readonly #fingerprint: string;
  readonly #prefixes = new WeakMap<object, string>();
  /** What was begun and not asked for yet, by key. */
  readonly #prepared = new Map<string, Promise<CompiledScript | NotCompiled>>();
  /** How many scripts were translated so far. */
  translations = 0;

  constructor(options: ScriptCompilerOptions) {
    this.#options = options;
    this.#fingerprint = contentHash(options.fingerprint, options.mode, JSON.stringify([options.constants, options.buildTargets]));
  }

  /** Begins to compile what will probably be asked for soon. */
  prepare(id: string, source: string, version: SourceVersion): void {
    const key = this.#key(id, version);
    if (!this.#prepared.has(key)) this.#prepared.set(key, this.#compileOrFind(id, source, key, version));
  }

  /** Forgets what was begun in vain. */
  forgetPrepared(): void {
    this.#prepared.clear();
  }

  /**
   * Compiles the text of module `id`, or takes what was begun or what an earlier run made of the same. `made`: the text that an
   * adapter made of `source`. Its compiled form has a version of its own, which stays when only what is around it changes.
   */
  async compile(id: string, source: string, version: SourceVersion, made?: MadeScript): Promise<CompiledScript | NotCompiled> {
    const from = made ? contentHash(made.language, made.text, made.map?.mappings ?? '') : version.hash;
    const key = this.#key(id, { ...version, hash: from }) + (made ? ' made' : '');
    const prepared = this.#prepared.get(key);
    this.#prepared.delete(key);
    return prepared ?? this.#compileOrFind(id, source, key, version, made);
  }

  /** Compiles without asking what is kept, which lacks the translated text. */
  async compileAfresh(
    id: string,
    source: string,
    version: SourceVersion,
    made?: MadeScript,
  ): Promise<CompiledScript | NotCompiled> {
    const problem = await tooDeep(id, made?.text ?? source, made ? `${id}.${made.language}` : id);
    if (problem) return { problems: [problem] };
    this.translations++;
    const key = made ? undefined : this.#key(id, version);
    return compileScript(source, this.#settings(id, version.isChecked, key, made), this.#tools(id));
  }

  async #compileOrFind(
    id: string,
    source: string,
    key: string,
    version: SourceVersion,
    made?: MadeScript,
  ): Promise<CompiledScript | NotCompiled> {
    const { trace } = this.#options;
    const cache = this.#options.cache();
    if (!cache) return this.compileAfresh(id, source, version, made);
    const from = trace.now();
    const packed = cache.get(key);
    const known = packed === undefined ? undefined : unpackScript(packed);
    trace.span('module', known ? 'from the cache' : 'not in the cache', from, { id });
    if (known && !this.#lacksCertainty(id, known.linked)) return known;
    const compiled = await this.compileAfresh(id, source, version, made);
    if (compiled.problems === undefined)
      cache.put(key, () => packScript(compiled as CompiledScript, this.#options.mode === 'production'));
    return compiled;
  }

  #settings(id: string, isChecked: boolean, key?: string, made?: MadeScript): CompileSettings {
    const { typescript, paths, refresh, constants, mode, buildTargets } = this.#options;
    return {
      id,
      isChecked,
      scope: this.scopeType(id),
      options: typescript.optionsFor(paths.fileOf(id)),
      root: paths.root,
      refresh: made === undefined && refresh(),
      ...(made ? { made } : {}),
      mode,
      targets: buildTargets,
      constants,
      ...(key === undefined ? {} : { key }),
    };
  }

  #tools(id: string) {
    const { trace } = this.#options;
    return { lacksCertainty: (linked: Linked) => this.#lacksCertainty(id, linked), trace };
  }

  /** Everything that a compiled script depends on. The id is in it since JSX names its file. */
  #key(id: string, { hash, isChecked }: SourceVersion): string {
    const { typescript, paths, refresh } = this.#options;
    const options = typescript.optionsFor(paths.fileOf(id));
    let prefix = this.#prefixes.get(options);
    if (prefix === undefined) {
      prefix = contentHash(this.#fingerprint, JSON.stringify(options));
      this.#prefixes.set(options, prefix);
    }
    const scope = id.endsWith('.js') ? (this.scopeType(id) ?? '') : '';
    return `${prefix}${hash}${isChecked ? 'c' : ''}${refresh() ? 'r' : ''} ${scope} ${id}`;
  }

  /** Whether a `require` leads nowhere, which is a problem or not, depending on where it stands, and that is not known. */
  #lacksCertainty(id: string, { isScanned, requests }: Linked): boolean {
    const { targets } = this.#options;
    const isLost = (request: ModuleRequest) => request.kind === 'require' && targets.ofModule(id, request).target === undefined;
    return isScanned === true && requests.some(isLost);
  }

  /** The `type` that the package of a module declares. */
  scopeType(id: string): string | undefined {
    return this.#options.resolver.packages.scopeOf(dirname(this.#options.paths.fileOf(id)))?.type;
  }
}

let _known: string | undefined;
