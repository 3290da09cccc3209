import { dirname, resolve as resolvePath } from 'node:path';
import type { Adapter } from '../core/adapter.js';
import { type ImportCheck, missingExports } from '../core/graph/check-imports.js';
import { modulesRunEarly } from '../core/graph/cycles.js';
import { missingExportProblem } from '../core/graph/missing-export.js';
import { type Edge, isLazy, ModuleGraph } from '../core/graph/module-graph.js';
import { digestVersions, type SheetChange } from '../core/live/messages.js';
import { idToPath } from '../core/pieces/id-path.js';
import type { PieceModule } from '../core/pieces/piece.js';
import type { Problem } from '../core/problem.js';
import type { ProblemCode } from '../core/problem-codes.js';
import { installCommandFor } from '../core/resolve/explain-failure.js';
import { Resolver } from '../core/resolve/resolver.js';
import { contentHash } from './content-hash.js';
import { DiskFiles } from './disk-files.js';
import { resolveReference } from './load-style.js';
import type { ModuleContent, ScriptContent } from './module-content.js';
import { emptyModule, type Loaded, ModuleLoader } from './module-loader.js';
import { openPage, type Page } from './page.js';
import { Paths } from './paths.js';
import { StyleCompiler } from './style-compiler.js';
import { StyleSheets } from './style-sheets.js';
import { TsSettings } from './ts-settings.js';
import { TypedEvents } from './typed-events.js';
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
}

/** What a group of saved files came to. */
export interface ProjectUpdate {
  id: number;
  /** `Date.now()` of the first file change. */
  since: number;
  changed: string[];
  removed: string[];
  styles: SheetChange[];
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
  /** Something in the tool itself failed; the project goes on with the next change. */
  failure: Error;
}

/** A running project: pages and modules in memory, kept equal to the files, with an event for each change. */
export class Project extends TypedEvents<ProjectEvents> {
  readonly options: ProjectOptions;
  readonly paths: Paths;
  readonly graph = new ModuleGraph<ModuleContent>();
  readonly sheets: StyleSheets;
  readonly pages = new Map<string, Page>();
  /** Number of the last update. */
  build = 0;
  readonly #files = new DiskFiles();
  readonly #resolver: Resolver;
  readonly #typescript: TsSettings;
  readonly #compiler: StyleCompiler;
  readonly #installCommand: string;
  readonly #loader: ModuleLoader;
  readonly #loading = new Map<string, Promise<void>>();
  readonly #bytes = new Map<string, Buffer>();
  readonly #failed = new Map<string, Problem[]>();
  /** Imports of names that aren't exported, by importer. */
  readonly #unmatched = new Map<string, Problem[]>();
  /** Modules whose imports or exports changed and weren't checked yet. */
  /** Folders outside the project that are watched. */
  readonly #outside = new Set<string>();
  readonly #unchecked = new Set<string>();
  /** Style sheets that any file of some folder may change. */
  readonly #sheetsOverFolders = new Set<string>();
  /** File -> modules that it went into, beside its own. */
  readonly #dependents = new Map<string, Set<string>>();
  #hasNewImports = false;
  #watcher: Watcher | undefined;
  #queue: Promise<void> = Promise.resolve();
  /** What changed but wasn't sent yet, because of problems. */
  #unsent = {
    changed: new Set<string>(),
    removed: new Set<string>(),
    styles: new Set<string>(),
    reload: new Map<string, string>(),
  };

  constructor(options: ProjectOptions) {
    super();
    this.options = options;
    this.paths = new Paths(options.root);
    const { root, alias, roots, conditions, constants, adapters, base } = options;
    const mapped = (specifier: string, folder: string) => [
      ...this.#fromImportMaps(specifier),
      ...this.#typescript.candidates(specifier, folder),
    ];
    this.#resolver = new Resolver({ files: this.#files, root, alias, roots, conditions, mapped });
    this.#typescript = new TsSettings(root, this.#resolver.packages);
    this.#installCommand = installCommandFor(root, (path) => this.#files.kindOf(path) === 'file');
    this.sheets = new StyleSheets(this.graph, base, this.paths);
    this.#compiler = new StyleCompiler({
      root,
      mapped: (specifier, folder) => this.#resolver.mapped(specifier, folder),
      resolve: (specifier, file) => {
        const resolution = resolveReference({ kind: 'sheet', specifier }, file, this.#resolver);
        return 'found' in resolution ? resolution.found : undefined;
      },
    });
    const react = this.#resolver.resolve('react', this.paths.fileOf('page.html'), 'import');
    this.#loader = new ModuleLoader({
      paths: this.paths,
      resolver: this.#resolver,
      files: this.#files,
      installCommand: this.#installCommand,
      typescript: this.#typescript,
      compiler: this.#compiler,
      adapters,
      constants,
      refresh: 'found' in react,
      lazyPiece: (id) => `${base}~vine/piece/lazy/${idToPath(id)}.js`,
    });
  }

  /** Problems that keep some page from being up to date, the page's own first. */
  get problems(): Problem[] {
    const all = [
      ...this.#typescript.problems.values(),
      ...[...this.pages.values()].flatMap(({ problems }) => problems),
      ...[...this.#failed.values(), ...this.#unmatched.values()].flat(),
    ];
    return all.map((problem) => this.#withChain(problem)).sort(byUse);
  }

  get translations(): number {
    return this.#loader.translations;
  }

  /** Reads all pages and what they statically need, and begins to watch. */
  async open(): Promise<void> {
    for (const id of this.options.pages) this.#readPage(id);
    this.#setRoots();
    await Promise.all([...this.pages.values()].flatMap((page) => this.#pageModules(page)).map((id) => this.#visit(id)));
    await this.#settle();
    // Pages get all of this when they load; only what changes from now on has to be sent.
    this.#unsent.changed.clear();
    this.#watcher = new Watcher({
      root: this.options.root,
      ignored: this.options.ignored,
      poll: this.options.poll,
      onChanges: (changes) => this.#enqueue(() => this.#take(changes)),
    });
    for (const folder of this.#outside) this.#watcher.add(folder);
    await this.#watcher.ready();
  }

  async close(): Promise<void> {
    await this.#watcher?.close();
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
      if (this.#unmatched.has(id)) return false;
      for (const { kind, target } of this.graph.edges(id)) if (!isLazy(kind) && !this.graph.has(target)) return false;
    }
    return true;
  }

  /** Makes sure that a module behind a dynamic import is there, with all it needs. */
  async ensure(id: string): Promise<boolean> {
    await this.#exclusively(async () => {
      const { changed } = this.#unsent;
      const before = new Set(changed);
      await this.#visit(id);
      await this.#settle();
      // Whoever asked gets these in a piece; nobody else has them.
      for (const added of changed) if (!before.has(added)) changed.delete(added);
    });
    return this.graph.has(id);
  }

  /** A module as it goes into a piece; `undefined` for what the graph doesn't hold. */
  pieceModule(id: string): PieceModule | undefined {
    const content = this.graph.content(id);
    if (!content) return undefined;
    const { linked } = content;
    if (content.kind === 'script') {
      if (content.urls.length === 0) return { id, linked, edges: content.edges };
      const urls = content.urls.map(({ kind, specifier, target }) =>
        target === undefined ? specifier : kind === 'worker' ? this.#workerUrl(target) : this.sheets.urlOf(target),
      );
      return { id, linked, edges: { ...content.edges, urls, version: contentHash(content.edges.version, ...urls) } };
    }
    const url = this.sheets.urlOf(id);
    if (content.kind === 'style')
      return {
        id,
        linked,
        edges: {
          version: contentHash(linked.code),
          imports: this.graph
            .edges(id)
            .filter(({ kind }) => kind === 'import')
            .map(({ target }) => target),
          style: url,
        },
      };
    return { id, linked, edges: { version: content.hash, imports: [], url } };
  }

  /** The URL of a worker's script. It changes with everything that runs in the worker, so that a new one replaces it. */
  #workerUrl(id: string): string {
    const digest = this.digest(this.graph.reachable([id]));
    return `${this.options.base}~vine/worker/${idToPath(id)}.js?v=${digest.toString(16)}`;
  }

  /** The sum of the versions of modules, comparable with what a page computes of its own. */
  digest(ids: Iterable<string>): number {
    const versions: string[] = [];
    for (const id of ids) {
      const module = this.pieceModule(id);
      if (module) versions.push(module.edges.version);
    }
    return digestVersions(versions);
  }

  /** What the debugger needs of a script: its source and translator's map. */
  script(id: string): ScriptContent | undefined {
    const content = this.graph.content(id);
    return content?.kind === 'script' ? content : undefined;
  }

  /** Where the pages' import maps put a specifier, longest name first. */
  #fromImportMaps(specifier: string): string[] {
    const found: string[] = [];
    for (const { id, parts } of this.pages.values()) {
      const names = Object.keys(parts.importMap).filter(
        (name) => name === specifier || (name.endsWith('/') && specifier.startsWith(name)),
      );
      for (const name of names.sort((a, b) => b.length - a.length)) {
        const target = parts.importMap[name]! + specifier.slice(name.length);
        if (target.startsWith('/')) found.push(this.paths.fileOf(target.slice(1)));
        else if (target.startsWith('.')) found.push(resolvePath(dirname(this.paths.fileOf(id)), target));
      }
    }
    return found;
  }

  #pageModules(page: Page): string[] {
    return [...page.runs.map(({ entry }) => entry), ...page.styles.filter((id) => id !== undefined)];
  }

  #setRoots(): string[] {
    return this.graph.setRoots([...this.pages.values()].flatMap((page) => this.#pageModules(page)));
  }

  #readPage(id: string): void {
    const text = this.#files.readText(this.paths.fileOf(id)) ?? '';
    this.pages.set(
      id,
      openPage(id, text, {
        paths: this.paths,
        installCommand: this.#installCommand,
        resolver: this.#resolver,
        hasImports: (script) => this.#hasImports(script),
      }),
    );
  }

  #hasImports(id: string): boolean {
    const text = this.#files.readText(this.paths.fileOf(id)) ?? '';
    return /^\s*(?:import\s*["'{*\w]|export\s*[{*\w])/m.test(text);
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
    const isNew = !this.graph.has(id);
    const before = importsOf(this.graph.edges(id));
    const isSame = isSameContent(this.graph.content(id), loaded.content);
    const { missing, removed } = this.graph.set(id, loaded.content, loaded.edges);
    this.#unchecked.add(id);
    this.#noteDependencies(id);
    this.#watchOutside(id);
    if (importsOf(loaded.edges) !== before) this.#hasNewImports = true;
    this.#drop(removed);
    if (isNew) this.#unsent.removed.delete(id);
    if (!isSame) this.#unsent.changed.add(id);
    if (!isSame) this.#noteWorkers(id);
    await Promise.all(missing.map((target) => this.#visit(target)));
  }

  /** A linked package's own source lies elsewhere: its folder is watched too. */
  #watchOutside(id: string): void {
    if (!id.startsWith('../') || id.includes('node_modules/')) return;
    const folder = this.#resolver.packages.scopeOf(dirname(this.paths.fileOf(id)))?.folder;
    if (folder === undefined || this.#outside.has(folder) || this.options.root.startsWith(`${folder}/`)) return;
    this.#outside.add(folder);
    this.#watcher?.add(folder);
  }

  /** Remembers which other files went into a style sheet, so that a change of theirs makes it anew. */
  #noteDependencies(id: string): void {
    const content = this.graph.content(id);
    if (content?.kind === 'style' && content.folders.length > 0) this.#sheetsOverFolders.add(id);
    for (const dependency of content?.kind === 'asset' ? [] : (content?.dependencies ?? [])) {
      this.#dependents.set(dependency, (this.#dependents.get(dependency) ?? new Set()).add(id));
    }
  }

  /** What concerns several modules at once, after any of them was loaded: cycles, and imports that have no export. */
  async #settle(): Promise<void> {
    if (this.#hasNewImports) {
      this.#hasNewImports = false;
      const early = modulesRunEarly(this.graph, ({ linked }) => linked.isEarly && linked.hasBindings);
      const other = [...this.graph.ids()].filter((id) => {
        const script = this.script(id);
        return (
          script !== undefined && script.linked.format === 'module' && script.isChecked !== early.has(id) && this.#bytes.has(id)
        );
      });
      await Promise.all(other.map((id) => this.#relink(id, early.has(id))));
    }
    this.#checkImports();
  }

  async #relink(id: string, isChecked: boolean): Promise<void> {
    const content = this.script(id)!;
    if (!content.linked.hasBindings) return;
    const loaded = await this.#loader.script(id, content.source, isChecked);
    if ('problems' in loaded) return;
    this.graph.set(id, loaded.content, loaded.edges);
    this.#unsent.changed.add(id);
  }

  #checkImports(): void {
    const check: ImportCheck = {
      linked: (id) => this.graph.content(id)?.linked,
      target: (id, request) => this.#targetOf(id, request),
    };
    // Who imports a changed module may now lack something, and so may who gets its exports through `export *`.
    const changed = new Set(this.#unchecked);
    const affected = new Set(changed);
    this.#unchecked.clear();
    for (const id of affected) {
      const passesOn = (this.graph.content(id)?.linked.stars.length ?? 0) > 0;
      if (changed.has(id) || passesOn) for (const importer of this.graph.importers(id)) affected.add(importer);
    }
    for (const id of affected) {
      const problems = missingExports(id, check).flatMap(({ record, from, known }) => {
        if (record.isPassedOn && /\.[mc]?tsx?$/.test(id)) return [];
        return [
          missingExportProblem({
            file: id,
            text: this.script(id)!.source,
            record,
            specifier: this.graph.content(id)!.linked.requests[record.request]!.specifier,
            from,
            known,
          }),
        ];
      });
      if (problems.length > 0) this.#unmatched.set(id, problems);
      else this.#unmatched.delete(id);
    }
  }

  #targetOf(id: string, request: number): string | undefined {
    const wanted = this.graph.content(id)?.linked.requests[request];
    return this.graph.edges(id).find(({ kind, specifier }) => kind === wanted?.kind && specifier === wanted.specifier)?.target;
  }

  async #load(id: string): Promise<Loaded | undefined> {
    if (id === emptyModule) return this.#loader.empty();
    const isChecked = this.script(id)?.isChecked ?? false;
    for (const page of this.pages.values()) {
      const inline = page.inline.get(id);
      if (inline !== undefined) return this.#loader.script(id, inline, isChecked);
    }
    const bytes = readIfThere(this.paths.fileOf(id.replace(/\?.*$/, '')));
    if (!bytes) {
      return {
        problems: [
          {
            code: 'file-unreadable',
            severity: 'error',
            message: `${id} cannot be read.`,
            file: id,
            hint: 'Look at its permissions.',
          },
        ],
      };
    }
    this.#bytes.set(id, bytes);
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
      this.#bytes.delete(id);
      this.#failed.delete(id);
      this.#unmatched.delete(id);
      this.#unsent.changed.delete(id);
      this.#unsent.removed.add(id);
    }
  }

  #enqueue(work: () => Promise<void>): void {
    this.#exclusively(work).catch((error: unknown) =>
      this.emit('failure', error instanceof Error ? error : new Error(String(error))),
    );
  }

  /** One piece of work at a time, in order of arrival. */
  #exclusively(work: () => Promise<void>): Promise<void> {
    const run = this.#queue.then(work);
    this.#queue = run.catch(() => {});
    return run;
  }

  async #take(changes: FileChanges): Promise<void> {
    const before = this.#loader.translations;
    const hadProblems = this.problems.length > 0;
    const work = new Set<string>();
    if ([...changes.written, ...changes.disappeared].some((path) => this.#isConfiguration(path)))
      for (const id of this.#reconfigure()) work.add(id);
    for (const path of changes.appeared) for (const id of this.#appeared(path)) work.add(id);
    for (const path of changes.disappeared) for (const id of this.#disappeared(path)) work.add(id);
    for (const path of changes.written) {
      const id = this.paths.idOf(path);
      if (this.pages.has(id)) await this.#pageChanged(id);
      else {
        for (const variant of [id, ...typedIds.map((type) => `${id}?${type}`)])
          if (this.#isNews(variant, path)) work.add(variant);
        for (const sheet of this.#sheetsOverFolders) if (this.#looksInto(sheet, path)) work.add(sheet);
        for (const sheet of this.#dependents.get(id) ?? []) if (this.graph.has(sheet) || this.#failed.has(sheet)) work.add(sheet);
      }
    }
    // What failed for want of something else may succeed now.
    if (changes.appeared.size > 0 || changes.disappeared.size > 0) {
      for (const id of this.#failed.keys()) work.add(id);
      for (const page of this.pages.values()) if (page.problems.length > 0) await this.#pageChanged(page.id);
    }
    for (const id of work) if (this.graph.has(id) || this.#failed.has(id)) await this.#reload(id);
    await this.#settle();
    this.#forgetUnreachableFailures();
    if (hadProblems && this.#failed.size === 0) this.#drop(this.graph.dropUnreachable());
    for (const id of work) for (const sheet of this.sheets.changed(id)) this.#unsent.styles.add(sheet);
    this.#send(changes.since, this.#loader.translations - before, hadProblems);
  }

  #looksInto(sheet: string, path: string): boolean {
    const content = this.graph.content(sheet);
    return content?.kind === 'style' && content.folders.some((folder) => path.startsWith(`${folder}/`));
  }

  /** Whether a file says how modules are made or found. */
  #isConfiguration(path: string): boolean {
    const isNamed = /(?:^|\/)(?:[tj]sconfig[\w.-]*\.json|package\.json|postcss\.config\.\w+|\.postcssrc(?:\.\w+)?)$/.test(path);
    return isNamed || this.#typescript.files.has(path) || this.#compiler.configFile === path;
  }

  /** Forgets what configuration files said. Returns all modules of the application, which may come out differently now. */
  #reconfigure(): string[] {
    this.#files.forgetAll();
    this.#resolver.forget();
    this.#typescript.forget();
    this.#compiler.forget();
    return [...this.graph.ids(), ...this.#failed.keys()].filter((id) => !id.includes('node_modules/') && id !== emptyModule);
  }

  /** Whether a written file belongs to us and has another content than before. */
  #isNews(id: string, path: string): boolean {
    if (!this.graph.has(id) && !this.#failed.has(id)) return false;
    const bytes = readIfThere(path);
    return bytes !== undefined && !this.#bytes.get(id)?.equals(bytes);
  }

  #appeared(path: string): string[] {
    for (let at = path; at.startsWith(this.options.root); at = dirname(at)) this.#files.forget(at);
    const affected = this.#withPatterns();
    for (const { folder, specifier } of this.#resolver.appeared(path)) {
      for (const id of this.graph.ids()) {
        if (dirname(this.paths.fileOf(id)) !== folder) continue;
        const content = this.graph.content(id);
        if (content?.kind === 'style' || content?.linked.requests.some((request) => request.specifier === specifier))
          affected.push(id);
      }
    }
    return affected;
  }

  /** Modules with `import()` of patterns, which a new or vanished file may match. */
  #withPatterns(): string[] {
    return [...this.graph.ids()].filter((id) => this.graph.content(id)?.linked.requests.some(({ isPattern }) => isPattern));
  }

  #disappeared(path: string): string[] {
    this.#files.forget(path);
    this.#resolver.disappeared(path);
    const id = this.paths.idOf(path);
    return [...this.graph.importers(id), ...this.#withPatterns()];
  }

  async #pageChanged(id: string): Promise<void> {
    const old = this.pages.get(id)!;
    this.#readPage(id);
    const page = this.pages.get(id)!;
    if (page.version === old.version && page.problems.length === old.problems.length) return;
    for (const [entry, text] of page.inline)
      if (old.inline.get(entry) !== text && this.graph.has(entry)) await this.#reload(entry);
    this.#drop(this.#setRoots());
    await Promise.all(this.#pageModules(page).map((module) => this.#visit(module)));
    this.#unsent.reload.set(id, `${id} changed`);
  }

  /** A module that nothing imports any more can't be a problem. */
  #forgetUnreachableFailures(): void {
    for (const id of this.#failed.keys()) {
      if (!this.graph.has(id) && !this.graph.isRoot(id) && this.graph.importers(id).length === 0) this.#failed.delete(id);
    }
  }

  /** Sends what has changed, unless problems keep it back. */
  #send(since: number, translations: number, hadProblems: boolean): void {
    const { problems } = this;
    if (problems.length > 0) {
      this.emit('problems', problems);
      return;
    }
    const { changed, removed, styles, reload } = this.#unsent;
    this.#unsent = { changed: new Set(), removed: new Set(), styles: new Set(), reload: new Map() };
    const modules: PieceModule[] = [];
    for (const id of changed) {
      const module = this.pieceModule(id);
      if (module && this.#isForScripts(id)) modules.push(module);
    }
    if (modules.length > 0 || removed.size > 0 || styles.size > 0 || reload.size > 0) {
      this.build++;
      this.emit('update', {
        id: this.build,
        since,
        changed: modules.map(({ id }) => id).filter((id) => this.graph.content(id)?.kind !== 'style'),
        removed: [...removed],
        styles: [...styles].filter((id) => this.graph.has(id)).map((id) => ({ id, url: this.sheets.urlOf(id) })),
        modules,
        reload: [...reload].map(([page, reason]) => ({ page, reason })),
        translations,
      });
    }
    if (hadProblems) this.emit('solved', { since });
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

/** Codes of problems, those first whose solution may solve others. */
const mostUsefulFirst: ProblemCode[] = [
  'settings-unreadable',
  'syntax-error',
  'adapter-failed',
  'file-missing',
  'package-missing',
  'import-unresolved',
  'package-entry-missing',
  'builtin-in-browser',
];

function byUse(a: Problem, b: Problem): number {
  const rank = ({ code, file }: Problem) => {
    const place = mostUsefulFirst.indexOf(code);
    // What is wrong in a package is seldom the user's to solve.
    return (place === -1 ? mostUsefulFirst.length : place) + (file?.includes('node_modules/') ? 100 : 0);
  };
  return rank(a) - rank(b) || (a.file ?? '').localeCompare(b.file ?? '') || (a.position?.line ?? 0) - (b.position?.line ?? 0);
}

/** Endings of ids whose files are imported with a type attribute or by URL. */
const typedIds = ['text', 'bytes', 'json', 'css', 'url'];

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
