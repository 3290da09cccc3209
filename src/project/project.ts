import type { Adapter } from '../core/adapter.js';
import { ModuleGraph } from '../core/graph/module-graph.js';
import { idToPath } from '../core/pieces/id-path.js';
import type { Problem } from '../core/problem.js';
import { installCommandFor } from '../core/resolve/explain-failure.js';
import { Resolver } from '../core/resolve/resolver.js';
import { ChangeReader } from './change-reader.js';
import { DiskFiles } from './disk-files.js';
import { GraphBuilder } from './graph-builder.js';
import { resolveReference } from './load-style.js';
import type { ModuleContent, ScriptContent } from './module-content.js';
import { ModuleLoader } from './module-loader.js';
import type { Page } from './page.js';
import { fromImportMaps, PageSet } from './page-set.js';
import { Paths } from './paths.js';
import { PieceModules } from './piece-modules.js';
import { byUse } from './problem-order.js';
import { ProjectWatch } from './project-watch.js';
import { RequestTargets } from './request-targets.js';
import { StyleCompiler } from './style-compiler.js';
import { StyleSheets } from './style-sheets.js';
import { TsSettings } from './ts-settings.js';
import { TypedEvents } from './typed-events.js';
import { Unsent } from './unsent.js';
import { type ProjectUpdate, UpdateMaker } from './update-maker.js';
import type { FileChanges } from './watcher.js';

export interface ProjectOptions {
  /** Absolute path, links resolved. */
  root: string;
  /** Ids of the HTML pages. */
  pages: readonly string[];
  base: string;
  alias: Readonly<Record<string, string>>;
  roots: readonly string[];
  conditions: readonly string[];
  constants: Readonly<Record<string, string>>;
  adapters: readonly Adapter[];
  /** Folders, absolute, that are served as they are. */
  verbatim: readonly string[];
  /** Folders, absolute, whose changes mean nothing. */
  ignored: readonly string[];
  poll: boolean;
  /** Absolute paths of files whose change may give other options; told by the `settings` event. */
  settingsFiles: readonly string[];
  /** Number of the last update before this project was opened, where it takes the place of another. */
  build: number;
}

export interface ProjectEvents {
  update: ProjectUpdate;
  problems: Problem[];
  solved: { since: number };
  /** A file of the settings changed, appeared or went. */
  settings: { since: number };
  /** Something in the tool itself failed; the project goes on with the next change. */
  failure: Error;
}

/** A running project: pages and modules in memory, kept equal to the files, with an event for each change. */
export class Project extends TypedEvents<ProjectEvents> {
  readonly options: ProjectOptions;
  readonly paths: Paths;
  readonly graph = new ModuleGraph<ModuleContent>();
  readonly sheets: StyleSheets;
  readonly pieces: PieceModules;
  /** Number of the last update. */
  build: number;
  readonly #files = new DiskFiles();
  readonly #resolver: Resolver;
  readonly #typescript: TsSettings;
  readonly #compiler: StyleCompiler;
  readonly #loader: ModuleLoader;
  readonly #pages: PageSet;
  readonly #builder: GraphBuilder;
  readonly #changes: ChangeReader;
  readonly #watch: ProjectWatch;
  readonly #unsent = new Unsent();
  readonly #updates: UpdateMaker;
  /** Files that browsers got as they are, with the paths under which they did. */
  readonly #served = new Map<string, string>();
  /** Groups of changes that wait for their turn. */
  #waitingChanges = 0;
  /** `performance.now()` of the oldest change that wasn't sent yet. */
  #unsentSince: number | undefined;
  #hasToldProblems = false;
  #queue: Promise<void> = Promise.resolve();

  constructor(options: ProjectOptions) {
    super();
    this.options = options;
    this.build = options.build;
    this.paths = new Paths(options.root);
    const { root, alias, roots, conditions, constants, adapters, base } = options;
    const mapped = (specifier: string, folder: string) => [
      ...fromImportMaps(specifier, this.#pages.all(), this.paths),
      ...this.#typescript.candidates(specifier, folder),
    ];
    this.#resolver = new Resolver({ files: this.#files, root, alias, roots, conditions, mapped });
    this.#typescript = new TsSettings(root, this.#resolver.packages);
    const installCommand = installCommandFor(root, (path) => this.#files.kindOf(path) === 'file');
    this.#pages = new PageSet({ paths: this.paths, files: this.#files, resolver: this.#resolver, installCommand });
    this.sheets = new StyleSheets(this.graph, base, this.paths);
    this.pieces = new PieceModules(this.graph, this.sheets, base);
    this.#compiler = new StyleCompiler({
      root,
      mapped: (specifier, folder) => this.#resolver.mapped(specifier, folder),
      resolve: (specifier, file) => {
        const resolution = resolveReference({ kind: 'sheet', specifier }, file, this.#resolver);
        return 'found' in resolution ? resolution.found : undefined;
      },
    });
    const targets = new RequestTargets({
      paths: this.paths,
      resolver: this.#resolver,
      files: this.#files,
      adapters,
      installCommand,
    });
    this.#loader = new ModuleLoader({
      paths: this.paths,
      resolver: this.#resolver,
      targets,
      installCommand,
      typescript: this.#typescript,
      compiler: this.#compiler,
      adapters,
      constants,
      lazyPiece: (id) => `${base}~vine/piece/lazy/${idToPath(id)}.js`,
    });
    this.#updates = new UpdateMaker({
      graph: this.graph,
      sheets: this.sheets,
      pieces: this.pieces,
      unsent: this.#unsent,
      translations: () => this.#loader.translations,
    });
    this.#builder = new GraphBuilder({
      graph: this.graph,
      loader: this.#loader,
      pages: this.#pages,
      paths: this.paths,
      unsent: this.#unsent,
      onLoaded: (id) => this.#watch.loaded(id),
    });
    this.#watch = new ProjectWatch({
      root,
      ignored: options.ignored,
      poll: options.poll,
      paths: this.paths,
      packages: this.#resolver.packages,
      modules: () => this.graph.ids(),
      isLacking: () => this.#builder.failed.size > 0,
      onChanges: (changes) => this.#noted(changes),
    });
    this.#changes = new ChangeReader({
      root,
      paths: this.paths,
      graph: this.graph,
      files: this.#files,
      resolver: this.#resolver,
      typescript: this.#typescript,
      compiler: this.#compiler,
      loader: this.#loader,
      targets,
      pages: this.#pages,
      madeOf: this.#builder.madeOf,
      failed: this.#builder.failed,
      hashes: this.#builder.hashes,
    });
  }

  /** Problems that keep some page from being up to date, the page's own first. */
  get problems(): Problem[] {
    const all = [
      ...this.#typescript.problems.values(),
      ...this.#pages.all().flatMap(({ problems }) => problems),
      ...this.#builder.problems,
    ];
    return all.map((problem) => this.#withChain(problem)).sort(byUse);
  }

  /** The pages by id. */
  get pages(): ReadonlyMap<string, Page> {
    return this.#pages.byId;
  }

  get translations(): number {
    return this.#loader.translations;
  }

  /** Reads all pages and what they statically need, and begins to watch. */
  async open(): Promise<void> {
    for (const id of this.options.pages) this.#pages.read(id);
    this.graph.setRoots(this.#pages.modules());
    await Promise.all(this.#pages.modules().map((id) => this.#builder.visit(id)));
    await this.#builder.settle();
    // Pages get all of this when they load; only what changes from now on has to be sent.
    this.#updates.discard();
    this.#hasToldProblems = this.problems.length > 0;
    await this.#watch.begin();
  }

  /** A browser got this file as it is: when it changes, pages must be told. `path` is the URL's path, decoded. */
  noteServed(file: string, path: string): void {
    this.#served.set(file, path);
  }

  async close(): Promise<void> {
    await this.#watch.close();
    await this.#queue;
  }

  /** Every module that runs when a page loads, dependencies first. Style sheets that scripts import are among them. */
  pageOrder(page: Page): string[] {
    return this.graph.reachable(page.runs.map(({ entry }) => entry));
  }

  /** Whether everything that a page's modules statically need is there. */
  isComplete(page: Page): boolean {
    if (page.problems.length > 0) return false;
    return page.runs.every(({ entry }) => this.graph.has(entry)) && this.isWhole(this.pageOrder(page));
  }

  /** Whether everything that modules statically need is there. */
  isWhole(ids: Iterable<string>): boolean {
    return this.#builder.isWhole(ids);
  }

  /** Settles when no change is being worked on: in between, modules may lack others that are just being made. */
  async settled(): Promise<void> {
    for (let last: Promise<void> | undefined; last !== this.#queue; ) {
      last = this.#queue;
      await last;
    }
  }

  /** Makes sure that a module behind a dynamic import is there, with all it needs. */
  async ensure(id: string): Promise<boolean> {
    await this.#exclusively(async () => {
      const before = this.problems.length;
      await this.#unsent.without(async () => {
        await this.#builder.askFor(id);
        await this.#builder.settle();
      });
      if (this.problems.length > before) this.#tellProblems();
    });
    return this.graph.has(id);
  }

  /** Whether an id names a file that the user may want to edit: a page, a module, or what one was made of. */
  isOwnFile(id: string): boolean {
    if (id.split('/').some((part) => part.startsWith('.') && part !== '..')) return false;
    const isKnown = this.pages.has(id) || this.graph.has(id) || this.#builder.failed.has(id) || this.#builder.madeOf.isUsed(id);
    return (isKnown || this.problems.some(({ file }) => file === id)) && this.#files.kindOf(this.paths.fileOf(id)) === 'file';
  }

  /** What the debugger needs of a script: its source and translator's map. */
  script(id: string): ScriptContent | undefined {
    const content = this.graph.content(id);
    return content?.kind === 'script' ? content : undefined;
  }

  #noted(changes: FileChanges): void {
    this.#waitingChanges++;
    const work = this.#exclusively(() => {
      this.#waitingChanges--;
      return this.#take(changes);
    });
    work.catch((error: unknown) => this.emit('failure', error instanceof Error ? error : new Error(String(error))));
  }

  /** One piece of work at a time, in order of arrival. */
  #exclusively(work: () => Promise<void>): Promise<void> {
    const run = this.#queue.then(work);
    this.#queue = run.catch(() => {});
    return run;
  }

  async #take(changes: FileChanges): Promise<void> {
    const paths = [...changes.written, ...changes.disappeared];
    if (paths.some((path) => this.options.settingsFiles.includes(path))) this.emit('settings', { since: changes.since });
    const hadProblems = this.problems.length > 0;
    const { pages, modules: work } = this.#changes.read(changes);
    for (const id of pages) await this.#pageChanged(id);
    for (const id of work) if (this.graph.has(id) || this.#builder.failed.has(id)) await this.#builder.reload(id);
    await this.#builder.settle();
    this.#builder.forgetUnreachableFailures();
    if (hadProblems && this.#builder.failed.size === 0) this.#builder.drop(this.graph.dropUnreachable());
    // Sheets that went and came back among them, e.g. below a module that was broken for a while.
    for (const id of new Set([...work, ...this.#unsent.changed]))
      for (const sheet of this.sheets.changed(id)) this.#unsent.styles.add(sheet);
    this.#noteFiles(changes);
    if (changes.isInPackages) this.#watch.packagesChanged();
    this.#send(changes.since);
  }

  /** Files that browsers got as they are and that changed. */
  #noteFiles({ written, disappeared }: FileChanges): void {
    for (const path of [...written, ...disappeared]) {
      const url = this.#served.get(path);
      if (url !== undefined) this.#unsent.files.set(url, path);
    }
    for (const page of this.#pages.all()) {
      const script = page.classic.find((id) => id !== undefined && written.has(this.paths.fileOf(id)));
      if (script) this.#unsent.reload.set(page.id, `${script} changed, which is no module`);
    }
  }

  async #pageChanged(id: string): Promise<void> {
    const old = this.pages.get(id)!;
    const page = this.#pages.read(id);
    if (page.version === old.version && page.problems.length === old.problems.length) return;
    for (const [entry, text] of page.inline)
      if (old.inline.get(entry) !== text && this.graph.has(entry)) await this.#builder.reload(entry);
    this.#builder.drop(this.graph.setRoots(this.#pages.modules()));
    await Promise.all(this.#pages.modules([page]).map((module) => this.#builder.visit(module)));
    this.#unsent.reload.set(id, `${id} changed`);
  }

  /** Sends what has changed, unless problems keep it back from every page or more of it is on its way. */
  #send(changedSince: number): void {
    const since = Math.min(this.#unsentSince ?? changedSince, changedSince);
    this.#unsentSince = since;
    // Files that are saved all the time must not keep everything else waiting.
    if (this.#waitingChanges > 0 && performance.now() - since < longestHoldMs) return;
    const { problems } = this;
    const hadTold = this.#hasToldProblems;
    this.#hasToldProblems = false;
    if (problems.length > 0) this.#tellProblems();
    const isHeldBack = problems.length > 0 && [...this.pages.keys()].every((page) => this.problemsOf(page).length > 0);
    if (!isHeldBack) {
      this.#unsentSince = undefined;
      this.#sendUpdate(since);
    }
    if (problems.length === 0 && hadTold) this.emit('solved', { since });
  }

  #sendUpdate(since: number): void {
    const update = this.#updates.take(this.build + 1, since);
    if (!update) return;
    this.build = update.id;
    this.emit('update', update);
  }

  #tellProblems(): void {
    this.#hasToldProblems = true;
    this.emit('problems', this.problems);
  }

  /** The problems that keep one page from being up to date: those of modules it uses, and those of the whole project. */
  problemsOf(page: string): Problem[] {
    const modules = new Set(this.#pages.modules([this.pages.get(page)].filter((known) => known !== undefined)));
    return this.problems.filter(({ file }) => {
      if (file === undefined || file === page) return true;
      if (this.pages.has(file)) return false;
      const users = this.graph.rootsAbove(file);
      return users.length === 0 || users.some((id) => modules.has(id));
    });
  }

  #withChain(problem: Problem): Problem {
    if (!problem.file || this.pages.has(problem.file)) return problem;
    const chain = this.graph.chainTo(problem.file);
    return chain.length > 1 ? { ...problem, chain } : problem;
  }
}

/** How long changes may wait for others that come in one after another. */
const longestHoldMs = 1000;
