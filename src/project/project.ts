import { dirname } from 'node:path';
import type { Adapter } from '../core/adapter.js';
import { modulesRunEarly } from '../core/graph/cycles.js';
import { type Edge, isLazy, ModuleGraph } from '../core/graph/module-graph.js';
import type { FileChange, SheetChange } from '../core/live/messages.js';
import { idToPath } from '../core/pieces/id-path.js';
import type { PieceModule } from '../core/pieces/piece.js';
import type { Problem } from '../core/problem.js';
import { installCommandFor } from '../core/resolve/explain-failure.js';
import { Resolver } from '../core/resolve/resolver.js';
import { ChangeReader } from './change-reader.js';
import { contentHash } from './content-hash.js';
import { DiskFiles } from './disk-files.js';
import { ImportChecker } from './import-checker.js';
import { resolveReference } from './load-style.js';
import { MadeOf } from './made-of.js';
import type { ModuleContent, ScriptContent } from './module-content.js';
import { emptyModule, type Loaded, ModuleLoader } from './module-loader.js';
import { PackageWatcher } from './package-watcher.js';
import type { Page } from './page.js';
import { fromImportMaps, PageSet } from './page-set.js';
import { Paths } from './paths.js';
import { PieceModules } from './piece-modules.js';
import { byUse } from './problem-order.js';
import { StyleCompiler } from './style-compiler.js';
import { StyleSheets } from './style-sheets.js';
import { TsSettings } from './ts-settings.js';
import { TypedEvents } from './typed-events.js';
import { Unsent } from './unsent.js';
import { type FileChanges, readIfThere, Watcher } from './watcher.js';

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

/** What a group of saved files came to. */
export interface ProjectUpdate {
  id: number;
  /** `performance.now()` of the first file change. */
  since: number;
  changed: string[];
  removed: string[];
  styles: SheetChange[];
  /** Files that browsers got as they are. */
  files: FileChange[];
  /** Modules to send: the changed and the added ones. */
  modules: PieceModule[];
  reload: { page: string; reason: string }[];
  /** How many scripts were translated for it. */
  translations: number;
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
  readonly #imports = new ImportChecker(this.graph);
  readonly #madeOf = new MadeOf();
  readonly #changes: ChangeReader;
  readonly #unsent = new Unsent();
  readonly #loading = new Map<string, Promise<void>>();
  /** Hashes of the files as they were last read, by module. */
  readonly #hashes = new Map<string, string>();
  readonly #failed = new Map<string, Problem[]>();
  /** Modules behind dynamic imports that some page has asked for. */
  readonly #askedFor = new Set<string>();
  /** Folders outside the project that are watched. */
  readonly #outside = new Set<string>();
  /** Modules whose imports or exports changed and weren't checked yet. */
  readonly #unchecked = new Set<string>();
  #hasNewImports = false;
  /** Files that browsers got as they are, with the paths under which they did. */
  readonly #served = new Map<string, string>();
  /** Groups of changes that wait for their turn. */
  #waitingChanges = 0;
  /** `performance.now()` of the oldest change that wasn't sent yet. */
  #unsentSince: number | undefined;
  #hasToldProblems = false;
  /** How many scripts had been translated when the last update was sent. */
  #sentTranslations = 0;
  #watcher: Watcher | undefined;
  #packages: PackageWatcher | undefined;
  #packagesTimer: NodeJS.Timeout | undefined;
  #isClosed = false;
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
    this.#loader = new ModuleLoader({
      paths: this.paths,
      resolver: this.#resolver,
      files: this.#files,
      installCommand,
      typescript: this.#typescript,
      compiler: this.#compiler,
      adapters,
      constants,
      lazyPiece: (id) => `${base}~vine/piece/lazy/${idToPath(id)}.js`,
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
      pages: this.#pages,
      madeOf: this.#madeOf,
      failed: this.#failed,
      hashes: this.#hashes,
    });
  }

  /** Problems that keep some page from being up to date, the page's own first. */
  get problems(): Problem[] {
    const all = [
      ...this.#typescript.problems.values(),
      ...this.#pages.all().flatMap(({ problems }) => problems),
      ...[...this.#failed.values(), ...this.#imports.problems.values()].flat(),
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
    await Promise.all(this.#pages.modules().map((id) => this.#visit(id)));
    await this.#settle();
    // Pages get all of this when they load; only what changes from now on has to be sent.
    this.#unsent.changed.clear();
    this.#sentTranslations = this.#loader.translations;
    this.#hasToldProblems = this.problems.length > 0;
    this.#watcher = new Watcher({
      root: this.options.root,
      ignored: this.options.ignored,
      poll: this.options.poll,
      onChanges: (changes) => this.#noted(changes),
    });
    for (const folder of this.#outside) this.#watcher.add(folder);
    await this.#watcher.ready();
    this.#watchPackages();
  }

  /** A browser got this file as it is: when it changes, pages must be told. `path` is the URL's path, decoded. */
  noteServed(file: string, path: string): void {
    this.#served.set(file, path);
  }

  async close(): Promise<void> {
    this.#isClosed = true;
    clearTimeout(this.#packagesTimer);
    await Promise.all([this.#watcher?.close(), this.#packages?.close()]);
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

  isWhole(ids: Iterable<string>): boolean {
    for (const id of ids) {
      if (this.#imports.problems.has(id)) return false;
      for (const { kind, target } of this.graph.edges(id)) if (!isLazy(kind) && !this.graph.has(target)) return false;
    }
    return true;
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
    this.#askedFor.add(id);
    await this.#exclusively(async () => {
      if (this.graph.has(id)) return;
      await this.#unsent.without(async () => {
        await this.#visit(id);
        await this.#settle();
      });
      if (this.problems.length > 0) this.emit('problems', this.problems);
    });
    return this.graph.has(id);
  }

  /** Whether an id names a file that the user may want to edit: a page, a module, or what one was made of. */
  isOwnFile(id: string): boolean {
    if (id.split('/').some((part) => part.startsWith('.') && part !== '..')) return false;
    const isKnown = this.pages.has(id) || this.graph.has(id) || this.#failed.has(id) || this.#madeOf.isUsed(id);
    return (isKnown || this.problems.some(({ file }) => file === id)) && this.#files.kindOf(this.paths.fileOf(id)) === 'file';
  }

  /** What the debugger needs of a script: its source and translator's map. */
  script(id: string): ScriptContent | undefined {
    const content = this.graph.content(id);
    return content?.kind === 'script' ? content : undefined;
  }

  /** Watches the files of packages that are in use. It can wait until everything else is done. */
  #watchPackages(): void {
    clearTimeout(this.#packagesTimer);
    this.#packagesTimer = setTimeout(() => {
      const used = [...this.graph.ids()].filter((id) => id.includes('node_modules/'));
      const files = new Set(used.map((id) => this.paths.fileOf(id.replace(/\?.*$/, ''))));
      this.#packages ??= new PackageWatcher({
        root: this.options.root,
        isAwaited: this.#failed.size > 0,
        onChange: (since) => this.#packagesChanged(since),
      });
      // Asking for the state of thousands of files again and again would keep a network busy.
      if (!this.options.poll) this.#packages.follow(files);
    }, packagesPatienceMs);
    this.#packagesTimer.unref();
  }

  #packagesChanged(since: number): void {
    if (this.#isClosed) return;
    this.#noted({ since, written: new Set(), appeared: new Set(), disappeared: new Set(), isInPackages: true });
  }

  /** Loads a module unless the graph has it, and everything it statically needs. */
  #visit(id: string): Promise<void> {
    if (this.graph.has(id)) return Promise.resolve();
    const known = this.#loading.get(id);
    if (known) return known;
    const promise = this.#reload(id).finally(() => this.#loading.delete(id));
    this.#loading.set(id, promise);
    return promise;
  }

  /** Loads a module anew and puts it in the graph, or notes what is wrong with it. */
  async #reload(id: string): Promise<void> {
    const loaded = await this.#load(id);
    if (!loaded) return;
    if ('problems' in loaded) {
      this.#failed.set(id, loaded.problems);
      // One broken module must not hide what is wrong below it.
      const below = (loaded.edges ?? []).filter(({ kind, target }) => !isLazy(kind) && !this.graph.has(target));
      if (!this.graph.has(id)) await Promise.all(below.map(({ target }) => this.#visit(target)));
      return;
    }
    this.#failed.delete(id);
    const before = importsOf(this.graph.edges(id));
    const isSame = isSameContent(this.graph.content(id), loaded.content);
    const { missing, removed } = this.graph.set(id, loaded.content, loaded.edges);
    this.#unchecked.add(id);
    this.#madeOf.note(id, loaded.content);
    this.#watchOutside(id);
    if (importsOf(loaded.edges) !== before) this.#hasNewImports = true;
    this.#drop(removed);
    if (!isSame) {
      this.#unsent.added(id);
      this.#noteWorkers(id);
    }
    // What a page has asked for stays in use there, even when everything above it went away for a while.
    const wanted = loaded.edges.filter(
      ({ kind, target }) => isLazy(kind) && this.#askedFor.has(target) && !this.graph.has(target),
    );
    await Promise.all([...missing, ...wanted.map(({ target }) => target)].map((target) => this.#visit(target)));
  }

  /** A linked package's own source lies elsewhere: its folder is watched too. */
  #watchOutside(id: string): void {
    if (!id.startsWith('../') || id.includes('node_modules/')) return;
    const folder = this.#resolver.packages.scopeOf(dirname(this.paths.fileOf(id)))?.folder;
    if (folder === undefined || this.#outside.has(folder) || this.options.root.startsWith(`${folder}/`)) return;
    this.#outside.add(folder);
    this.#watcher?.add(folder);
  }

  /** What concerns several modules at once, after any of them was loaded: cycles, and imports that have no export. */
  async #settle(): Promise<void> {
    if (this.#hasNewImports) {
      this.#hasNewImports = false;
      const early = modulesRunEarly(this.graph, ({ linked }) => linked.isEarly && linked.hasBindings);
      const other = [...this.graph.ids()].filter((id) => {
        const script = this.script(id);
        return (
          script !== undefined && script.linked.format === 'module' && script.isChecked !== early.has(id) && this.#hashes.has(id)
        );
      });
      await Promise.all(other.map((id) => this.#relink(id, early.has(id))));
    }
    this.#imports.check(this.#unchecked);
    this.#unchecked.clear();
  }

  async #relink(id: string, isChecked: boolean): Promise<void> {
    const content = this.script(id)!;
    if (!content.linked.hasBindings) return;
    const loaded = await this.#loader.load(id, Buffer.from(content.source), isChecked);
    if ('problems' in loaded) return;
    this.graph.set(id, loaded.content, loaded.edges);
    this.#unsent.changed.add(id);
  }

  async #load(id: string): Promise<Loaded | undefined> {
    if (id === emptyModule) return this.#loader.empty();
    const isChecked = this.script(id)?.isChecked ?? false;
    const inline = this.#pages.inlineText(id);
    if (inline !== undefined) return this.#loader.script(id, inline, isChecked);
    const bytes = readIfThere(this.paths.fileOf(id.replace(/\?.*$/, '')));
    if (!bytes) {
      const message = `${id} cannot be read.`;
      return { problems: [{ code: 'file-unreadable', severity: 'error', message, file: id, hint: 'Look at its permissions.' }] };
    }
    this.#hashes.set(id, contentHash(bytes));
    return this.#loader.load(id, bytes, isChecked);
  }

  /** A change in what runs in a worker changes the worker's URL, and with it the modules that start the worker. */
  #noteWorkers(id: string): void {
    const above = new Set([id]);
    for (const at of above) {
      for (const importer of this.graph.importers(at)) {
        for (const { kind, target } of this.graph.edges(importer)) {
          if (target !== at) continue;
          if (kind === 'worker') this.#unsent.changed.add(importer);
          else if (kind === 'import' || kind === 'require') above.add(importer);
        }
      }
    }
  }

  #drop(ids: string[]): void {
    for (const id of ids) {
      this.#hashes.delete(id);
      this.#failed.delete(id);
      this.#imports.problems.delete(id);
      this.#madeOf.drop(id);
      this.#unsent.dropped(id);
    }
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
    for (const id of work) if (this.graph.has(id) || this.#failed.has(id)) await this.#reload(id);
    await this.#settle();
    this.#forgetUnreachableFailures();
    if (hadProblems && this.#failed.size === 0) this.#drop(this.graph.dropUnreachable());
    // Sheets that went and came back among them, e.g. below a module that was broken for a while.
    for (const id of new Set([...work, ...this.#unsent.changed]))
      for (const sheet of this.sheets.changed(id)) this.#unsent.styles.add(sheet);
    this.#noteFiles(changes);
    this.#watchPackages();
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
      if (old.inline.get(entry) !== text && this.graph.has(entry)) await this.#reload(entry);
    this.#drop(this.graph.setRoots(this.#pages.modules()));
    await Promise.all(this.#pages.modules([page]).map((module) => this.#visit(module)));
    this.#unsent.reload.set(id, `${id} changed`);
  }

  /** A module that nothing imports any more can't be a problem. */
  #forgetUnreachableFailures(): void {
    for (const id of this.#failed.keys()) {
      if (!this.graph.has(id) && !this.graph.isRoot(id) && this.graph.importers(id).length === 0) this.#failed.delete(id);
    }
  }

  /** Sends what has changed, unless problems keep it back from every page or more of it is on its way. */
  #send(changedSince: number): void {
    const since = Math.min(this.#unsentSince ?? changedSince, changedSince);
    this.#unsentSince = since;
    // Files that are saved all the time must not keep everything else waiting.
    if (this.#waitingChanges > 0 && performance.now() - since < longestHoldMs) return;
    const { problems } = this;
    if (problems.length > 0) this.emit('problems', problems);
    const isHeldBack = problems.length > 0 && [...this.pages.keys()].every((page) => this.problemsOf(page).length > 0);
    if (!isHeldBack) {
      this.#unsentSince = undefined;
      if (!this.#unsent.isEmpty) this.#sendUpdate(since);
    }
    if (problems.length === 0 && this.#hasToldProblems) this.emit('solved', { since });
    this.#hasToldProblems = problems.length > 0;
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

  #sendUpdate(since: number): void {
    const { changed, removed, styles, reload, files } = this.#unsent.take();
    const modules = changed.filter((id) => this.#isForScripts(id)).flatMap((id) => this.pieces.get(id) ?? []);
    if (modules.length + removed.length + styles.length + reload.length + files.length === 0) return;
    this.build++;
    const translations = this.#loader.translations - this.#sentTranslations;
    this.#sentTranslations = this.#loader.translations;
    this.emit('update', {
      id: this.build,
      since,
      changed: modules.map(({ id }) => id).filter((id) => this.graph.content(id)?.kind !== 'style'),
      removed,
      styles: styles.filter((id) => this.graph.has(id)).map((id) => ({ id, url: this.sheets.urlOf(id) })),
      files: files.map(([path, file]) => ({ path, url: `${path}?v=${contentHash(readIfThere(file) ?? Buffer.alloc(0))}` })),
      modules,
      reload: reload.map(([page, reason]) => ({ page, reason })),
      translations,
    });
  }

  /** Sheets and files that only pages and other sheets use are no modules for the browser. */
  #isForScripts(id: string): boolean {
    const kind = this.graph.content(id)?.kind;
    return kind === 'script' || this.graph.importers(id).some((importer) => this.graph.content(importer)?.kind === 'script');
  }

  #withChain(problem: Problem): Problem {
    if (!problem.file || this.pages.has(problem.file)) return problem;
    const chain = this.graph.chainTo(problem.file);
    return chain.length > 1 ? { ...problem, chain } : problem;
  }
}

/** How long after the last change packages are looked through for files to watch. */
const packagesPatienceMs = 300;
/** How long changes may wait for others that come in one after another. */
const longestHoldMs = 1000;

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
