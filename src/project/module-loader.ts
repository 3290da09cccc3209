import { dirname } from 'node:path';
import { init as initLexer, parse } from 'es-module-lexer';
import type { Edge } from '../core/graph/module-graph.js';
import { linkCommonJs } from '../core/link/link-commonjs.js';
import { linkJson, linkStyle, linkUrl } from '../core/link/link-data.js';
import { linkModule } from '../core/link/link-module.js';
import type { Linked, ModuleRequest } from '../core/link/linked.js';
import { sourcePosition } from '../core/maps/source-position.js';
import type { RuntimeEdges } from '../core/pieces/piece.js';
import { type Problem, problemAt } from '../core/problem.js';
import { explainFailure } from '../core/resolve/explain-failure.js';
import type { Resolver } from '../core/resolve/resolver.js';
import { kindOfFile } from '../core/translate/kinds.js';
import { readStyle } from '../core/translate/read-style.js';
import { type RawMap, translateScript } from '../core/translate/translate-script.js';
import { contentHash } from './content-hash.js';
import type { ModuleContent } from './module-content.js';
import type { Paths } from './paths.js';

/** The id of the module that stands for what a package leaves out in browsers. */
export const emptyModule = '~vine/empty';

/** A module as far as it could be made: with content and edges, or with what is wrong. */
export type Loaded = { content: ModuleContent; edges: Edge[] } | { problems: Problem[] };

export interface LoaderOptions {
  paths: Paths;
  resolver: Resolver;
  constants: Readonly<Record<string, string>>;
  /** React is there, so components keep their state across updates. */
  refresh: boolean;
  /** URL prefix of the pieces of dynamic imports. */
  lazyPiece(id: string): string;
}

/** Takes modules from the bytes of their file to linked code with resolved edges. */
export class ModuleLoader {
  readonly #options: LoaderOptions;
  /** How many scripts were translated so far. */
  translations = 0;

  constructor(options: LoaderOptions) {
    this.#options = options;
  }

  async load(id: string, bytes: Buffer): Promise<Loaded> {
    const kind = kindOfFile(id);
    if (kind === 'style') return this.#style(id, bytes.toString('utf8'));
    if (kind === 'json') return this.#json(id, bytes.toString('utf8'));
    if (kind === 'script') return this.script(id, bytes.toString('utf8'));
    return { content: { kind: 'asset', hash: contentHash(bytes), linked: linkUrl() }, edges: [] };
  }

  /** The module that exports nothing. */
  empty(): Loaded {
    const linked = linkCommonJs({ text: 'module.exports = {};', handle: 'my', constants: {} });
    const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [], commonjs: true };
    return { content: { kind: 'script', source: '', linked, edges, inPackage: true }, edges: [] };
  }

  /** Loads a script, e.g. one that stands in a page and has no file of its own. */
  async script(id: string, source: string): Promise<Loaded> {
    await initLexer();
    const inPackage = id.includes('node_modules/');
    this.translations++;
    const translated = await translateScript(source, { id, inPackage, refresh: this.#options.refresh });
    if ('code' in translated) return { problems: [translated] };
    const { handle, map } = translated;
    // A byte order mark and a `#!` line may only stand at the start of a file, which the linked form is not.
    const text = translated.text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
    const linked = this.#link(id, text, handle);
    if ('code' in linked && 'severity' in linked) return { problems: [linked] };
    return this.#finish(id, { source, linked, inPackage, text, ...(map ? { map } : {}) });
  }

  #link(id: string, text: string, handle: string): Linked | Problem {
    const input = { text, handle, constants: this.#options.constants };
    try {
      return this.#isModule(id, text) ? linkModule(input) : linkCommonJs(input);
    } catch (error) {
      const start = (error as { idx?: number }).idx ?? 0;
      return problemAt(
        { file: id, text, start },
        { code: 'syntax-error', message: `This is no JavaScript: ${(error as Error).message.split('\n')[0]}` },
      );
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
  #finish(id: string, script: { source: string; linked: Linked; inPackage: boolean; text: string; map?: RawMap }): Loaded {
    const { linked, source, inPackage } = script;
    const problems: Problem[] = [];
    const edges: Edge[] = [];
    const runtime: RuntimeEdges = { version: '', imports: [] };
    for (const request of linked.requests) {
      const target = this.#target(id, request, script, problems);
      if (target === undefined) continue;
      edges.push({ kind: request.kind, specifier: request.specifier, target });
      if (request.kind === 'import') runtime.imports.push(target);
      else if (request.kind === 'require') runtime.requires = { ...runtime.requires, [request.specifier]: target };
      else {
        const key = request.type ? `${request.specifier}\0${request.type}` : request.specifier;
        runtime.dynamic = { ...runtime.dynamic, [key]: { id: target, piece: this.#options.lazyPiece(target) } };
      }
    }
    if (problems.length > 0) return { problems };
    if (linked.format === 'commonjs') runtime.commonjs = true;
    if (/\.m[jt]s$/.test(id) || (inPackage && this.#scopeType(id) === 'module')) runtime.nodeDefault = true;
    if (script.text.includes('import.meta.live')) {
      runtime.specifiers = Object.fromEntries(
        edges.filter(({ kind }) => kind === 'import').map(({ specifier, target }) => [specifier, target]),
      );
    }
    runtime.version = contentHash(linked.code, JSON.stringify(runtime));
    const { map } = script;
    return { content: { kind: 'script', source, linked, edges: runtime, inPackage, ...(map ? { map } : {}) }, edges };
  }

  #target(
    id: string,
    request: ModuleRequest,
    script: { source: string; text: string; map?: RawMap },
    problems: Problem[],
  ): string | undefined {
    const { resolver, paths } = this.#options;
    const { specifier, kind } = request;
    if (/^(?:[a-z][a-z0-9+.-]+:)?\/\//i.test(specifier) || specifier.startsWith('data:'))
      return kind === 'dynamic' ? undefined : this.#foreign(id, request, script, problems);
    const resolution = resolver.resolve(specifier, paths.fileOf(id), kind === 'require' ? 'require' : 'import');
    if ('empty' in resolution) return emptyModule;
    if ('found' in resolution) return paths.idOf(resolution.found);
    if (kind === 'require') return undefined;
    problems.push(problemAt(placeOf(id, request, script), explainFailure(resolution.failure, specifier, paths.root)));
    return undefined;
  }

  #foreign(
    id: string,
    request: ModuleRequest,
    script: { source: string; text: string; map?: RawMap },
    problems: Problem[],
  ): undefined {
    problems.push(
      problemAt(placeOf(id, request, script), {
        code: 'import-unresolved',
        message: `'${request.specifier}' is a URL, which can only be imported with import().`,
        hint: 'Install the package instead, or load it with import().',
      }),
    );
    return undefined;
  }

  #json(id: string, source: string): Loaded {
    try {
      const linked = linkJson(source);
      const edges: RuntimeEdges = { version: contentHash(linked.code), imports: [] };
      return { content: { kind: 'script', source, linked, edges, inPackage: id.includes('node_modules/') }, edges: [] };
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

  #style(id: string, source: string): Loaded {
    const references = readStyle(source, id);
    if (!Array.isArray(references)) return { problems: [references] };
    const { resolver, paths } = this.#options;
    const problems: Problem[] = [];
    const edges: Edge[] = [];
    const targets = references.map(({ kind, specifier, start, end }) => {
      const own = kind === 'file' && !specifier.startsWith('.') && !specifier.startsWith('/') ? `./${specifier}` : specifier;
      const first = resolver.resolve(
        kind === 'sheet' && !/^[./]/.test(specifier) ? `./${specifier}` : own,
        paths.fileOf(id),
        'style',
      );
      const resolution = 'found' in first || kind === 'file' ? first : resolver.resolve(specifier, paths.fileOf(id), 'style');
      if ('found' in resolution) {
        const target = paths.idOf(resolution.found);
        edges.push({ kind: 'style', specifier, target });
        return target;
      }
      if (kind === 'sheet' && 'failure' in resolution) {
        problems.push(
          problemAt({ file: id, text: source, start, end }, explainFailure(resolution.failure, specifier, paths.root)),
        );
      }
      return undefined;
    });
    if (problems.length > 0) return { problems };
    return { content: { kind: 'style', source, references, targets, linked: linkStyle() }, edges };
  }
}

/** The specifier's place in what the user wrote. */
function placeOf(id: string, request: ModuleRequest, script: { source: string; text: string; map?: RawMap }) {
  const quoted = script.text[request.start] === '"' || script.text[request.start] === "'";
  const start = script.map ? sourcePosition(script.map, script.text, request.start, script.source) : request.start;
  const inset = /['"`]/.test(script.source[start] ?? '') || quoted ? 1 : 0;
  return { file: id, text: script.source, start: start + inset, end: start + inset + request.specifier.length };
}
