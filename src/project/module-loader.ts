import { createRequire } from 'node:module';
import { dirname, resolve } from 'node:path';
import { init as initLexer, parse } from 'es-module-lexer';
import type { Adapter } from '../core/adapter.js';
import type { Edge } from '../core/graph/module-graph.js';
import { lineStarts } from '../core/line-index.js';
import { linkCommonJs } from '../core/link/link-commonjs.js';
import { linkBytes, linkConstructedSheet, linkJson, linkText, linkUrl } from '../core/link/link-data.js';
import { type LinkInput, linkModule } from '../core/link/link-module.js';
import type { Linked, ModuleRequest } from '../core/link/linked.js';
import { sourcePosition } from '../core/maps/source-position.js';
import type { RuntimeEdges } from '../core/pieces/piece.js';
import { type Problem, problemAt } from '../core/problem.js';
import type { Resolver } from '../core/resolve/resolver.js';
import { checkSyntax } from '../core/translate/check-syntax.js';
import { chooseHandle } from '../core/translate/handle.js';
import { kindOfFile } from '../core/translate/kinds.js';
import { type RawMap, type Translated, translateScript } from '../core/translate/translate-script.js';
import { contentHash } from './content-hash.js';
import { loadStyle } from './load-style.js';
import type { ModuleContent, UrlTarget } from './module-content.js';
import type { Paths } from './paths.js';
import { preactRefresh, type RequestTargets } from './request-targets.js';
import type { StyleCompiler } from './style-compiler.js';
import type { TsSettings } from './ts-settings.js';

const _ownRequire = createRequire(import.meta.url);

/** A module as far as it could be made: with content and edges, or with what is wrong. */
export type Loaded =
  | { content: ModuleContent; edges: Edge[] }
  /** `edges` lead to what was found all the same, where more may be wrong. */
  | { problems: Problem[]; edges?: Edge[] };

export interface LoaderOptions {
  paths: Paths;
  resolver: Resolver;
  targets: RequestTargets;
  installCommand: string;
  typescript: TsSettings;
  compiler: StyleCompiler;
  adapters: readonly Adapter[];
  constants: Readonly<Record<string, string>>;
  /** URL prefix of the pieces of dynamic imports. */
  lazyPiece(id: string): string;
}

/** Takes modules from the bytes of their file to linked code with resolved edges. */
export class ModuleLoader {
  readonly #options: LoaderOptions;
  /** React is there, so components keep their state across updates. */
  #refresh: boolean;
  /** How many scripts were translated so far. */
  translations = 0;

  constructor(options: LoaderOptions) {
    this.#options = options;
    this.#refresh = this.#hasReact();
  }

  #hasReact(): boolean {
    const { resolver, paths } = this.#options;
    return ['react', 'preact'].some((name) => 'found' in resolver.resolve(name, paths.fileOf('page.html'), 'import'));
  }

  /** Looks again whether React is there. Returns whether that is news, so that every component comes out differently. */
  refreshChanged(): boolean {
    const before = this.#refresh;
    this.#refresh = this.#hasReact();
    return this.#refresh !== before;
  }

  async load(id: string, bytes: Buffer, isChecked = false): Promise<Loaded> {
    const [path, type] = id.split('?');
    if (type) return this.#withType(id, path!, type, bytes);
    const adapter = this.#options.adapters.find(({ files }) => id.search(files) !== -1);
    if (adapter) return this.#adapted(id, bytes.toString('utf8'), adapter, isChecked);
    const kind = kindOfFile(id);
    if (kind === 'style') return loadStyle(id, bytes.toString('utf8'), this.#options);
    if (kind === 'json') return this.#json(id, bytes.toString('utf8'));
    if (kind === 'script') return this.script(id, bytes.toString('utf8'), isChecked);
    return { content: { kind: 'asset', hash: contentHash(bytes), linked: linkUrl() }, edges: [] };
  }

  /** A file that is imported with a type attribute, or by its URL though it isn't an asset. */
  async #withType(id: string, path: string, type: string, bytes: Buffer): Promise<Loaded> {
    const text = bytes.toString('utf8');
    if (type === 'json') return this.#json(id, text);
    if (type === 'url') return { content: { kind: 'asset', hash: contentHash(bytes), linked: linkUrl() }, edges: [] };
    if (type === 'css') {
      const loaded = await loadStyle(path, text, this.#options);
      return 'problems' in loaded || loaded.content.kind !== 'style'
        ? loaded
        : this.#data(id, text, linkConstructedSheet(loaded.content.css));
    }
    return this.#data(id, text, type === 'text' ? linkText(text) : linkBytes(bytes.toString('base64')));
  }

  #data(id: string, source: string, linked: Linked): Loaded {
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [] };
    return {
      content: { kind: 'script', source, linked, edges, inPackage: id.includes('node_modules/'), isChecked: false, urls: [] },
      edges: [],
    };
  }

  /** The module that exports nothing. */
  empty(): Loaded {
    const linked = linkCommonJs({ text: 'module.exports = {};', handle: 'my', constants: {} });
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], commonjs: true };
    return { content: { kind: 'script', source: '', linked, edges, inPackage: true, isChecked: false, urls: [] }, edges: [] };
  }

  /** Loads a script, e.g. one that stands in a page and has no file of its own. `isChecked`: see `LinkInput.checked`. */
  async script(id: string, source: string, isChecked = false): Promise<Loaded> {
    await initLexer();
    const inPackage = id.includes('node_modules/');
    this.translations++;
    const translated = await translateScript(source, {
      id,
      inPackage,
      refresh: this.#refresh,
      options: this.#options.typescript.optionsFor(this.#options.paths.fileOf(id)),
    });
    if ('code' in translated) return { problems: [translated] };
    return this.#finishScript(id, { source, translated, isChecked });
  }

  /** Makes a module of a file with the user's own adapter. */
  async #adapted(id: string, source: string, adapter: Adapter, isChecked: boolean): Promise<Loaded> {
    await initLexer();
    const { paths } = this.#options;
    const file = paths.fileOf(id);
    const dependencies: string[] = [];
    try {
      const result = await adapter.translate(source, {
        file,
        id,
        dependOn: (path) => dependencies.push(paths.idOf(resolve(dirname(file), path))),
      });
      const { code, map } = typeof result === 'string' ? { code: result, map: undefined } : result;
      const translated = { text: code, handle: chooseHandle(code), ...(map ? { map } : {}) };
      const loaded = this.#finishScript(id, { source, translated, isChecked });
      if ('content' in loaded && loaded.content.kind === 'script') loaded.content.dependencies = dependencies;
      return loaded;
    } catch (error) {
      const { line = 1, column = 1, message } = error as { line?: number; column?: number; message: string };
      const start = (lineStarts(source)[line - 1] ?? 0) + column - 1;
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

  #finishScript(
    id: string,
    { source, translated, isChecked }: { source: string; translated: Translated; isChecked: boolean },
  ): Loaded {
    const inPackage = id.includes('node_modules/');
    const { handle, map } = translated;
    // A byte order mark and a `#!` line may only stand at the start of a file, which the linked form is not.
    const text = translated.text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
    const linked = this.#link(id, { text, handle, constants: this.#options.constants, checked: isChecked }, map !== undefined);
    if ('code' in linked && 'severity' in linked) return { problems: [linked] };
    const script: LinkedScript = { source, linked, inPackage, isChecked, text, ...(map ? { map } : {}) };
    const writes = linked.importWrites.map(({ name, start, end }) =>
      problemAt(placeIn(id, script, start, end - start), {
        code: 'import-assigned',
        message: `'${name}' is imported, and imports can't be assigned.`,
        hint: 'Assign to a variable of this module, or export a function from the other module that changes it there.',
      }),
    );
    const finished = this.#finish(id, script);
    if (writes.length === 0) return finished;
    return { problems: [...writes, ...('problems' in finished ? finished.problems : [])], edges: finished.edges ?? [] };
  }

  #link(id: string, input: LinkInput, isTranslated: boolean): Linked | Problem {
    const { text } = input;
    try {
      const isModule = this.#isModule(id, text);
      // What was translated is known to parse.
      const problem = isTranslated ? undefined : checkSyntax(id, text, isModule);
      return problem ?? (isModule ? linkModule(input) : linkCommonJs(input));
    } catch (error) {
      const start = (error as { idx?: number }).idx ?? 0;
      const message = `This is no JavaScript: ${(error as Error).message.split('\n')[0]}`;
      return checkSyntax(id, text, true) ?? problemAt({ file: id, text, start }, { code: 'syntax-error', message });
    }
  }

  #isModule(id: string, text: string): boolean {
    if (/\.m[jt]s$/.test(id)) return true;
    if (/\.c[jt]s$/.test(id)) return false;
    const [, , , hasModuleSyntax] = parse(text);
    if (hasModuleSyntax) return true;
    if (this.#scopeType(id) === 'module') return true;
    return !/\b(?:require|module|exports)\b/.test(text) && !id.includes('node_modules/');
  }

  #scopeType(id: string): string | undefined {
    return this.#options.resolver.packages.scopeOf(dirname(this.#options.paths.fileOf(id)))?.type;
  }

  /** Resolves a script's requests. A specifier that leads nowhere is a problem, but in a `require` it may be meant to be tried. */
  #finish(id: string, script: LinkedScript): Loaded {
    const { linked, source, inPackage, isChecked } = script;
    const problems: Problem[] = [];
    const edges: Edge[] = [];
    const urls: UrlTarget[] = [];
    const runtime: RuntimeEdges = { version: '', imports: [] };
    const { targets } = this.#options;
    for (const request of linked.requests) {
      if (request.isPattern) {
        for (const [specifier, target] of targets.matches(id, request.specifier)) {
          edges.push({ kind: 'dynamic', specifier, target });
          runtime.dynamic = { ...runtime.dynamic, [specifier]: { id: target, piece: this.#options.lazyPiece(target) } };
        }
        continue;
      }
      if (request.kind === 'url' || request.kind === 'worker') {
        const target = targets.ofUrl(id, request);
        urls.push({ kind: request.kind, specifier: request.specifier, ...(target ? { target } : {}) });
        if (target) edges.push({ kind: request.kind, specifier: request.specifier, target });
        continue;
      }
      const { target, problem } = targets.ofModule(id, request);
      if (problem) problems.push(problemAt(placeOf(id, request, script), problem));
      if (target === undefined) continue;
      edges.push({ kind: request.kind, specifier: request.specifier, target });
      if (request.kind === 'import') runtime.imports.push(target);
      else if (request.kind === 'require') runtime.requires = { ...runtime.requires, [request.specifier]: target };
      else {
        const key = request.type ? `${request.specifier}\0${request.type}` : request.specifier;
        runtime.dynamic = { ...runtime.dynamic, [key]: { id: target, piece: this.#options.lazyPiece(target) } };
      }
    }
    if (problems.length > 0) return { problems, edges };
    if (!inPackage && edges.some(({ target }) => /(?:^|\/)node_modules\/preact\//.test(target))) {
      // Behind the module's own imports, whose places are counted, and before its body.
      const target = targets.ofOwn(preactRefresh);
      edges.push({ kind: 'import', specifier: preactRefresh, target });
      runtime.imports.push(target);
    }
    if (linked.format === 'commonjs') runtime.commonjs = true;
    if (/\.m[jt]s$/.test(id) || this.#scopeType(id) === 'module') runtime.nodeDefault = true;
    if (this.#refresh && !inPackage && /x$/.test(id) && anonymousComponent.test(script.text)) runtime.anonymousComponent = true;
    if (script.text.includes('import.meta.live')) {
      runtime.specifiers = Object.fromEntries(
        edges.filter(({ kind }) => kind === 'import').map(({ specifier, target }) => [specifier, target]),
      );
    }
    runtime.version = contentHash(linked.code, JSON.stringify(runtime));
    const { map } = script;
    return {
      content: { kind: 'script', source, linked, edges: runtime, inPackage, isChecked, urls, ...(map ? { map } : {}) },
      edges,
    };
  }

  #json(id: string, source: string): Loaded {
    try {
      const linked = linkJson(source);
      return this.#data(id, source, linked);
    } catch (error) {
      const { message } = error as SyntaxError;
      const start = Number(/position (\d+)/.exec(message)?.[1] ?? source.length);
      return {
        problems: [
          problemAt(
            { file: id, text: source, start },
            { code: 'syntax-error', message: `This is no JSON: ${message.replace(/ \(line .*| in JSON.*/, '')}.` },
          ),
        ],
      };
    }
  }
}

/** A default export without a name in a module that makes elements, after translation. */
const anonymousComponent = /_jsx[\s\S]*\bexport default (?:_s\d*\()?(?:function\s*\(|\(|[\w$]+\s*=>)/;

/** A script between linking and resolving. */
interface LinkedScript {
  source: string;
  linked: Linked;
  inPackage: boolean;
  isChecked: boolean;
  /** The translated text. */
  text: string;
  map?: RawMap;
}

/** The specifier's place in what the user wrote. */
function placeOf(id: string, { start, specifier }: ModuleRequest, script: LinkedScript) {
  const place = placeIn(id, script, start, specifier.length);
  const inset = /['"`]/.test(script.source[place.start] ?? '') ? 1 : 0;
  return { ...place, start: place.start + inset, end: place.end + inset };
}

/** A place of the translated text in what the user wrote. */
function placeIn(
  id: string,
  { source, text, map }: Pick<LinkedScript, 'source' | 'text' | 'map'>,
  offset: number,
  length: number,
) {
  const start = map ? sourcePosition(map, text, offset, source) : offset;
  return { file: id, text: source, start, end: start + length };
}
