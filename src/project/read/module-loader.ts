import { readFileSync } from 'node:fs';
import { basename } from 'node:path';
import { isForeignSource, kindOfFile } from '../../core/file-kinds.js';
import type { Loaded } from '../../core/graph/module-content.js';
import { dataText, jsonText, linkBytes, linkConstructedSheet, linkJson, linkText, linkUrl } from '../../core/link/link-data.js';
import type { Linked, ModuleRequest } from '../../core/link/linked.js';
import { wantsOnlyDefault, wasmText } from '../../core/link/wasm-module.js';
import type { Mode } from '../../core/mode.js';
import { fileOfId, partId, splitId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { contentHash, quickHash } from '../../core/text/content-hash.js';
import { withoutMark } from '../../core/text/json.js';
import { SourceText } from '../../core/text/source-text.js';
import type { Trace } from '../../core/trace.js';
import type { Adapter, AdapterPart, AdapterResult, ScriptLanguage } from '../../core/translate/adapter.js';
import { findJsonMistake } from '../../core/translate/json-mistake.js';
import { refuseTooDeep } from '../../core/translate/nesting.js';
import { type ScriptTargets, translateScript } from '../../core/translate/translate-script.js';
import { loadStyle } from '../styles/load-style.js';
import type { StyleCompiler } from '../styles/style-compiler.js';
import { type AdaptedFile, AdaptedFiles, adapterProblems } from './adapted-files.js';
import { type CompiledScript, isInPackage, type MadeScript, type NotCompiled } from './compile-script.js';
import { partGone, relocated } from './part-places.js';
import { RequestEdges } from './request-edges.js';
import { helperPrefix, preactRefresh, preactRefreshId, type RequestTargets } from './request-targets.js';
import { type KeptTexts, ScriptCompiler, type SourceVersion } from './script-compiler.js';
import { specifierPlace } from './specifier-place.js';
import type { TsSettings } from './ts-settings.js';
import { foreignKind, notText } from './unreadable.js';

export interface LoaderOptions {
  paths: Paths;
  resolver: Resolver;
  targets: RequestTargets;
  typescript: TsSettings;
  mode: Mode;
  compiler: StyleCompiler;
  adapters: readonly Adapter[];
  constants: Readonly<Record<string, string>>;
  /** What a build's scripts have to be understood by. */
  buildTargets?: ScriptTargets | undefined;
  trace: Trace;
  /** Results of earlier runs; absent where nothing is kept. */
  cache(): KeptTexts | undefined;
  /** See `ScriptCompilerOptions`. */
  fingerprint: string;
  /** Told what the user should know of a module, though it's made. */
  onWarning(id: string, warning: Problem): void;
  /** The text of another file (absolute path) that a part of a file is made of. */
  readText(path: string): string | undefined;
  /** URL prefix of the pieces of dynamic imports. */
  lazyPiece(id: string): string;
}

/** Takes modules from the bytes of their file to linked code with resolved edges. */
export class ModuleLoader {
  readonly #options: LoaderOptions;
  /** React is there, so components keep their state across updates. */
  #refresh: boolean | undefined;
  readonly #scripts: ScriptCompiler;
  readonly #files: AdaptedFiles;

  constructor(options: LoaderOptions) {
    this.#options = options;
    this.#scripts = new ScriptCompiler({ ...options, refresh: () => this.#keepsState });
    this.#files = new AdaptedFiles({
      ...options,
      root: options.paths.root,
      toCss: (file, text, language) => this.#toCss(file, text, language),
      toScript: (file, text, language) => this.#toScript(file, text, language),
    });
  }

  /** How many scripts were translated so far. */
  get translations(): number {
    return this.#scripts.translations;
  }

  get #keepsState(): boolean {
    this.#refresh ??= this.#options.mode === 'development' && this.#hasReact();
    return this.#refresh;
  }

  #hasReact(): boolean {
    const { resolver, paths } = this.#options;
    return ['react', 'preact'].some((name) => 'found' in resolver.resolve(name, paths.fileOf('page.html'), 'import'));
  }

  /** Looks again whether React is there. Returns whether that is news, so that every component comes out differently. */
  refreshChanged(): boolean {
    const before = this.#keepsState;
    this.#refresh = this.#options.mode === 'development' && this.#hasReact();
    return this.#refresh !== before;
  }

  async load(id: string, content: string | Buffer, version: SourceVersion): Promise<Loaded> {
    const { file, type, part } = splitId(id);
    if (type === 'instance') return this.#program(id, Buffer.from(content), version);
    if (type) return this.#withType(id, file, type, content);
    const adapter = this.#files.adapterFor(file);
    if (part !== undefined && !adapter) return { problems: [partGone(file, part)] };
    if (adapter) return this.#adapted(id, content.toString(), adapter, version);
    const kind = kindOfFile(id);
    const foreign = kind === 'asset' || kind === undefined ? undefined : notText(id, content.toString());
    if (foreign) return { problems: [foreign] };
    if (kind === 'style') return loadStyle(id, content.toString(), this.#options);
    if (kind === 'json') return this.#json(id, content.toString());
    if (kind === 'script') return this.script(id, content.toString(), version);
    if (isForeignSource(id)) return { problems: [foreignKind(id)] };
    return { content: { kind: 'asset', hash: version.hash, linked: linkUrl() }, edges: [] };
  }

  /** Begins what loading a script will need, if it's loaded soon. */
  prepare(id: string, source: string, version: SourceVersion): void {
    if (splitId(id).part === undefined && !this.#files.adapterFor(id)) this.#scripts.prepare(id, source, version);
  }

  /** What comes next may be made of other files than what was loaded until now. */
  forgetTaken(): void {
    this.#options.compiler.forgetTaken();
  }

  /** Forgets what was begun in vain. */
  forgetPrepared(): void {
    this.#scripts.forgetPrepared();
  }

  /** A file that is imported with a type attribute, or by its URL though it isn't an asset. */
  async #withType(id: string, path: string, type: string, content: string | Buffer): Promise<Loaded> {
    const text = content.toString();
    if (type === 'json') return this.#json(id, text, true);
    if (type === 'url') return { content: { kind: 'asset', hash: contentHash(content), linked: linkUrl() }, edges: [] };
    if (type === 'css') {
      const loaded = await loadStyle(path, text, this.#options);
      return 'problems' in loaded || loaded.content.kind !== 'style'
        ? loaded
        : this.#data(id, text, linkConstructedSheet(loaded.content.css), dataText('css', loaded.content.css));
    }
    // As where text is decoded, a byte order mark is none of it.
    if (type === 'text') return this.#data(id, text, linkText(withoutMark(text)), dataText('text', withoutMark(text)));
    const base64 = Buffer.from(content).toString('base64');
    return this.#data(id, text, linkBytes(base64), dataText('bytes', base64));
  }

  /** A WebAssembly program that starts when the module runs. */
  async #program(id: string, bytes: Buffer, { isChecked }: SourceVersion): Promise<Loaded> {
    const file = fileOfId(id);
    let text: string;
    try {
      text = wasmText(bytes, basename(file));
    } catch (error) {
      const message = `This is no WebAssembly: ${(error as Error).message.replace(/^[\w.]+\(\): /, '')}.`;
      return { problems: [{ code: 'syntax-error', severity: 'error', file, message }] };
    }
    const made = { text, language: 'js' as const };
    const compiled = await this.#scripts.compile(id, text, { hash: contentHash(bytes), isChecked }, made);
    const loaded = await this.#finished(id, text, compiled, made);
    if ('content' in loaded) return loaded;
    const hint =
      'Import its URL instead (the default export), and start it with WebAssembly.instantiateStreaming, which is given what it asks for.';
    // What it asks for is hardly ever a package that somebody should install.
    const codeOf = ({ code }: Problem) => (code === 'package-missing' ? 'import-unresolved' : code);
    const told = (problem: Problem): Problem => ({
      code: codeOf(problem),
      severity: problem.severity,
      file,
      message: problem.message,
      hint,
    });
    return { ...loaded, problems: loaded.problems.map(told) };
  }

  #data(id: string, source: string, linked: Linked, text: string): Loaded {
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], value: true };
    return {
      content: {
        kind: 'script',
        source: new SourceText(source),
        linked,
        edges,
        inPackage: id.includes('node_modules/'),
        isChecked: false,
        urls: [],
        isData: true,
        ...(this.#options.mode === 'production' ? { text } : {}),
      },
      edges: [],
    };
  }

  /** Loads a script, e.g. one that stands in a page and has no file of its own. */
  async script(id: string, source: string, version: SourceVersion): Promise<Loaded> {
    return this.#finished(id, source, await this.#scripts.compile(id, source, version));
  }

  /** Makes a module of a file, or of a part of one, with an adapter. */
  async #adapted(id: string, source: string, adapter: Adapter, version: SourceVersion): Promise<Loaded> {
    const { file, part: name } = splitId(id);
    let adapted: AdaptedFile;
    try {
      adapted = await this.#files.of(file, source, version.hash, adapter);
    } catch (error) {
      const dependencies = this.#files.failedOn(file).map((path) => this.#options.paths.idOf(path));
      const problems = adapterProblems(file, source, adapter, error);
      return { problems, dependencies };
    }
    const { result, dependencies, folders } = adapted;
    const part = name === undefined ? undefined : result.parts?.[name];
    if (name !== undefined && !part) return { problems: [partGone(file, name)] };
    const loaded = await this.#partOf(id, source, part ?? { ...result, text: result.code }, { adapter, version, result });
    if ('problems' in loaded) return loaded;
    const { paths } = this.#options;
    if (loaded.content.kind !== 'asset')
      loaded.content.dependencies = [
        ...new Set([...(loaded.content.dependencies ?? []), ...dependencies.map((path) => paths.idOf(path))]),
      ];
    if (loaded.content.kind !== 'asset' && folders.length > 0)
      loaded.content.folders = [...new Set([...(loaded.content.folders ?? []), ...folders])];
    return loaded;
  }

  /** CSS of a text that stands for a file. */
  async #toCss(file: string, text: string, language: string) {
    const id = this.#options.paths.idOf(file);
    const compiled = await this.#options.compiler.toCss(id, file, text, language);
    if ('severity' in compiled) throw Object.assign(new Error(compiled.message), placeOfProblem(compiled));
    const { css, map, dependencies, folders } = compiled;
    const { usesPlugins, configCandidates } = this.#options.compiler;
    return {
      code: css,
      ...(map ? { map } : {}),
      dependencies: [...dependencies, ...configCandidates],
      folders,
      isKnown: !usesPlugins,
    };
  }

  /** A script of a text that stands for a file. What is imported stays, whoever uses it. */
  async #toScript(file: string, text: string, language: ScriptLanguage) {
    const { paths, typescript, mode } = this.#options;
    const id = paths.idOf(file);
    const options = { ...typescript.optionsFor(file), verbatimImports: true };
    refuseTooDeep(id, text, `${id}.${language}`);
    const made = await translateScript(text, { id: `${id}.${language}`, inPackage: true, mode, refresh: false, options });
    if ('code' in made) throw Object.assign(new Error(made.message), placeOfProblem(made));
    return { code: made.text, ...(made.map ? { map: made.map } : {}) };
  }

  async #partOf(
    id: string,
    source: string,
    part: AdapterPart,
    { adapter, version, result }: { adapter: Adapter; version: SourceVersion; result: AdapterResult },
  ): Promise<Loaded> {
    const { paths } = this.#options;
    const { file, part: name } = splitId(id);
    const whole = part.file === undefined ? source : (this.#options.readText(part.file) ?? source);
    const shown = { id: part.file === undefined ? file : paths.idOf(part.file), text: whole };
    const kind = name === undefined ? 'script' : kindOfFile(name);
    let loaded: Loaded;
    if (kind === 'style') {
      const finish = adapter.finishCss?.bind(adapter);
      loaded = await loadStyle(id, part.text, {
        ...this.#options,
        onWarning: (_, warning) => this.#options.onWarning(shown.id, relocated(warning, part, shown)),
        isFinished: part.isFinished === true,
        ...(part.map ? { map: part.map } : {}),
        ...(finish ? { finish: (css: string) => finish(css, { file: paths.fileOf(file), id: file, name: name! }) } : {}),
      });
      if ('content' in loaded && loaded.content.kind === 'style') loaded.content.shownSource = whole;
    } else if (kind === 'script') {
      const language =
        name === undefined ? (result.language ?? 'js') : (/\.([jt]sx?)$/.exec(name)?.[1] as ScriptLanguage | undefined);
      if (!language) return { problems: [partGone(file, name ?? '')] };
      const made = { text: part.text, language, ...(part.map ? { map: part.map } : {}) };
      loaded = await this.#finished(id, whole, await this.#scripts.compile(id, whole, version, made), made);
      if ('content' in loaded && loaded.content.kind === 'script') {
        loaded.content.sourceHash = quickHash(whole + (part.map?.mappings ?? ''));
        if (part.holdsNoState) loaded.content.edges.stateless = true;
      }
    } else if (kind === 'json') loaded = this.#json(id, part.text);
    else return { problems: [partGone(file, name ?? '')] };
    if ('content' in loaded) return loaded;
    return {
      ...loaded,
      problems: loaded.problems.map((problem) => (problem.file === id ? relocated(problem, part, shown) : problem)),
    };
  }

  /** A module that an adapter brings along, or that comes with Vine Spark. */
  async helper(id: string): Promise<Loaded> {
    const [, name, helper] = new RegExp(`^${helperPrefix}([^/]*)/(.*)$`, 's').exec(id) ?? [];
    const text =
      id === preactRefreshId
        ? readFileSync(new URL('../../browser/preact-refresh.js', import.meta.url), 'utf8')
        : (this.#options.adapters.find((adapter) => adapter.name === name)?.helpers?.[helper ?? ''] ?? '');
    const made = { text, language: 'js' as const };
    const loaded = await this.#finished(
      id,
      text,
      await this.#scripts.compile(id, text, { hash: '', isChecked: false }, made),
      made,
    );
    if ('content' in loaded && loaded.content.kind === 'script') {
      loaded.content.inPackage = true;
      loaded.content.edges.stateless = true;
    }
    return loaded;
  }

  /** Ids of the parts that a file had when it was read last. */
  partsOf(file: string): string[] {
    return [...this.#files.partsOf(file)].map((part) => partId(file, part));
  }

  /** Forgets what adapters made by looking at what has changed at a path (absolute). */
  forgetLooking(path: string): void {
    this.#files.forgetLooking(path);
  }

  /** Forgets what adapters made, since settings have changed that may go into it. */
  forgetAdapted(): void {
    this.#files.forget();
  }

  async #finished(id: string, source: string, compiled: CompiledScript | NotCompiled, made?: MadeScript): Promise<Loaded> {
    return 'linked' in compiled ? this.#finish(id, source, compiled, made) : compiled;
  }

  /** Resolves a script's requests. A specifier that leads nowhere is a problem, but in a `require` it may be meant to be tried. */
  async #finish(id: string, source: string, script: CompiledScript, made?: MadeScript): Promise<Loaded> {
    const compileAfresh = () => this.#scripts.compileAfresh(id, source, { hash: '', isChecked: script.isChecked }, made);
    const placeOf = (request: ModuleRequest) => specifierPlace({ id, source, script, made, compileAfresh }, request);
    const { linked, isChecked, map } = script;
    const from = this.#options.trace.now();
    const inPackage = isInPackage(id);
    const problems: Problem[] = [...(script.problems ?? [])];
    for (const warning of script.warnings ?? []) this.#options.onWarning(id, warning);
    const { targets, lazyPiece, mode } = this.#options;
    const led = new RequestEdges({ id, inPackage, targets, listsFiles: mode === 'production', lazyPiece });
    const { edges, urls, runtime } = led;
    for (const [at, request] of linked.requests.entries()) {
      const { problem, warning } = led.add(request, () => wantsOnlyDefault(linked, at));
      if (problem) problems.push(problemAt(await placeOf(request), problem));
      if (warning) this.#options.onWarning(id, problemAt(await placeOf(request), warning));
    }
    if (problems.length > 0) return { problems, edges };
    if (this.#keepsState && !inPackage && edges.some(({ target }) => /(?:^|\/)node_modules\/preact\//.test(target))) {
      // Behind the module's own imports, whose places are counted, and before its body.
      led.addImport(preactRefresh, targets.ofOwn(preactRefresh));
    }
    if (linked.format === 'commonjs') runtime.commonjs = true;
    if (/\.m[jt]s$/.test(id) || this.#scripts.scopeType(id) === 'module') runtime.nodeDefault = true;
    if (this.#keepsState && !inPackage && script.isAnonymous) runtime.anonymousComponent = true;
    if (script.namesSpecifiers) {
      runtime.specifiers = Object.fromEntries(
        edges.filter(({ kind }) => kind === 'import').map(({ specifier, target }) => [specifier, target]),
      );
    }
    runtime.version = quickHash(script.version + JSON.stringify(runtime));
    this.#options.trace.span('module', 'resolve', from, { id });
    return {
      content: {
        kind: 'script',
        source: new SourceText(source),
        linked,
        edges: runtime,
        inPackage,
        isChecked,
        urls,
        ...(map ? { map } : {}),
        ...(this.#options.mode === 'production' && linked.format === 'module' && script.text !== undefined
          ? { text: script.text }
          : {}),
      },
      edges,
    };
  }

  /** `isTyped`: imported with a type attribute, so that the value is the only export. */
  #json(id: string, source: string, isTyped = false): Loaded {
    const mistake = findJsonMistake(source);
    if (!mistake) return this.#data(id, source, linkJson(source, isTyped), jsonText(source, isTyped));
    const place = { file: fileOfId(id), text: source, start: mistake.at };
    return { problems: [problemAt(place, { code: 'syntax-error', message: `This is no JSON: ${mistake.why}.` })] };
  }
}

function placeOfProblem({ message, position, hint, code, file }: Problem) {
  const place = position ? { line: position.line, column: position.column + 1 } : {};
  return { ...place, problem: { code, message, ...(hint ? { hint } : {}) }, ...(file ? { file } : {}) };
}
