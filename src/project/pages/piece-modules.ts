import type { ModuleContent, ScriptContent, UrlTarget } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import { digestVersions } from '../../core/live/messages.js';
import { fileOfPart } from '../../core/module-id.js';
import type { PieceModule } from '../../core/pieces/piece.js';
import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';
import { contentHash } from '../../core/text/content-hash.js';
import type { StyleSheets } from '../styles/style-sheets.js';

/** Where sources and workers are found. */
export interface PieceUrls {
  /** Under which a debugger shows a source. */
  source(id: string): string;
  /** The script of a worker; `version` changes with everything that runs in it. */
  worker(id: string, version: string, isService: boolean): string;
}

/** Modules as they go into pieces: linked code, with edges that hold the current URLs of what they use. */
export class PieceModules {
  readonly #graph: ModuleGraph<ModuleContent>;
  readonly #sheets: StyleSheets;
  readonly #urls: PieceUrls;
  readonly #known = new WeakMap<ScriptContent, PieceModule>();

  constructor(graph: ModuleGraph<ModuleContent>, sheets: StyleSheets, urls: PieceUrls) {
    this.#graph = graph;
    this.#sheets = sheets;
    this.#urls = urls;
  }

  /** One module; `undefined` for what the graph doesn't hold. */
  get(id: string): PieceModule | undefined {
    const content = this.#graph.content(id);
    if (!content) return undefined;
    const { linked } = content;
    if (content.kind === 'script') return this.#ofScript(id, content);
    const url = this.#sheets.urlOf(id);
    if (content.kind === 'asset') return { id, linked, edges: { version: content.hash, imports: [], value: true, url } };
    const composed = this.#graph.edges(id).filter(({ kind }) => kind === 'import');
    return {
      id,
      linked,
      edges: { version: contentHash(linked.code), imports: composed.map(({ target }) => target), style: url },
      css: () => this.#sheets.fullText(id),
    };
  }

  #ofScript(id: string, content: ScriptContent): PieceModule {
    const known = this.#known.get(content);
    if (known && content.urls.length === 0) return known;
    const { source, map, linked, inPackage } = content;
    const { shifts, code } = linked;
    const input = {
      source,
      sourceUrl: this.#urls.source(fileOfPart(id)),
      shifts,
      code,
      ignored: inPackage,
      ...(map ? { map } : {}),
    };
    const { sourceHash } = content;
    const module = {
      id,
      linked,
      edges: this.#scriptEdges(content),
      map: known?.map ?? input,
      ...(sourceHash === undefined ? {} : { sourceHash }),
    };
    this.#known.set(content, module);
    return module;
  }

  /** The sum of the versions of modules, comparable with what a page computes of its own. */
  digest(ids: Iterable<string>): number {
    const versions: string[] = [];
    for (const id of ids) {
      const module = this.get(id);
      if (module) versions.push(module.edges.version);
    }
    return digestVersions(versions);
  }

  #scriptEdges({ edges, urls }: ScriptContent): RuntimeEdges {
    if (urls.length === 0) return edges;
    const urlOf = ({ kind, specifier, target, isService }: UrlTarget) => {
      if (target === undefined) return specifier;
      return kind === 'worker' ? this.#workerUrl(target, isService) : this.#sheets.urlOf(target);
    };
    const found = urls.filter(({ isMatch }) => !isMatch).map(urlOf);
    const files = urls.filter(({ isMatch }) => isMatch).map((match): [string, string] => [match.specifier, urlOf(match)]);
    const version = contentHash(edges.version, ...found, ...files.flat());
    return { ...edges, urls: found, version, ...(files.length > 0 ? { files: Object.fromEntries(files) } : {}) };
  }

  /** The URL of a worker's script. It changes with everything that runs in the worker, so that a new one replaces it. */
  #workerUrl(id: string, isService = false): string {
    const versions: string[] = [];
    const below = new Set(this.#graph.reachable([id]));
    for (const at of below) {
      versions.push(this.#versionOf(at));
      // A worker may start others, and others of its own kind.
      for (const { kind, target } of this.#graph.edges(at))
        if (kind === 'worker') for (const other of this.#graph.reachable([target])) below.add(other);
    }
    return this.#urls.worker(id, digestVersions(versions).toString(16), isService);
  }

  /** Changes with a module and the files that it names, but not with the workers that it starts. */
  #versionOf(id: string): string {
    const content = this.#graph.content(id);
    if (content?.kind !== 'script') return this.get(id)?.edges.version ?? '';
    const files = content.urls.map(({ kind, target }) =>
      kind === 'url' && target !== undefined ? this.#sheets.urlOf(target) : '',
    );
    return contentHash(content.edges.version, ...files);
  }
}
