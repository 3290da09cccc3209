import { mayLack, passesOn } from '../../core/graph/check-imports.js';
import { modulesRunEarly } from '../../core/graph/cycles.js';
import type { Loaded, ModuleContent, ScriptContent } from '../../core/graph/module-content.js';
import { type Edge, isLazy, type ModuleGraph } from '../../core/graph/module-graph.js';
import { leadingTo } from '../../core/graph/named.js';
import { fileOfId } from '../../core/module-id.js';
import type { Problem } from '../../core/problem/problem.js';
import { contentHash } from '../../core/text/content-hash.js';
import type { Trace } from '../../core/trace.js';
import type { ModuleFiles } from '../files/module-files.js';
import { ImportChecker } from './import-checker.js';
import { MadeOf } from './made-of.js';
import type { ModuleLoader } from './module-loader.js';
import { emptyModule, helperPrefix, standInPrefix } from './request-targets.js';
import { standIn, withoutExports } from './stand-in.js';

/** Takes down which modules come and go. */
export interface Changes {
  /** A module came, or is another one. */
  added(id: string): void;
  dropped(id: string): void;
}

/** Scripts that stand in pages, which have no files of their own. */
export interface PageScripts {
  /** The text of such a script; `undefined` for any other id. */
  inlineText(id: string): string | undefined;
  /** Puts what is wrong with one at its place in the page. */
  placedInPage<T extends object>(id: string, loaded: T | { problems: Problem[] }): T | { problems: Problem[] };
}

export interface GraphBuilderOptions {
  graph: ModuleGraph<ModuleContent>;
  loader: ModuleLoader;
  files: ModuleFiles;
  pages: PageScripts;
  changes: Changes;
  trace: Trace;
  /** A file was read: that of a module, or one that went into it. */
  onRead(id: string): void;
  /** Settles when a module may be loaded; `undefined` for at once. */
  turn(): Promise<void> | undefined;
}

/** Loads modules into the graph, with all they need, and keeps what is wrong with those that can't be made. */
export class GraphBuilder {
  /** What went into modules beside their own files. */
  readonly madeOf = new MadeOf();
  /** Modules that could not be made, with what is wrong. */
  readonly failed = new Map<string, Problem[]>();
  /** Where those of them lead that were read far enough to tell. The graph has what they led to when they could still be made. */
  readonly #failedEdges = new Map<string, readonly Edge[]>();
  /** Changes with `failed`. */
  #failures = 0;
  /** What is in use, as of a state of the graph and of them. */
  #inUse: { asOf: string; ids: ReadonlySet<string> } | undefined;
  readonly #options: GraphBuilderOptions;
  /** Modules that are being read. */
  get loading(): ReadonlyMap<string, unknown> {
    return this.#loading;
  }

  readonly #imports: ImportChecker;
  /** Modules that can't be made and whose imports are being looked at. */
  readonly #waiting = new Set<string>();
  readonly #loading = new Map<string, Promise<void>>();
  /** Modules behind dynamic imports that some page has asked for. */
  readonly #askedFor = new Set<string>();
  /** Modules that were made anew and weren't checked yet, and whether others may lack something of them. */
  readonly #unchecked = new Map<string, boolean>();
  /** Modules that others get anew, since everything was settled last. */
  readonly #renewed = new Set<string>();
  /** Modules above which those were looked for that start them in a worker, since everything was settled last. */
  readonly #lookedAbove = new Set<string>();
  #hasNewImports = false;

  constructor(options: GraphBuilderOptions) {
    this.#options = options;
    this.#imports = new ImportChecker(options.graph, (id) => this.failed.has(id));
  }

  get problems(): Problem[] {
    const ofImports = [...this.#imports.problems];
    if (this.failed.size === 0) return ofImports.flatMap(([, problems]) => problems);
    const inUse = this.#usedNow();
    // What is wrong with the imports of a module that can't be made was wrong when it could be.
    return [...this.failed, ...ofImports.filter(([id]) => !this.failed.has(id))].flatMap(([id, problems]) =>
      inUse.has(id) ? problems : [],
    );
  }

  /** Modules to which something leads, as files are now: that of those that can't be made stands in no graph. */
  #usedNow(): ReadonlySet<string> {
    const { graph } = this.#options;
    const asOf = `${graph.shape} ${this.#failures}`;
    if (this.#inUse?.asOf !== asOf) {
      const used = new Set(graph.roots());
      for (const id of used) for (const { target } of this.#failedEdges.get(id) ?? graph.edges(id)) used.add(target);
      this.#inUse = { asOf, ids: used };
    }
    return this.#inUse.ids;
  }

  /** Changes with the problems of imports. */
  get importProblems(): number {
    return this.#imports.version;
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
    // One that waits for what is below it isn't waited for: it may be below itself.
    if (this.#options.graph.has(id) || this.#waiting.has(id)) return Promise.resolve();
    const known = this.#loading.get(id);
    if (known) return known;
    const promise = this.reload(id).finally(() => this.#loading.delete(id));
    this.#loading.set(id, promise);
    return promise;
  }

  /** Loads a module anew and puts it in the graph, or notes what is wrong with it. */
  async reload(id: string): Promise<void> {
    await this.#put(id, await this.#load(id));
  }

  /** Begins what loading these modules will probably need, where they are scripts in use and their files have changed. */
  prepare(ids: readonly string[]): void {
    const { loader, files } = this.#options;
    for (const id of ids) {
      const script = this.#script(id);
      const { content, hash } = (script && files.news(id)) ?? {};
      if (typeof content === 'string' && content !== '')
        loader.prepare(id, content, { hash: hash!, isChecked: script!.isChecked });
    }
  }

  /** Loads modules anew, all at the same time, and puts them in the graph in the order given. */
  async reloadAll(ids: readonly string[]): Promise<void> {
    this.#options.loader.forgetTaken();
    const loaded = await Promise.all(ids.map((id) => this.#load(id)));
    for (const [at, id] of ids.entries()) {
      // What was put in before may have taken the last import of this one away.
      if (this.#options.graph.has(id) || this.failed.has(id)) await this.#put(id, loaded[at]!);
    }
  }

  async #put(id: string, loaded: Loaded): Promise<void> {
    const { graph, trace } = this.#options;
    this.#noteRead(id, loaded);
    if ('problems' in loaded) {
      this.failed.set(id, loaded.problems);
      this.#failures++;
      this.#unchecked.set(id, true);
      if (loaded.edges) this.#failedEdges.set(id, loaded.edges);
      else this.#failedEdges.delete(id);
      this.madeOf.noteFailed(id, loaded.dependencies ?? []);
      // One broken module must not hide what is wrong below it.
      const below = (loaded.edges ?? []).filter(({ kind, target }) => !isLazy(kind) && !graph.has(target));
      this.#waiting.add(id);
      try {
        await Promise.all(below.map(({ target }) => this.visit(target)));
      } finally {
        this.#waiting.delete(id);
      }
      return;
    }
    const wasFailed = this.failed.has(id);
    this.#mend(id);
    const fromGraph = trace.now();
    const edgesBefore = graph.edges(id);
    const before = graph.content(id);
    const isSame = isSameContent(before, loaded.content);
    const hasSame = hasSameImports(loaded.edges, edgesBefore);
    const { missing, removed } = graph.set(id, loaded.content, loaded.edges);
    const gives =
      wasFailed || !before || mayLack(before.linked, loaded.content.linked) || (!hasSame && passesOn(loaded.content.linked));
    this.#unchecked.set(id, gives || this.#unchecked.get(id) === true);
    this.madeOf.note(id, loaded.content);
    if (!hasSame) this.#hasNewImports = true;
    this.drop(removed);
    if (!isSame) {
      this.#renew(id);
      this.#noteUrls(id);
    }
    trace.span('module', 'graph', fromGraph, { id });
    // What a page has asked for stays in use there, even when everything above it went away for a while.
    const wanted = loaded.edges.filter(({ kind, target }) => isLazy(kind) && this.#askedFor.has(target));
    await Promise.all([...missing, ...wanted.map(({ target }) => target)].map((target) => this.visit(target)));
  }

  #noteRead(id: string, loaded: Loaded): void {
    const { onRead } = this.#options;
    const madeOf = 'problems' in loaded ? loaded : loaded.content;
    const dependencies = 'dependencies' in madeOf ? madeOf.dependencies : undefined;
    for (const file of [id, ...(dependencies ?? [])]) onRead(file);
  }

  /** What concerns several modules at once, after any of them was loaded: cycles, and imports that have no export. */
  async settle(): Promise<void> {
    const { graph, files, trace } = this.#options;
    const from = trace.now();
    files.forgetNews();
    this.#options.loader.forgetTaken();
    this.#lookedAbove.clear();
    this.#renewed.clear();
    if (this.#hasNewImports) {
      this.#hasNewImports = false;
      const early = modulesRunEarly(graph, ({ linked }) => linked.isEarly && linked.hasBindings);
      const other = [...graph.ids()].filter((id) => {
        const script = this.#script(id);
        return script?.linked.format === 'module' && script.isChecked !== early.has(id) && files.isLoaded(id);
      });
      trace.span('graph', 'cycles', from, { early: early.size });
      await Promise.all(other.map((id) => this.#relink(id, early.has(id))));
    }
    const fromCheck = trace.now();
    this.#imports.check(this.#unchecked);
    trace.span('graph', 'check imports', fromCheck, { modules: this.#unchecked.size });
    this.#unchecked.clear();
  }

  /** Forgets modules that fell out of the graph. */
  drop(ids: readonly string[]): void {
    for (const id of ids) {
      this.#options.files.drop(id);
      this.#mend(id);
      this.#imports.forget(id);
      this.madeOf.drop(id);
      this.#options.changes.dropped(id);
    }
  }

  /** A module that nothing imports any more can't be a problem. */
  forgetUnreachableFailures(): void {
    const { graph } = this.#options;
    const inUse = this.#usedNow();
    for (const id of this.failed.keys()) {
      const isNamed = graph.has(id) || graph.importers(id).length > 0;
      if (!isNamed && !inUse.has(id)) this.#mend(id);
    }
  }

  #mend(id: string): void {
    if (this.failed.delete(id)) this.#failures++;
    this.#failedEdges.delete(id);
  }

  async #relink(id: string, isChecked: boolean): Promise<void> {
    const { graph, loader, files, changes } = this.#options;
    const content = this.#script(id)!;
    if (!content.linked.hasBindings) return;
    const loaded = await loader.load(id, content.source.text, { hash: files.hashOf(id)!, isChecked });
    if ('problems' in loaded) return;
    graph.set(id, loaded.content, loaded.edges);
    changes.added(id);
  }

  /** Loads a module. Whatever goes wrong in that is a problem of this module and keeps no other from being there. */
  async #load(id: string): Promise<Loaded> {
    await this.#options.turn();
    try {
      return await this.#loadNow(id);
    } catch (error) {
      const isTooDeep = error instanceof RangeError;
      const message = error instanceof Error ? error.message : String(error);
      const told = isTooDeep
        ? {
            code: 'file-too-large',
            message: `${id} is too long or too deeply nested to be read: ${message}.`,
            hint: 'Divide it.',
          }
        : {
            code: 'internal-error',
            message: `Vine Spark failed on ${id}: ${message}`,
            hint: `Please report this. ${stackOf(error)}`,
          };
      return { problems: [{ severity: 'error', file: fileOfId(id), ...told } as Problem] };
    }
  }

  async #loadNow(id: string): Promise<Loaded> {
    const { loader, pages, files, trace } = this.#options;
    if (id === emptyModule) return withoutExports();
    if (id.startsWith(standInPrefix)) return standIn(id.slice(standInPrefix.length));
    if (id.startsWith(helperPrefix)) return loader.helper(id);
    const isChecked = this.#script(id)?.isChecked ?? false;
    const inline = pages.inlineText(id);
    if (inline !== undefined)
      return pages.placedInPage(id, await loader.script(id, inline, { hash: contentHash(inline), isChecked }));
    const from = trace.now();
    const file = files.load(id);
    if (!file) return { problems: [files.problemOf(id)] };
    trace.span('module', 'read and hash', from, { id });
    return loader.load(id, file.content, { hash: file.hash, isChecked });
  }

  #renew(id: string): void {
    this.#renewed.add(id);
    this.#options.changes.added(id);
  }

  /**
   * A change of a file changes its URL, and with it the modules that name it by `new URL()`; so does one in what runs in a worker
   * for the modules that start the worker.
   */
  #noteUrls(id: string): void {
    const { graph } = this.#options;
    if (graph.hasEdgesOf('url'))
      for (const importer of graph.importers(id))
        if (!this.#renewed.has(importer) && leadingTo(graph.edges(importer), id).some(({ kind }) => kind === 'url'))
          this.#renew(importer);
    // Looks at everything above, which most projects need not, once for all that changes together.
    if (!graph.hasEdgesOf('worker')) return;
    const above = new Set([id]);
    for (const at of above) {
      if (this.#lookedAbove.has(at)) continue;
      this.#lookedAbove.add(at);
      for (const importer of graph.importers(at)) {
        for (const { kind } of leadingTo(graph.edges(importer), at)) {
          if (kind === 'worker') this.#renew(importer);
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

function stackOf(error: unknown): string {
  return error instanceof Error ? (error.stack ?? '').split('\n').slice(1, 6).join('\n') : '';
}

function isSameContent(before: ModuleContent | undefined, after: ModuleContent): boolean {
  if (before?.kind !== after.kind) return false;
  if (before.kind === 'script' && after.kind === 'script')
    // A part of a file is the same whatever stands around it; its map is made of the newest.
    return (
      before.edges.version === after.edges.version && (after.sourceHash !== undefined || before.source.text === after.source.text)
    );
  if (before.kind === 'style' && after.kind === 'style')
    return before.css === after.css && before.source === after.source && before.shownSource === after.shownSource;
  return before.kind === 'asset' && after.kind === 'asset' && before.hash === after.hash;
}

/** Whether edges hold the same static imports in the same order. */
function hasSameImports(after: readonly Edge[], before: readonly Edge[]): boolean {
  let at = 0;
  for (const { kind, target } of after) {
    if (kind !== 'import') continue;
    while (before[at] && before[at]!.kind !== 'import') at++;
    if (before[at++]?.target !== target) return false;
  }
  return !before.slice(at).some(({ kind }) => kind === 'import');
}
