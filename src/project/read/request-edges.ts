import type { UrlTarget } from '../../core/graph/module-content.js';
import type { Edge } from '../../core/graph/module-graph.js';
import type { ModuleRequest } from '../../core/link/linked.js';
import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import type { Match, RequestTarget, RequestTargets } from './request-targets.js';

export interface RequestEdgesOptions {
  /** The module that asks. */
  id: string;
  inPackage: boolean;
  targets: RequestTargets;
  /** Files that an expression may name by URL are listed too: they are elsewhere than it says. */
  listsFiles: boolean;
  /** The URL of the piece behind an `import()`. */
  lazyPiece(id: string): string;
}

type Told = NonNullable<RequestTarget['problem']>;

/** Where the requests of a module lead: its edges in the graph, and those that the runtime needs. */
export class RequestEdges {
  readonly edges: Edge[] = [];
  /** The files and workers that it names by URL. */
  readonly urls: UrlTarget[] = [];
  readonly runtime: RuntimeEdges = { version: '', imports: [] };
  readonly #options: RequestEdgesOptions;

  constructor(options: RequestEdgesOptions) {
    this.#options = options;
  }

  /**
   * Adds what a request leads to. Returns what is wrong with it, and what need not be. `wantsUrl` says whether no more is wanted of a file than
   * its URL.
   */
  add(request: ModuleRequest, wantsUrl: () => boolean): { problem?: Told | undefined; warning?: Told | undefined } {
    if (request.kind === 'url' || request.kind === 'worker')
      return request.isPattern ? this.#addUrls(request) : this.#addUrl(request);
    if (request.isPattern) return this.#addMatches(request);
    const { id, targets, inPackage } = this.#options;
    const { specifier } = request;
    if (request.isGuess) {
      const target = inPackage ? undefined : targets.ofGuess(id, specifier);
      if (target !== undefined) this.#addModule(request, { specifier, target });
      return {};
    }
    const { target, problem, warning } = targets.ofModule(id, request, wantsUrl);
    if (target !== undefined) this.#addModule(request, { specifier, target });
    else if (warning) this.#dynamic[specifier] = { id: '', piece: '', missing: warning.message };
    return { problem, warning };
  }

  /** A module that this one imports beside what its text says. */
  addImport(specifier: string, target: string): void {
    this.#addModule({ kind: 'import' }, { specifier, target });
  }

  #addUrl(request: ModuleRequest): { problem?: Told | undefined } {
    const { id, targets } = this.#options;
    const { specifier, isService } = request;
    const { target, problem, kind = request.kind as UrlTarget['kind'] } = targets.ofUrl(id, request);
    const service = isService && kind === 'worker' ? { isService } : {};
    this.urls.push({ kind, specifier, ...(target ? { target } : {}), ...service });
    if (target) this.edges.push({ kind, specifier, target });
    return { problem };
  }

  #addUrls(request: ModuleRequest): object {
    const { targets, id, listsFiles } = this.#options;
    for (const match of targets.urlMatches(id, request)) {
      const { kind, specifier, target } = match;
      this.edges.push({ kind, specifier, target: target! });
      if (kind === 'worker' || listsFiles) this.urls.push(match);
    }
    return {};
  }

  #addMatches(request: ModuleRequest): { problem?: Told | undefined } {
    const { targets, id, inPackage } = this.#options;
    // What a package may require of its own need not be meant for browsers.
    if (request.kind === 'require' && inPackage) return {};
    const { matches, problem } = targets.matches(id, request);
    for (const match of matches) this.#addModule(request, match);
    return { problem };
  }

  #addModule({ kind, type }: Pick<ModuleRequest, 'kind' | 'type'>, { specifier, target }: Match): void {
    this.edges.push({ kind, specifier, target, ...(type === undefined ? {} : { type }) });
    if (kind === 'import') this.runtime.imports.push(target);
    else if (kind === 'require') {
      this.runtime.requires ??= {};
      this.runtime.requires[specifier] = target;
    } else this.#dynamic[type ? `${specifier}\0${type}` : specifier] = { id: target, piece: this.#options.lazyPiece(target) };
  }

  get #dynamic(): NonNullable<RuntimeEdges['dynamic']> {
    this.runtime.dynamic ??= {};
    return this.runtime.dynamic;
  }
}
