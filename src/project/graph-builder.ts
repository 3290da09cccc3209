import { modulesRunEarly } from '../core/graph/cycles.js';
import { type Edge, isLazy, type ModuleGraph } from '../core/graph/module-graph.js';
import type { Problem } from '../core/problem.js';
import { contentHash } from './content-hash.js';
import { ImportChecker } from './import-checker.js';
import { MadeOf } from './made-of.js';
import type { ModuleContent, ScriptContent } from './module-content.js';
import type { Loaded, ModuleLoader } from './module-loader.js';
import type { PageSet } from './page-set.js';
import type { Paths } from './paths.js';
import { emptyModule } from './request-targets.js';
import type { Unsent } from './unsent.js';
import { readIfThere } from './watcher.js';

export interface GraphBuilderOptions {
  graph: ModuleGraph<ModuleContent>;
  loader: ModuleLoader;
  pages: PageSet;
  paths: Paths;
  /** Takes down what comes and goes. */
  unsent: Unsent;
  /** A module was put in the graph. */
  onLoaded(id: string): void;
}

/** Loads modules into the graph, with all they need, and keeps what is wrong with those that can't be made. */
export class GraphBuilder {
  /** What went into modules beside their own files. */
  readonly madeOf = new MadeOf();
  /** Hashes of the files as they were last read, by module. */
  readonly hashes = new Map<string, string>();
  /** Modules that could not be made, with what is wrong. */
  readonly failed = new Map<string, Problem[]>();
  readonly #options: GraphBuilderOptions;
  readonly #imports: ImportChecker;
  readonly #loading = new Map<string, Promise<void>>();
  /** Modules behind dynamic imports that some page has asked for. */
  readonly #askedFor = new Set<string>();
  /** Modules whose imports or exports changed and weren't checked yet. */
  readonly #unchecked = new Set<string>();
  #hasNewImports = false;

  constructor(options: GraphBuilderOptions) {
    this.#options = options;
    this.#imports = new ImportChecker(options.graph);
  }

  get problems(): Problem[] {
    return [...this.failed.values(), ...this.#imports.problems.values()].flat();
  }

  /** Whether everything that modules statically need is there. */
  isWhole(ids: Iterable<string>): boolean {
    const { graph } = this.#options;
    for (const id of ids) {
      if (this.#imports.problems.has(id)) return false;
      for (const { kind, target } of graph.edges(id)) if (!isLazy(kind) && !graph.has(target)) return false;
    }
    return true;
  }

  /** A page asks for a module behind a dynamic import: from now on it belongs to what is kept up to date. */
  askFor(id: string): Promise<void> {
    this.#askedFor.add(id);
    return this.visit(id);
  }

  /** Loads a module unless the graph has it, and everything it statically needs. */
  visit(id: string): Promise<void> {
    if (this.#options.graph.has(id)) return Promise.resolve();
    const known = this.#loading.get(id);
    if (known) return known;
    const promise = this.reload(id).finally(() => this.#loading.delete(id));
    this.#loading.set(id, promise);
    return promise;
  }

  /** Loads a module anew and puts it in the graph, or notes what is wrong with it. */
  async reload(id: string): Promise<void> {
    const { graph, unsent, onLoaded } = this.#options;
    const loaded = await this.#load(id);
    if ('problems' in loaded) {
      this.failed.set(id, loaded.problems);
      // One broken module must not hide what is wrong below it.
      const below = (loaded.edges ?? []).filter(({ kind, target }) => !isLazy(kind) && !graph.has(target));
      if (!graph.has(id)) await Promise.all(below.map(({ target }) => this.visit(target)));
      return;
    }
    this.failed.delete(id);
    const before = importsOf(graph.edges(id));
    const isSame = isSameContent(graph.content(id), loaded.content);
    const { missing, removed } = graph.set(id, loaded.content, loaded.edges);
    this.#unchecked.add(id);
    this.madeOf.note(id, loaded.content);
    onLoaded(id);
    if (importsOf(loaded.edges) !== before) this.#hasNewImports = true;
    this.drop(removed);
    if (!isSame) {
      unsent.added(id);
      this.#noteWorkers(id);
    }
    // What a page has asked for stays in use there, even when everything above it went away for a while.
    const wanted = loaded.edges.filter(({ kind, target }) => isLazy(kind) && this.#askedFor.has(target));
    await Promise.all([...missing, ...wanted.map(({ target }) => target)].map((target) => this.visit(target)));
  }

  /** What concerns several modules at once, after any of them was loaded: cycles, and imports that have no export. */
  async settle(): Promise<void> {
    const { graph } = this.#options;
    if (this.#hasNewImports) {
      this.#hasNewImports = false;
      const early = modulesRunEarly(graph, ({ linked }) => linked.isEarly && linked.hasBindings);
      const other = [...graph.ids()].filter((id) => {
        const script = this.#script(id);
        return script?.linked.format === 'module' && script.isChecked !== early.has(id) && this.hashes.has(id);
      });
      await Promise.all(other.map((id) => this.#relink(id, early.has(id))));
    }
    this.#imports.check(this.#unchecked);
    this.#unchecked.clear();
  }

  /** Forgets modules that fell out of the graph. */
  drop(ids: readonly string[]): void {
    for (const id of ids) {
      this.hashes.delete(id);
      this.failed.delete(id);
      this.#imports.problems.delete(id);
      this.madeOf.drop(id);
      this.#options.unsent.dropped(id);
    }
  }

  /** A module that nothing imports any more can't be a problem. */
  forgetUnreachableFailures(): void {
    const { graph } = this.#options;
    for (const id of this.failed.keys()) {
      if (!graph.has(id) && !graph.isRoot(id) && graph.importers(id).length === 0) this.failed.delete(id);
    }
  }

  async #relink(id: string, isChecked: boolean): Promise<void> {
    const { graph, loader, unsent } = this.#options;
    const content = this.#script(id)!;
    if (!content.linked.hasBindings) return;
    const loaded = await loader.load(id, Buffer.from(content.source), isChecked);
    if ('problems' in loaded) return;
    graph.set(id, loaded.content, loaded.edges);
    unsent.changed.add(id);
  }

  async #load(id: string): Promise<Loaded> {
    const { loader, pages, paths } = this.#options;
    if (id === emptyModule) return loader.empty();
    const isChecked = this.#script(id)?.isChecked ?? false;
    const inline = pages.inlineText(id);
    if (inline !== undefined) return loader.script(id, inline, isChecked);
    const bytes = readIfThere(paths.fileOf(id.replace(/\?.*$/, '')));
    if (!bytes) {
      const message = `${id} cannot be read.`;
      return { problems: [{ code: 'file-unreadable', severity: 'error', message, file: id, hint: 'Look at its permissions.' }] };
    }
    this.hashes.set(id, contentHash(bytes));
    return loader.load(id, bytes, isChecked);
  }

  /** A change in what runs in a worker changes the worker's URL, and with it the modules that start the worker. */
  #noteWorkers(id: string): void {
    const { graph, unsent } = this.#options;
    const above = new Set([id]);
    for (const at of above) {
      for (const importer of graph.importers(at)) {
        for (const { kind, target } of graph.edges(importer)) {
          if (target !== at) continue;
          if (kind === 'worker') unsent.changed.add(importer);
          else if (kind === 'import' || kind === 'require') above.add(importer);
        }
      }
    }
  }

  #script(id: string): ScriptContent | undefined {
    const content = this.#options.graph.content(id);
    return content?.kind === 'script' ? content : undefined;
  }
}

function isSameContent(before: ModuleContent | undefined, after: ModuleContent): boolean {
  if (before?.kind !== after.kind) return false;
  if (before.kind === 'script' && after.kind === 'script')
    return before.edges.version === after.edges.version && before.source === after.source;
  if (before.kind === 'style' && after.kind === 'style') return before.css === after.css && before.source === after.source;
  return before.kind === 'asset' && after.kind === 'asset' && before.hash === after.hash;
}

/** Static imports of some edges as one string, to tell whether they changed. */
function importsOf(edges: readonly Edge[]): string {
  return edges
    .filter(({ kind }) => kind === 'import')
    .map(({ target }) => target)
    .join('\0');
}
