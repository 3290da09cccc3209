import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import type { Paths } from '../core/paths.js';
import type { Problem } from '../core/problem/problem.js';
import { TypedEvents } from '../core/typed-events.js';
import { embeddedPageId, entriesOf, ownIdPrefix, ownUrl, pieceName } from '../core/urls.js';
import type { FileGate } from './files/file-gate.js';
import type { LastStart, StartAnswers } from './kept/last-start.js';
import { StartKeeper } from './kept/start-keeper.js';
import { ChangeReader } from './live/invalidate.js';
import { MapCompleter } from './live/map-completer.js';
import { ProjectWatch } from './live/project-watch.js';
import { Turns } from './live/turns.js';
import { Unsent } from './live/unsent.js';
import { UpdateMaker } from './live/update-maker.js';
import type { FileChanges } from './live/watcher.js';
import { News } from './news.js';
import type { ProjectOptions } from './options.js';
import type { Page } from './pages/page.js';
import { PieceModules } from './pages/piece-modules.js';
import type { ProjectEvents } from './project-events.js';
import { ProjectGraph } from './project-graph.js';
import { LoadingTurns } from './read/loading-turns.js';
import { StyleSheets, servedUrls } from './styles/style-sheets.js';
import { TakeChanges } from './take-changes.js';
import { UsedFiles } from './used-files.js';

/** A running project: pages and modules in memory, kept equal to the files, with an event for each change. */
export class Project extends TypedEvents<ProjectEvents> {
  readonly options: ProjectOptions;
  readonly paths: Paths;
  readonly graph: ModuleGraph<ModuleContent>;
  readonly sheets: StyleSheets;
  readonly pieces: PieceModules;
  /** Which files may leave this machine. */
  readonly gate: FileGate;
  readonly #read: ProjectGraph;
  readonly #changes: ChangeReader;
  readonly #taking: TakeChanges;
  readonly #watch: ProjectWatch;
  readonly #unsent = new Unsent();
  readonly #updates: UpdateMaker;
  readonly #turns = new Turns();
  readonly #loadingTurns = new LoadingTurns();
  readonly #maps: MapCompleter;
  readonly #used: UsedFiles;
  readonly #news: News;
  #opened: Promise<void> | undefined;
  #idle: Promise<void> | undefined;
  /** `Date.now()` before the first file was read. */
  #began = 0;
  /** What the last start answered, where that still holds. Settles soon after `begin`, before modules are read. */
  lastStart: Promise<LastStart | undefined> = Promise.resolve(undefined);
  readonly #keeper: StartKeeper;
  /** Some page can't be complete yet, since the project is read for the first time. */
  isOpening = false;

  constructor(options: ProjectOptions) {
    super();
    this.options = options;
    const { root, base } = options;
    const read = new ProjectGraph(options, {
      changes: this.#unsent,
      onRead: (id) => this.#watch.read(id),
      onWarning: (warning) => this.emit('warning', warning),
      onNote: (note) => this.emit('note', note),
      turn: () => (this.isOpening ? this.#loadingTurns.next() : undefined),
    });
    this.#read = read;
    const {
      paths,
      modules: graph,
      files,
      moduleFiles,
      typescript,
      compiler,
      resolver,
      builder,
      pages,
      loader,
      targets,
      gate,
    } = read;
    this.paths = paths;
    this.graph = graph;
    this.gate = gate;
    this.#maps = new MapCompleter(graph);
    this.sheets = new StyleSheets(graph, servedUrls(base), paths);
    this.pieces = new PieceModules(graph, this.sheets, {
      source: (id) => `${base}${id}`,
      worker: (id, version, isService) =>
        isService ? ownUrl.service(base, id, version) : `${ownUrl.piece(base, pieceName.worker(id))}?v=${version}`,
    });
    this.#updates = new UpdateMaker({
      graph,
      sheets: this.sheets,
      pieces: this.pieces,
      unsent: this.#unsent,
      translations: () => loader.translations,
      isThere: (id) =>
        id.startsWith(ownIdPrefix) || files.kindOf(paths.fileOf(id)) === 'file' || pages.inlineText(id) !== undefined,
    });
    this.#used = new UsedFiles(read, options);
    this.#news = new News({
      read,
      updates: this.#updates,
      turns: this.#turns,
      trace: options.trace,
      revision: options.revision,
      onUpdate: (update) => this.emit('update', update),
      onProblems: (problems) => this.emit('problems', problems),
      onSolved: (since) => this.emit('solved', { since }),
    });
    this.#keeper = new StartKeeper({
      options,
      paths,
      graph,
      files,
      moduleFiles,
      typescript,
      compiler,
      onNote: (note) => this.emit('note', note),
    });
    this.#watch = new ProjectWatch({
      root,
      ignored: options.ignored,
      poll: options.poll,
      paths,
      packages: resolver.packages,
      modules: () => [...graph.ids(), ...builder.failed.keys()],
      inputs: () => builder.madeOf.files(),
      isUsed: (path) => this.#used.isUsed(path),
      others: () => this.#used.foldersOutside(),
      everything: () => this.#used.everything(),
      configurations: () => typescript.lookedAt,
      onNote: (note) => this.emit('note', note),
      isLacking: () => builder.failed.size > 0,
      onChanges: (changes) => this.#noted(changes),
      onSigns: (changed) => builder.prepare(changed.map((path) => paths.idOf(path))),
    });
    this.#changes = new ChangeReader({
      root,
      paths,
      graph,
      files,
      resolver,
      typescript,
      compiler,
      loader,
      targets,
      pages,
      madeOf: builder.madeOf,
      failed: builder.failed,
      moduleFiles,
      gate,
    });
    this.#taking = new TakeChanges({
      options,
      read,
      changes: this.#changes,
      watch: this.#watch,
      used: this.#used,
      sheets: this.sheets,
      unsent: this.#unsent,
      turns: this.#turns,
      news: this.#news,
      onSettings: (since) => this.emit('settings', { since }),
      onPages: (since) => this.emit('pages', { since }),
      onNoticed: (since, files) => this.emit('noticed', { since, files }),
      onNote: (note) => this.emit('note', note),
    });
  }

  /** Number of the last update. */
  get revision(): number {
    return this.#news.revision;
  }

  set revision(revision: number) {
    this.#news.revision = revision;
  }

  /** Pages had everything once, so that there is a good state to keep. */
  get hasBeenGood(): boolean {
    return this.#news.hasBeenGood;
  }

  /** Absolute paths of the files that the settings are made of, those among them that are wrong for now. */
  get settingsFiles(): Set<string> {
    return this.#used.settings;
  }

  /** Problems that keep some page from being up to date, the page's own first. */
  get problems(): Problem[] {
    return this.#read.problems;
  }

  /** The pages by id. */
  get pages(): ReadonlyMap<string, Page> {
    return this.#read.pages.byId;
  }

  /** Reads the pages, so that they can be asked for, and begins to read what they need; `opened` tells when that is there. */
  begin(): void {
    this.#began = Date.now();
    this.#read.readPages();
    this.isOpening = true;
    this.lastStart = this.#keeper.find();
    this.#opened = this.#turns.take(() => this.#readAll());
    this.#opened.catch(() => {}); // whoever waits for it is told
  }

  /** How many modules were read, how many are known to be needed, and one that is being read. */
  get progress(): { done: number; known: number; reading?: string } {
    const { loading } = this.#read.builder;
    const done = this.graph.size;
    const waiting = [...loading.keys()].filter((id) => !this.graph.has(id));
    const [reading] = waiting;
    return { done, known: done + waiting.length, ...(reading === undefined ? {} : { reading }) };
  }

  /** Settles when everything that pages statically need was read. */
  async opened(): Promise<void> {
    await this.#opened;
  }

  /** Reads all pages and what they statically need, and begins to watch. */
  async open(): Promise<void> {
    this.begin();
    await this.opened();
    await this.watch();
  }

  /** Begins to watch. What changed since the project was begun counts too. Settles when nothing is missed any more. */
  async watch(): Promise<void> {
    this.#changes.noteVersions();
    await this.#watch.begin(this.#began);
    // What is kept is kept with complete maps.
    this.#idle = (this.options.mode === 'production' ? Promise.resolve() : this.#maps.run()).then(() => this.#read.writeKept());
  }

  /** Settles when the work that a start leaves for later is done. */
  async idle(): Promise<void> {
    await this.#idle;
  }

  /** Writes what was translated and isn't kept yet. */
  async writeKept(): Promise<void> {
    await this.#read.writeKept();
  }

  /** Keeps what pages are answered for the next start, while nothing is wrong. */
  async keepStart(answers: StartAnswers): Promise<void> {
    if (!this.isOpening && this.problems.length === 0) await this.#keeper.keep(answers, this.#began);
  }

  /** Reading modules for the first time waits for an answer to a page, but not long for one that nobody takes. */
  waitFor(answer: Promise<void>): void {
    this.#loadingTurns.waitFor(answer);
  }

  /** Does something with the project as it's read, while nothing about it changes. What that reads late is no change. */
  async inTurn<T>(work: (read: ProjectGraph) => Promise<T>): Promise<T> {
    let result: T | undefined;
    await this.#turns.take(() =>
      this.#unsent.without(async () => {
        result = await work(this.#read);
      }),
    );
    return result!;
  }

  /** Lets pages reload. */
  async reloadPages(reason: string): Promise<void> {
    await this.#turns.take(async () => {
      for (const id of this.pages.keys()) this.#unsent.reload.set(id, reason);
      this.#news.send(performance.now());
    });
  }

  async #readAll(): Promise<void> {
    await this.lastStart;
    await this.#read.readModules();
    this.#news.begin();
    this.isOpening = false;
  }

  /** A browser got this file as it is: when it changes, pages must be told. `path` is the URL's path, decoded. */
  noteServed(file: string, path: string): void {
    this.#used.served.set(file, path);
  }

  async close(): Promise<void> {
    this.#maps.stop();
    await this.#watch.close();
    await this.#turns.ended();
    await this.#read.close();
  }

  /** See `PageModules.order`. */
  pageOrder(page: Page): readonly string[] {
    return this.#read.pageOrder(page);
  }

  /** See `PageModules.isComplete`. */
  isComplete(page: Page): boolean {
    return this.#read.isComplete(page);
  }

  /** Whether everything that modules statically need is there. */
  isWhole(ids: Iterable<string>): boolean {
    return this.#read.builder.isWhole(ids);
  }

  /** Settles when no change is being worked on: in between, modules may lack others that are just being made. */
  settled(): Promise<void> {
    return this.#turns.ended();
  }

  /**
   * Makes sure that a module behind a dynamic import is there, with all it needs. The id may come from anywhere: one that no
   * module asks for is none.
   */
  async ensure(id: string): Promise<boolean> {
    if (this.graph.importers(id).length === 0) return this.graph.isRoot(id) && this.graph.has(id);
    await this.#turns.take(async () => {
      await this.#unsent.without(async () => {
        await this.#read.builder.askFor(id);
        await this.#read.builder.settle();
      });
      this.#news.tellProblems();
    });
    return this.graph.has(id);
  }

  /**
   * The page of a backend that starts some modules, whose ids may come from anywhere; `undefined` where one of them may not be
   * started. See `ProjectGraph.mayStart`.
   */
  async embed(entries: readonly string[], isKnown: boolean): Promise<Page | undefined> {
    await this.opened();
    const known = this.pages.get(embeddedPageId(entries));
    if (known) return known;
    if (this.pages.size >= mostPages || !entries.every((id) => this.#read.mayStart(id, isKnown))) return undefined;
    await this.#turns.take(async () => {
      const page = this.#read.pages.embed(entries);
      await this.#unsent.without(() => this.#readPages([page]));
      this.#news.tellProblems();
    });
    return this.pages.get(embeddedPageId(entries));
  }

  /** Other pages are there from now on: those that went are told so, and new ones are read. */
  async changePages(ids: readonly string[], generated: Readonly<Record<string, string>>): Promise<void> {
    await this.#turns.take(async () => {
      const before = this.#read.generated;
      this.#read.generated = generated;
      for (const id of this.pages.keys()) {
        if (ids.includes(id) || entriesOf(id)) continue;
        this.#read.pages.byId.delete(id);
        this.#unsent.reload.set(id, `${id} is gone`);
      }
      const fresh = ids.filter((id) => !this.pages.has(id));
      const read = fresh.map((id) => this.#read.pages.read(id));
      for (const { notes } of read) for (const note of notes) this.emit('note', note);
      await this.#readPages(read);
      for (const id of ids) if (!fresh.includes(id) && before[id] !== generated[id]) await this.#taking.pageChanged(id);
      this.#news.send(performance.now());
    });
  }

  /** Reads what pages need that are new. */
  async #readPages(pages: readonly Page[]): Promise<void> {
    const { builder, pages: all } = this.#read;
    builder.drop(this.graph.setRoots(all.modules()));
    await Promise.all(all.modules(pages).map((module) => builder.visit(module)));
    await builder.settle();
  }

  /** Whether an id names a file that the user may want to edit: a page, a module, or what one was made of. */
  isOwnFile(id: string): boolean {
    return this.#used.isOwn(id);
  }

  #noted(changes: FileChanges): void {
    const work = this.#turns.takeChange(() => this.#taking.take(changes));
    work.catch((error: unknown) => this.emit('failure', error instanceof Error ? error : new Error(String(error))));
  }

  /** The problems that keep one page from being up to date: those of modules it uses, and those of the whole project. */
  problemsOf(page: string): Problem[] {
    return this.#read.problemsOf(page);
  }
}

/** So many pages there may be, those of backends among them. */
const mostPages = 2000;
