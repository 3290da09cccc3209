import { dirname, resolve } from 'node:path';
import { isForeignSource, kindOfFile } from '../../core/file-kinds.js';
import type { Loaded, UrlTarget } from '../../core/graph/module-content.js';
import type { Edge } from '../../core/graph/module-graph.js';
import { inTime } from '../../core/in-time.js';
import { chooseHandle } from '../../core/link/handle.js';
import { linkCommonJs } from '../../core/link/link-commonjs.js';
import { dataText, jsonText, linkBytes, linkConstructedSheet, linkJson, linkText, linkUrl } from '../../core/link/link-data.js';
import type { Linked, ModuleRequest } from '../../core/link/linked.js';
import type { Mode } from '../../core/mode.js';
import { fileOfId, splitId } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { contentHash, quickHash } from '../../core/text/content-hash.js';
import { lineStarts } from '../../core/text/line-index.js';
import { SourceText } from '../../core/text/source-text.js';
import type { Trace } from '../../core/trace.js';
import type { Adapter } from '../../core/translate/adapter.js';
import { findJsonMistake } from '../../core/translate/json-mistake.js';
import type { RawMap, ScriptTargets } from '../../core/translate/translate-script.js';
import { loadStyle } from '../styles/load-style.js';
import type { StyleCompiler } from '../styles/style-compiler.js';
import { type CompiledScript, isInPackage, type NotCompiled, placeIn } from './compile-script.js';
import { preactRefresh, type RequestTargets } from './request-targets.js';
import { type KeptTexts, ScriptCompiler, type SourceVersion } from './script-compiler.js';
import type { TsSettings } from './ts-settings.js';

export interface LoaderOptions {
  paths: Paths;
  resolver: Resolver;
  targets: RequestTargets;
  installCommand: string;
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
  /** URL prefix of the pieces of dynamic imports. */
  lazyPiece(id: string): string;
}

/** Takes modules from the bytes of their file to linked code with resolved edges. */
export class ModuleLoader {
  readonly #options: LoaderOptions;
  /** React is there, so components keep their state across updates. */
  #refresh: boolean | undefined;
  readonly #scripts: ScriptCompiler;

  constructor(options: LoaderOptions) {
    this.#options = options;
    this.#scripts = new ScriptCompiler({ ...options, refresh: () => this.#keepsState });
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
    const { file, type } = splitId(id);
    if (type) return this.#withType(id, file, type, content);
    const adapter = this.#options.adapters.find(({ files }) => id.search(files) !== -1);
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
    if (!this.#options.adapters.some(({ files }) => id.search(files) !== -1)) this.#scripts.prepare(id, source, version);
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
    if (type === 'text') return this.#data(id, text, linkText(text), dataText('text', text));
    const base64 = Buffer.from(content).toString('base64');
    return this.#data(id, text, linkBytes(base64), dataText('bytes', base64));
  }

  #data(id: string, source: string, linked: Linked, text: string): Loaded {
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [] };
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

  /** A part of Node.js that a package asks for: nothing, which explains itself where it's used. */
  async standIn(name: string): Promise<Loaded> {
    const linked = await linkCommonJs({ text: standInText(name), handle: 'my', constants: {} });
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], commonjs: true };
    return {
      content: { kind: 'script', source: new SourceText(''), linked, edges, inPackage: true, isChecked: false, urls: [] },
      edges: [],
    };
  }

  /** The module that exports nothing. */
  async empty(): Promise<Loaded> {
    const linked = await linkCommonJs({ text: 'module.exports = {};', handle: 'my', constants: {} });
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], commonjs: true };
    return {
      content: { kind: 'script', source: new SourceText(''), linked, edges, inPackage: true, isChecked: false, urls: [] },
      edges: [],
    };
  }

  /** Loads a script, e.g. one that stands in a page and has no file of its own. */
  async script(id: string, source: string, version: SourceVersion): Promise<Loaded> {
    return this.#finished(id, source, await this.#scripts.compile(id, source, version));
  }

  /** Makes a module of a file with the user's own adapter. */
  async #adapted(id: string, source: string, adapter: Adapter, version: SourceVersion): Promise<Loaded> {
    const { paths } = this.#options;
    const file = paths.fileOf(id);
    const dependencies: string[] = [];
    try {
      const answer = adapter.translate(source, {
        file,
        id,
        dependOn: (path) => dependencies.push(paths.idOf(resolve(dirname(file), String(path)))),
      });
      const { code, map } = resultOf(await inTime(answer, adapterMs, 'it has not answered'));
      const translated = { text: code, handle: chooseHandle(code), ...(map ? { map } : {}) };
      const loaded = await this.#finished(id, source, await this.#scripts.link(id, source, translated, version.isChecked));
      if ('content' in loaded && loaded.content.kind === 'script') loaded.content.dependencies = dependencies;
      return loaded;
    } catch (error) {
      const { line, column } = Object(error) as { line?: unknown; column?: unknown };
      const message = error instanceof Error ? error.message : String(error);
      const start = (lineStarts(source)[positive(line) - 1] ?? 0) + positive(column) - 1;
      return {
        problems: [
          problemAt(
            { file: id, text: source, start },
            { code: 'adapter-failed', message: `The adapter '${adapter.name}' failed: ${message}` },
          ),
        ],
      };
    }
  }

  async #finished(id: string, source: string, compiled: CompiledScript | NotCompiled): Promise<Loaded> {
    return 'linked' in compiled ? this.#finish(id, source, compiled) : compiled;
  }

  /** The specifier's place in what the user wrote. */
  async #placeOf(id: string, source: string, { start, specifier }: ModuleRequest, script: CompiledScript) {
    const fresh =
      script.text === undefined
        ? await this.#scripts.compileAfresh(id, source, { hash: '', isChecked: script.isChecked })
        : script;
    const text = 'linked' in fresh ? fresh.text! : source;
    const map = 'linked' in fresh ? fresh.map : undefined;
    const place = await placeIn(id, source, { text, map }, start);
    const inset = /['"`]/.test(source[place.start] ?? '') ? 1 : 0;
    return { ...place, start: place.start + inset, end: place.start + inset + specifier.length };
  }

  /** Resolves a script's requests. A specifier that leads nowhere is a problem, but in a `require` it may be meant to be tried. */
  async #finish(id: string, source: string, script: CompiledScript): Promise<Loaded> {
    const { linked, isChecked, map } = script;
    const from = this.#options.trace.now();
    const inPackage = isInPackage(id);
    const problems: Problem[] = [...(script.problems ?? [])];
    for (const warning of script.warnings ?? []) this.#options.onWarning(id, warning);
    const edges: Edge[] = [];
    const urls: UrlTarget[] = [];
    const runtime: RuntimeEdges = { version: '', imports: [] };
    const { targets } = this.#options;
    for (const request of linked.requests) {
      if (request.isPattern) {
        const { matches, problem } = targets.matches(id, request.specifier);
        if (problem) problems.push(problemAt(await this.#placeOf(id, source, request, script), problem));
        for (const [specifier, target] of matches) {
          edges.push({ kind: 'dynamic', specifier, target });
          runtime.dynamic = { ...runtime.dynamic, [specifier]: { id: target, piece: this.#options.lazyPiece(target) } };
        }
        continue;
      }
      if (request.kind === 'url' || request.kind === 'worker') {
        const { target, problem } = targets.ofUrl(id, request);
        if (problem) problems.push(problemAt(await this.#placeOf(id, source, request, script), problem));
        urls.push({ kind: request.kind, specifier: request.specifier, ...(target ? { target } : {}) });
        if (target) edges.push({ kind: request.kind, specifier: request.specifier, target });
        continue;
      }
      const { target, problem, warning } = targets.ofModule(id, request);
      if (problem) problems.push(problemAt(await this.#placeOf(id, source, request, script), problem));
      if (warning) this.#options.onWarning(id, problemAt(await this.#placeOf(id, source, request, script), warning));
      if (warning && target === undefined) {
        const missing = { id: '', piece: '', missing: warning.message };
        runtime.dynamic = { ...runtime.dynamic, [request.specifier]: missing };
      }
      if (target === undefined) continue;
      const { kind, specifier, type } = request;
      edges.push({ kind, specifier, target, ...(type === undefined ? {} : { type }) });
      if (request.kind === 'import') runtime.imports.push(target);
      else if (request.kind === 'require') runtime.requires = { ...runtime.requires, [request.specifier]: target };
      else {
        const key = request.type ? `${request.specifier}\0${request.type}` : request.specifier;
        runtime.dynamic = { ...runtime.dynamic, [key]: { id: target, piece: this.#options.lazyPiece(target) } };
      }
    }
    if (problems.length > 0) return { problems, edges };
    if (this.#keepsState && !inPackage && edges.some(({ target }) => /(?:^|\/)node_modules\/preact\//.test(target))) {
      // Behind the module's own imports, whose places are counted, and before its body.
      const target = targets.ofOwn(preactRefresh);
      edges.push({ kind: 'import', specifier: preactRefresh, target });
      runtime.imports.push(target);
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

/** What keeps bytes from being read as text. */
function notText(id: string, text: string): Problem | undefined {
  const start = text.slice(0, 2000);
  if (!start.includes('\0')) return undefined;
  const isUtf16 = /^\ufffd\ufffd/.test(start) || (start.match(/[\x20-\x7e]\0|\0[\x20-\x7e]/g)?.length ?? 0) > start.length / 4;
  return {
    code: 'file-unreadable',
    severity: 'error',
    file: id,
    message: `${id} is no text in UTF-8: ${isUtf16 ? 'it is written in UTF-16' : 'it holds binary data'}.`,
    hint: isUtf16 ? 'Save it as UTF-8.' : 'If it is meant to be used by its URL, give it the extension of what it is.',
  };
}

function foreignKind(id: string): Problem {
  const extension = /\.\w+$/.exec(id)?.[0] ?? '';
  return {
    code: 'kind-unknown',
    severity: 'error',
    file: id,
    message: `${id} looks like source, but nothing here translates files of the kind ${extension}.`,
    hint: `Add an adapter for them to the settings (docs/adapters.md). If only its text is wanted, import it with { type: 'text' }; for its URL, use new URL('…', import.meta.url).`,
  };
}

/** How long an adapter may take for one file. */
const adapterMs = 30_000;

/** Checks what an adapter gave. */
function resultOf(result: unknown): { code: string; map?: RawMap } {
  if (typeof result === 'string') return { code: result };
  const { code, map } = Object(result) as { code?: unknown; map?: unknown };
  if (typeof code !== 'string') throw new Error('it must give the code of a module as a text, or an object with code and map.');
  const isMap = typeof (map as Partial<RawMap> | undefined)?.mappings === 'string';
  return isMap ? { code, map: map as RawMap } : { code };
}

/** A line or column as an error may have it. */
function positive(value: unknown): number {
  return typeof value === 'number' && Number.isSafeInteger(value) && value > 0 ? value : 1;
}

/**
 * What stands for a part of Node.js: each member is a function that says why it can't do anything. So what only looks for it,
 * keeps it or makes a class of it goes on.
 */
function standInText(name: string): string {
  const why = JSON.stringify(`is a part of Node.js ('${name}') that does not exist in browsers`);
  return `const members = new Map();
module.exports = new Proxy({}, {
  get(target, key) {
    if (typeof key === 'symbol' || key === '__esModule' || key === 'then' || key === 'default' || key in target) return target[key];
    if (!members.has(key)) members.set(key, function () { throw new Error(${JSON.stringify(`${name}.`)} + key + ' ' + ${why}); });
    return members.get(key);
  },
});
`;
}
