import { dirname, join, resolve } from 'node:path';
import type Picomatch from 'picomatch';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { lazily } from '../core/lazily.js';
import { fileOfId, typedIds } from '../core/module-id.js';
import type { Paths } from '../core/paths.js';
import type { Problem } from '../core/problem/problem.js';
import { lanes } from '../core/trace.js';
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
import { type ProjectUpdate, UpdateMaker } from './live/update-maker.js';
import type { FileChanges } from './live/watcher.js';
import type { ProjectOptions } from './options.js';
import type { Page } from './pages/page.js';
import { PieceModules } from './pages/piece-modules.js';
import { ProjectGraph } from './project-graph.js';
import { atMost, LoadingTurns } from './read/loading-turns.js';
import { StyleSheets, servedUrls } from './styles/style-sheets.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** A running project: pages and modules in memory, kept equal to the files, with an event for each change. */
export class Project extends TypedEvents<ProjectEvents> {
  readonly options: ProjectOptions;
  readonly paths: Paths;
  readonly graph: ModuleGraph<ModuleContent>;
  readonly sheets: StyleSheets;
  readonly pieces: PieceModules;
  /** Which files may leave this machine. */
  readonly gate: FileGate;
  /** Number of the last update. */
  revision: number;
  readonly #read: ProjectGraph;
  readonly #changes: ChangeReader;
  readonly #watch: ProjectWatch;
  readonly #unsent = new Unsent();
  readonly #updates: UpdateMaker;
  readonly #turns = new Turns();
  readonly #loadingTurns = new LoadingTurns(() => (this.#sending.size > 0 ? Promise.all(this.#sending) : undefined));
  readonly #maps: MapCompleter;
  /** Files that browsers got as they are, with the paths under which they did. */
  readonly #served = new Map<string, string>();
  /** Absolute paths of the files that the settings are made of, those among them that are wrong for now. */
  readonly settingsFiles: Set<string>;
  /** `performance.now()` of the oldest change that wasn't sent yet. */
  #unsentSince: number | undefined;
  #hasToldProblems = false;
  /** The problems that were told last, while they stand. */
  #toldProblems: string | undefined;
  /** Pages had everything once, so that there is a good state to keep. */
  hasBeenGood = false;
  #opened: Promise<void> | undefined;
  #idle: Promise<void> | undefined;
  /** `Date.now()` before the first file was read. */
  #began = 0;
  /** What the last start answered, where that still holds. Settles soon after `begin`, before modules are read. */
  lastStart: Promise<LastStart | undefined> = Promise.resolve(undefined);
  readonly #keeper: StartKeeper;
  /** Answers on their way for which reading modules waits. */
  readonly #sending = new Set<Promise<void>>();
  /** Some page can't be complete yet, since the project is read for the first time. */
  isOpening = false;

  constructor(options: ProjectOptions) {
    super();
    this.options = options;
    this.revision = options.revision;
    this.settingsFiles = new Set(options.settingsFiles);
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
      isUsed: (path) => this.#isUsed(path),
      others: () => this.#foldersOutside(),
      everything: () => this.#everything(),
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
    const sent = atMost(longestWaitMs, answer);
    this.#sending.add(sent);
    void sent.finally(() => this.#sending.delete(sent));
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
      this.#send(performance.now());
    });
  }

  async #readAll(): Promise<void> {
    await this.lastStart;
    await this.#read.readModules();
    // Pages get all of this when they load; only what changes from now on has to be sent.
    this.#updates.discard();
    const { problems } = this;
    this.#hasToldProblems = problems.length > 0;
    if (problems.length > 0) this.#toldProblems = JSON.stringify(problems);
    else this.hasBeenGood = true;
    this.isOpening = false;
  }

  /** A browser got this file as it is: when it changes, pages must be told. `path` is the URL's path, decoded. */
  noteServed(file: string, path: string): void {
    this.#served.set(file, path);
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
      this.#tellNews();
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
      this.#tellNews();
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
      for (const id of ids) if (!fresh.includes(id) && before[id] !== generated[id]) await this.#pageChanged(id);
      this.#send(performance.now());
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
    if (id.split('/').some((part) => part.startsWith('.') && part !== '..')) return false;
    const isKnown =
      this.pages.has(id) || this.graph.has(id) || this.#read.builder.failed.has(id) || this.#read.builder.madeOf.isUsed(id);
    return (
      (isKnown || this.problems.some(({ file }) => file === id)) && this.#read.files.kindOf(this.paths.fileOf(id)) === 'file'
    );
  }

  #isUsed(path: string): boolean {
    const id = this.paths.idOf(path);
    const isModule = [id, ...typedIds(id), ...this.#read.loader.partsOf(id)].some(
      (known) => this.graph.has(known) || this.#read.builder.failed.has(known),
    );
    return (
      isModule || this.pages.has(id) || this.#read.builder.madeOf.isUsed(id) || this.#served.has(path) || this.#isWanted(path)
    );
  }

  /** Whether some module asks for a file of that name in vain. */
  #isWanted(path: string): boolean {
    const name = path.slice(path.lastIndexOf('/') + 1);
    return this.problems.some(
      ({ code, frame }) => code === 'import-unresolved' && frame?.some(({ text }) => text.includes(name)),
    );
  }

  /** Folders of a backend's files that lie outside the project. */
  #foldersOutside(): string[] {
    const { root, noticed } = this.options;
    const folders = noticed.map((pattern) => {
      const { base } = picomatch().scan(pattern);
      return resolve(root, base === pattern ? dirname(pattern) : base);
    });
    return folders.filter((folder) => folder !== root && !folder.startsWith(`${root}/`) && !root.startsWith(`${folder}/`));
  }

  /** Absolute paths of all files that went into what is served. */
  *#everything(): Generator<string> {
    const { root } = this.options;
    for (const id of [...this.graph.ids(), ...this.#read.builder.failed.keys()])
      if (!id.startsWith(ownIdPrefix) && this.#read.pages.inlineText(id) === undefined) yield this.paths.fileOf(fileOfId(id));
    for (const id of this.pages.keys()) if (!entriesOf(id)) yield this.paths.fileOf(id);
    yield* [...this.#served.keys(), ...this.settingsFiles, join(root, 'package.json')];
  }

  #noted(changes: FileChanges): void {
    const work = this.#turns.takeChange(() => this.#take(changes));
    work.catch((error: unknown) => this.emit('failure', error instanceof Error ? error : new Error(String(error))));
  }

  async #take(changes: FileChanges): Promise<void> {
    const paths = [...changes.written, ...changes.disappeared];
    if (paths.some((path) => this.settingsFiles.has(path))) this.emit('settings', { since: changes.since });
    this.#tellOthers(changes);
    const hadProblems = this.problems.length > 0;
    const { trace } = this.options;
    trace.overlapping('update', 'waiting for more changes', changes.since, { files: paths.slice(0, 20) }, lanes.main);
    const fromReading = trace.now();
    const { pages, modules: work, reload } = this.#changes.read(changes);
    if (reload !== undefined) for (const id of this.pages.keys()) this.#unsent.reload.set(id, reload);
    trace.span('update', 'whom the changes concern', fromReading);
    for (const id of pages) await this.#pageChanged(id);
    const from = trace.now();
    await this.#read.builder.reloadAll([...work].filter((id) => this.graph.has(id) || this.#read.builder.failed.has(id)));
    trace.overlapping('update', 'modules', from, { modules: work.size }, lanes.main);
    await this.#read.builder.settle();
    this.#read.builder.forgetUnreachableFailures();
    if (hadProblems && this.#read.builder.failed.size === 0) this.#read.builder.drop(this.graph.dropUnreachable());
    // Sheets that went and came back among them, e.g. below a module that was broken for a while.
    for (const id of new Set([...work, ...this.#unsent.changed]))
      for (const sheet of this.sheets.changed(id)) this.#unsent.styles.add(sheet);
    for (const path of paths)
      if (this.#isUsed(path) || work.has(this.paths.idOf(path))) this.#unsent.saved.add(this.paths.idOf(path));
    this.#noteFiles(changes);
    if (changes.isInPackages) this.#watch.packagesChanged();
    // Half of what an editor saves at once looks broken until the other half is there.
    if (!hadProblems && this.problems.length > 0) await this.#turns.pauseUntil(changes.since + problemPatienceMs);
    this.#send(changes.since);
    if (!this.#turns.hasChanges) this.#read.loader.forgetPrepared();
  }

  /** Changes that concern no module: pages that came or went, and what a backend is made of. */
  #tellOthers({ since, written, appeared, disappeared }: FileChanges): void {
    const { pageFolder, noticed } = this.options;
    const isPage = (path: string) => path.endsWith('.html') && path.startsWith(`${pageFolder}/`);
    if (pageFolder !== undefined && [...appeared, ...disappeared].some(isPage)) this.emit('pages', { since });
    if (noticed.length === 0) return;
    const ids = [...written, ...disappeared].map((path) => this.paths.idOf(path));
    const isWanted = picomatch()([...noticed], { dot: true });
    const changed = ids.filter((id) => isWanted(id));
    if (changed.length > 0) this.emit('noticed', { since, files: changed });
  }

  /** Files that browsers got as they are and that changed. */
  #noteFiles({ written, disappeared }: FileChanges): void {
    for (const path of [...written, ...disappeared]) {
      const url = this.#served.get(path);
      if (url !== undefined) this.#unsent.files.set(url, path);
    }
    for (const page of this.#read.pages.all()) {
      const script = page.classic.find((id) => id !== undefined && written.has(this.paths.fileOf(id)));
      if (script) this.#unsent.reload.set(page.id, `${script} changed, which is no module`);
    }
  }

  async #pageChanged(id: string): Promise<void> {
    const old = this.pages.get(id)!;
    const page = this.#read.pages.read(id);
    if (page.version === old.version && page.problems.length === old.problems.length) return;
    for (const note of page.notes) if (!old.notes.includes(note)) this.emit('note', note);
    for (const [entry, text] of page.inline)
      if (old.inline.get(entry) !== text && this.graph.has(entry)) await this.#read.builder.reload(entry);
    this.#read.builder.drop(this.graph.setRoots(this.#read.pages.modules()));
    await Promise.all(this.#read.pages.modules([page]).map((module) => this.#read.builder.visit(module)));
    this.#unsent.reload.set(id, `${id} changed`);
  }

  /** Sends what has changed, unless problems keep it back from every page or more of it is on its way. */
  #send(changedSince: number): void {
    const since = Math.min(this.#unsentSince ?? changedSince, changedSince);
    this.#unsentSince = since;
    // Files that are saved all the time must not keep everything else waiting.
    if (this.#turns.hasChanges && performance.now() - since < longestHoldMs) return;
    const { problems } = this;
    const hadTold = this.#hasToldProblems;
    this.#hasToldProblems = false;
    if (problems.length > 0) this.#tellProblems();
    const isHeldBack = problems.length > 0 && [...this.pages.keys()].every((page) => this.problemsOf(page).length > 0);
    // How long a problem stood is no part of how long the save that solves it takes.
    this.#unsentSince = undefined;
    if (!isHeldBack) {
      this.#sendUpdate(since);
    }
    if (problems.length === 0) {
      this.#toldProblems = undefined;
      this.hasBeenGood = true;
    }
    if (problems.length === 0 && hadTold) this.emit('solved', { since: changedSince });
  }

  #sendUpdate(since: number): void {
    const { trace } = this.options;
    const from = trace.now();
    const update = this.#updates.take(this.revision + 1, since);
    if (!update) return;
    this.revision = update.id;
    trace.span('update', 'make the update', from, { update: update.id, modules: update.modules.length });
    const fromSending = trace.now();
    this.emit('update', update);
    trace.span('update', 'send the update', fromSending, { update: update.id });
  }

  /** Tells what is wrong, if anything is, after more was read. */
  #tellNews(): void {
    if (this.problems.length > 0) this.#tellProblems();
  }

  /** Tells what is wrong, where that is news: a save that has nothing to do with it doesn't tell it again. */
  #tellProblems(): void {
    this.#hasToldProblems = true;
    const { problems } = this;
    const told = JSON.stringify(problems);
    if (told === this.#toldProblems) return;
    this.#toldProblems = told;
    this.emit('problems', problems);
  }

  /** The problems that keep one page from being up to date: those of modules it uses, and those of the whole project. */
  problemsOf(page: string): Problem[] {
    return this.#read.problemsOf(page);
  }
}

/** So many pages there may be, those of backends among them. */
const mostPages = 2000;
/** Reading modules waits so long for an answer on its way. */
const longestWaitMs = 1000;
/** So long after a change problems are believed to stay. */
const problemPatienceMs = 40;
/** How long changes may wait for others that come in one after another. */
const longestHoldMs = 1000;

/** What a project tells. */
export interface ProjectEvents {
  update: ProjectUpdate;
  problems: Problem[];
  solved: { since: number };
  /** A file of the settings changed, appeared or went. */
  settings: { since: number };
  /** A page may have come or gone in the folder that holds them. */
  pages: { since: number };
  /** Files changed that are no modules but that the options name; their ids. */
  noticed: { since: number; files: string[] };
  /** Something in a module that need not be wrong. */
  warning: Problem;
  /** Something the user should know and need not act on. */
  note: string;
  /** Something in the tool itself failed; the project goes on with the next change. */
  failure: Error;
}
