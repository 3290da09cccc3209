import { dirname } from 'node:path';
import { kindOfFile } from '../core/file-kinds.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import { ModuleGraph } from '../core/graph/module-graph.js';
import { shownIds } from '../core/module-id.js';
import { Paths } from '../core/paths.js';
import { byUse } from '../core/problem/order.js';
import type { Problem } from '../core/problem/problem.js';
import {
  archivesHint,
  explainFailure,
  installAll,
  installCommandFor,
  withInstallCommand,
} from '../core/resolve/explain-failure.js';
import { listsPackage } from '../core/resolve/package-json.js';
import { Resolver } from '../core/resolve/resolver.js';
import { lanes } from '../core/trace.js';
import { ownUrl, pieceName } from '../core/urls.js';
import { frameworkAdapters, frameworkConditions, frameworkConstants } from '../frameworks/adapters.js';
import { DiskFiles } from './files/disk-files.js';
import { FileGate } from './files/file-gate.js';
import { ModuleFiles } from './files/module-files.js';
import { runModule } from './files/run-module.js';
import { DiskCache } from './kept/disk-cache.js';
import { ownFingerprint } from './kept/fingerprint.js';
import type { ProjectOptions } from './options.js';
import type { Page } from './pages/page.js';
import { PageModules } from './pages/page-modules.js';
import { fromImportMaps, isMappedElsewhere, PageSet } from './pages/page-set.js';
import { type Changes, GraphBuilder } from './read/graph-builder.js';
import { ModuleLoader } from './read/module-loader.js';
import { RequestTargets } from './read/request-targets.js';
import type { KeptTexts } from './read/script-compiler.js';
import { TsSettings } from './read/ts-settings.js';
import { resolveReference } from './styles/load-style.js';
import { StyleCompiler } from './styles/style-compiler.js';

/** Problems that every file of a kind has: they are told once. */
const aboutAll = new Set<Problem['code']>(['compiler-missing']);

/** Who is told while a project is read. */
export interface ReadingListener {
  /** Modules came or went. */
  changes: Changes;
  /** A module was put in the graph. */
  onRead(id: string): void;
  /** Something in a module need not be wrong. */
  onWarning(warning: Problem): void;
  /** Something the user should know and need not act on. */
  onNote(note: string): void;
  /** Settles when a module may be loaded; `undefined` for at once. */
  turn(): Promise<void> | undefined;
}

/**
 * A project read into a graph: pages, modules, styles, what is wrong. It knows nothing of watching and of browsers: the dev server
 * keeps one alive, a build reads one once.
 */
export class ProjectGraph {
  readonly options: ProjectOptions;
  readonly paths: Paths;
  readonly modules = new ModuleGraph<ModuleContent>();
  readonly files = new DiskFiles();
  readonly moduleFiles: ModuleFiles;
  /** Which files may leave this machine. */
  readonly gate: FileGate;
  readonly resolver: Resolver;
  readonly typescript: TsSettings;
  readonly compiler: StyleCompiler;
  readonly targets: RequestTargets;
  readonly loader: ModuleLoader;
  readonly pages: PageSet;
  readonly builder: GraphBuilder;
  /** The HTML of pages that have no file, by id. */
  generated: Readonly<Record<string, string>>;
  readonly #pageModules: PageModules;
  readonly #listener: ReadingListener;
  readonly #warned = new Set<string>();
  #cache: DiskCache | undefined;

  constructor(options: ProjectOptions, listener: ReadingListener) {
    // What frameworks read is known wherever constants are: in the dev server's modules and in those of a build.
    this.options = { ...options, constants: { ...frameworkConstants(options.mode), ...options.constants } };
    this.generated = options.generated;
    this.#listener = listener;
    const { root, mode, alias, roots, conditions, constants, base, trace, targets } = this.options;
    const adapters = [...options.adapters, ...frameworkAdapters(root, runModule)];
    const paths = new Paths(options.root);
    this.paths = paths;
    const mapped = (specifier: string, folder: string) => [
      ...fromImportMaps(specifier, this.pages.all(), paths),
      ...this.typescript.candidates(specifier, folder),
    ];
    const refusal = (path: string, real: string) => this.gate.refusal(path, real);
    const resolver: Resolver = new Resolver({
      files: this.files,
      root,
      mode,
      alias,
      roots,
      conditions,
      frameworkConditions: () => frameworkConditions(resolver.packages.at(root)),
      mapped,
      refusal,
    });
    const gate = new FileGate({ root, packages: resolver.packages });
    this.resolver = resolver;
    this.gate = gate;
    this.typescript = new TsSettings(
      resolver.packages,
      (path) => gate.mayRead(path),
      (path) => paths.idOf(path),
    );
    const settings = options.settingsFiles
      .map((file) => paths.idOf(file))
      .find((id) => this.files.kindOf(paths.fileOf(id)) === 'file');
    const generated = () => this.generated;
    const { insert } = options;
    this.pages = new PageSet({ paths, files: this.files, gate, resolver, generated, insert, settings });
    this.compiler = new StyleCompiler({
      root,
      mode,
      mapped: (specifier, folder) => resolver.mapped(specifier, folder),
      resolve: (specifier, file) => {
        const resolution = resolveReference({ kind: 'sheet', specifier }, file, resolver);
        if ('found' in resolution) return resolution;
        const failure = 'failure' in resolution ? resolution.failure : ({ reason: 'file-missing', tried: specifier } as const);
        return { problem: explainFailure(failure, specifier, root) };
      },
      gate,
      idOf: (file) => paths.idOf(file),
    });
    this.targets = new RequestTargets({ paths, resolver, files: this.files, gate, adapters });
    this.loader = new ModuleLoader({
      paths,
      resolver,
      mode,
      targets: this.targets,
      typescript: this.typescript,
      compiler: this.compiler,
      adapters,
      constants,
      buildTargets: targets,
      trace,
      cache: () => this.#cache,
      fingerprint: ownFingerprint(),
      onWarning: (id, warning) => this.#warn(id, warning),
      readText: (path) => (gate.mayRead(path) ? this.files.readText(path) : undefined),
      lazyPiece: (id) => ownUrl.piece(base, pieceName.lazy(id)),
    });
    this.moduleFiles = new ModuleFiles(paths, gate);
    this.builder = new GraphBuilder({
      graph: this.modules,
      loader: this.loader,
      files: this.moduleFiles,
      pages: this.pages,
      changes: listener.changes,
      trace,
      onRead: (id) => listener.onRead(id),
      turn: () => listener.turn(),
    });
    this.#pageModules = new PageModules(this.modules, this.builder);
  }

  /** Texts of earlier runs; `undefined` where nothing is kept. */
  get kept(): KeptTexts | undefined {
    return this.#cache;
  }

  /** Changes with whatever may make something else of the same. */
  get fingerprint(): string {
    return ownFingerprint();
  }

  /**
   * Whether a page of a backend may start a module: one that the settings name, or any of the project's own scripts and sheets,
   * where whoever asks is `isKnown`. The id may come from anywhere.
   */
  mayStart(id: string, isKnown: boolean): boolean {
    const { embedded, adapters, settingsFiles } = this.options;
    if (embedded.includes(id)) return true;
    const isOwn = isKnown && id.split('/').every((part) => part !== '' && !part.startsWith('.') && part !== 'node_modules');
    const file = this.paths.fileOf(id);
    if (!isOwn || settingsFiles.includes(file) || this.files.kindOf(file) !== 'file' || !this.gate.mayRead(file)) return false;
    const kind = kindOfFile(id);
    return kind === 'script' || kind === 'style' || adapters.some(({ files }) => files.test(id));
  }

  /** Reads the pages, so that it's known which modules they need. */
  readPages(): void {
    for (const id of this.options.pages) this.pages.read(id);
    // The dev server makes those when a page asks; nobody can ask a build.
    if (this.options.mode === 'production')
      for (const id of this.options.embedded) if (kindOfFile(id) !== 'asset') this.pages.embed([id]);
    this.modules.setRoots(this.pages.modules());
  }

  /** Reads everything that the pages statically need. What is wrong is in `problems` then. */
  async readModules(): Promise<void> {
    const { cacheFolder, trace } = this.options;
    const from = trace.now();
    const opening = cacheFolder === undefined ? undefined : DiskCache.open(cacheFolder, (note) => this.#listener.onNote(note));
    await this.typescript.load();
    this.#cache = await opening;
    trace.overlapping('start', 'packages and cache', from, {}, lanes.main);
    const fromModules = trace.now();
    await Promise.all(this.pages.modules().map((id) => this.builder.visit(id)));
    trace.overlapping('start', 'modules', fromModules, { modules: this.modules.size }, lanes.main);
    await this.builder.settle();
    this.#cache?.settle();
  }

  /** Reads what stands behind every `import()` and in every worker: a build can't wait until somebody asks. */
  async readLate(): Promise<void> {
    const asked = new Set<string>();
    for (;;) {
      const targets = [...this.modules.ids()].flatMap((id) =>
        this.modules.edges(id).flatMap(({ kind, target }) => (kind === 'dynamic' || kind === 'worker' ? [target] : [])),
      );
      const fresh = targets.filter((id) => !asked.has(id));
      if (fresh.length === 0) return;
      for (const id of fresh) asked.add(id);
      await Promise.all(fresh.map((id) => this.builder.askFor(id)));
      await this.builder.settle();
    }
  }

  /** Writes what was translated and isn't kept yet. */
  async writeKept(): Promise<void> {
    await this.#cache?.writeAll();
  }

  /** Writes the same, and keeps nothing more. */
  async close(): Promise<void> {
    await this.#cache?.close();
  }

  /** What the project's package manager is called with, by the lock files of now. */
  get installCommand(): string {
    return installCommandFor(this.paths.root, (path) => this.files.kindOf(path) === 'file');
  }

  /** What is wrong, in pages, settings and modules, the pages' own first. */
  get problems(): Problem[] {
    const all = [
      ...this.typescript.problems.values(),
      ...this.pages.all().flatMap(({ problems }) => problems),
      ...this.builder.problems,
    ];
    // One mistake in a partial is one, however many sheets use it.
    const once = new Map(
      all.map((problem) => {
        const place = aboutAll.has(problem.code) ? '' : `${problem.file} ${JSON.stringify(problem.position)}`;
        return [`${problem.code} ${place} ${problem.message}`, problem];
      }),
    );
    return [...once.values()].map((problem) => this.#completed(problem)).sort(byUse);
  }

  /** The problems of one page: those of modules it uses, and those of the whole project. */
  problemsOf(page: string): Problem[] {
    const modules = new Set(this.pages.modules([this.pages.byId.get(page)].filter((known) => known !== undefined)));
    return this.problems.filter(({ file }) => {
      if (file === undefined || file === page) return true;
      if (this.pages.byId.has(file)) return false;
      const users = this.modules.rootsAbove(file);
      return users.length === 0 || users.some((id) => modules.has(id));
    });
  }

  /** See `PageModules.order`. */
  pageOrder(page: Page): readonly string[] {
    return this.#pageModules.order(page);
  }

  /** See `PageModules.isComplete`. */
  isComplete(page: Page): boolean {
    return this.#pageModules.isComplete(page);
  }

  /** Tells of something in a module that need not be wrong: once for each file, or each package and what it asks for. */
  #warn(id: string, warning: Problem): void {
    const owner = /^.*node_modules\/(?:@[^/]+\/)?[^/]+/.exec(id)?.[0] ?? id;
    const key = `${owner} ${warning.message}`;
    if (this.#warned.has(key)) return;
    this.#warned.add(key);
    // The way from the page to it is known when the graph stands.
    setImmediate(() => this.#listener.onWarning(this.#completed({ ...warning, severity: 'warning' })));
  }

  /** What to do where a package is missing, if it isn't to be added: that would change what package.json lists, or not be what is meant. */
  #missingHint({ message, file }: Problem): string | undefined {
    const [, name = ''] = /^The package '([^']+)'/.exec(message) ?? [];
    if (isMappedElsewhere(name, this.pages.all()))
      return `The page's import map leads it to a URL, which can only be imported with import(): load it so, or install the package.`;
    const { packages } = this.resolver;
    const scopes = [
      packages.at(this.paths.root),
      file && !file.includes('node_modules/') ? packages.scopeOf(dirname(this.paths.fileOf(file))) : undefined,
    ];
    return scopes.some((scope) => scope && listsPackage(scope, name))
      ? `It stands in package.json: run ${installAll(this.installCommand)}.`
      : undefined;
  }

  /** A problem with the way to it, and with the command of the project's package manager. */
  #completed(problem: Problem): Problem {
    const { file, code } = problem;
    const isFile = (path: string) => this.files.kindOf(path) === 'file';
    const hint =
      (code === 'package-missing' && (archivesHint(this.paths.root, isFile) ?? this.#missingHint(problem))) || problem.hint;
    const told = hint === undefined ? problem : { ...problem, hint: withInstallCommand(hint, () => this.installCommand) };
    if (!file || this.pages.byId.has(file)) return told;
    const chain = shownIds(this.modules.chainTo(file));
    return chain.length > 1 ? { ...told, chain } : told;
  }
}
