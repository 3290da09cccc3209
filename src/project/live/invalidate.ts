import { dirname } from 'node:path';
import { kindOfFile } from '../../core/file-kinds.js';
import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import { typedId, typedIds } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import type { DiskFiles } from '../files/disk-files.js';
import type { FileGate } from '../files/file-gate.js';
import type { ModuleFiles } from '../files/module-files.js';
import type { PageSet } from '../pages/page-set.js';
import type { MadeOf } from '../read/made-of.js';
import type { ModuleLoader } from '../read/module-loader.js';
import { emptyModule, type RequestTargets } from '../read/request-targets.js';
import type { TsSettings } from '../read/ts-settings.js';
import type { StyleCompiler } from '../styles/style-compiler.js';
import type { FileChanges } from './watcher.js';

/** What of a project tells whom a changed file concerns. */
export interface ChangeReaderOptions {
  root: string;
  paths: Paths;
  graph: ModuleGraph<ModuleContent>;
  files: DiskFiles;
  resolver: Resolver;
  typescript: TsSettings;
  compiler: StyleCompiler;
  loader: ModuleLoader;
  targets: RequestTargets;
  pages: PageSet;
  madeOf: MadeOf;
  /** Modules that could not be made. */
  failed: ReadonlyMap<string, unknown>;
  moduleFiles: ModuleFiles;
  gate: FileGate;
}

/** What file changes concern. */
export interface Concerned {
  /** Pages to read anew, before modules are. */
  pages: Set<string>;
  /** Modules to make anew. One that the graph doesn't hold may be among them. */
  modules: Set<string>;
  /** Why every page has to start over: instances of the old code would meet the new one. */
  reload?: string;
}

interface PackageVersion {
  name: string;
  version: string;
}

/** Finds the pages and modules that file changes concern, and makes everybody forget what is no longer true. */
export class ChangeReader {
  readonly #options: ChangeReaderOptions;
  /** The versions of the packages in use, as they were when their modules were read. */
  #versions = new Map<string, PackageVersion>();

  constructor(options: ChangeReaderOptions) {
    this.#options = options;
  }

  read({ written, appeared, disappeared, isInPackages, isRelinked }: FileChanges): Concerned {
    const { paths, pages, madeOf, failed, loader } = this.#options;
    const forgetsAll = isRelinked || [...written, ...disappeared].some((path) => this.#isConfiguration(path));
    if (isInPackages || forgetsAll) this.noteVersions();
    const concerned: Concerned = { pages: new Set(), modules: new Set(isInPackages ? this.#repackaged() : []) };
    const reload = isInPackages ? this.#versionChange() : undefined;
    if (reload !== undefined) concerned.reload = reload;
    const add = (ids: Iterable<string>) => {
      for (const id of ids) concerned.modules.add(id);
    };
    if (forgetsAll) add(this.#reconfigured());
    for (const path of appeared) add(this.#affectedByNew(path));
    for (const path of disappeared) add(this.#affectedByGone(path));
    for (const path of written) {
      const id = paths.idOf(path);
      if (pages.byId.has(id)) concerned.pages.add(id);
      // A file comes before its parts: it says which of them there still are.
      add([id, ...typedIds(id), ...loader.partsOf(id)].filter((variant) => this.#isNews(variant)));
      add(this.#namingOtherwise(id));
      loader.forgetLooking(path);
      add(madeOf.affectedBy(id, path));
    }
    if (appeared.size === 0 && disappeared.size === 0 && !isRelinked) return concerned;
    // What failed for want of something else may succeed now, and a page may have lost what it names.
    add(failed.keys());
    add(madeOf.withPatterns);
    const gone = new Set([...disappeared].map((path) => paths.idOf(path)));
    for (const page of pages.all()) {
      if (isRelinked || page.problems.length > 0 || pages.modules([page]).some((id) => gone.has(id)))
        concerned.pages.add(page.id);
    }
    return concerned;
  }

  /** Whether a file says how modules are made or found. */
  #isConfiguration(path: string): boolean {
    const { typescript, compiler } = this.#options;
    const isNamed = /(?:^|\/)(?:[tj]sconfig[\w.-]*\.json|package\.json|postcss\.config\.\w+|\.postcssrc(?:\.\w+)?)$/.test(path);
    return isNamed || typescript.isRead(path) || compiler.isConfiguration(path);
  }

  /** Forgets what configuration files said. Returns all modules of the application, which may come out differently now. */
  #reconfigured(): string[] {
    const { files, resolver, typescript, compiler, graph, failed, gate, loader } = this.#options;
    loader.forgetAdapted();
    for (const part of [resolver, typescript, compiler, gate]) part.forget();
    files.forgetAll();
    return [...graph.ids(), ...failed.keys()].filter((id) => !id.includes('node_modules/') && id !== emptyModule);
  }

  /** The modules that come out differently after an install: other files, or other answers to what is imported. */
  #repackaged(): string[] {
    const { files, resolver, loader, targets, failed, graph, gate } = this.#options;
    files.forgetAll();
    resolver.forget();
    gate.forget();
    if (loader.refreshChanged()) return this.#reconfigured();
    const affected = [...failed.keys()];
    for (const id of graph.ids()) {
      const isChanged = id.includes('node_modules/') && this.#isNews(id);
      if (isChanged || targets.areChanged(id, graph.edges(id))) affected.push(id);
    }
    return affected;
  }

  /**
   * Notes the versions of packages that came into use since it was called last. Whoever lets package.json files be read anew calls
   * it before: what an install then wrote would count as what the modules in use came from.
   */
  noteVersions(): void {
    for (const [folder, version] of this.#packageVersions()) if (!this.#versions.has(folder)) this.#versions.set(folder, version);
  }

  /** What an install changed of packages that were in use; `undefined` where all of them are the same. */
  #versionChange(): string | undefined {
    const before = this.#versions;
    this.#versions = this.#packageVersions();
    for (const [folder, { name, version }] of before) {
      const now = this.#versions.get(folder);
      if (now && now.version !== version)
        return `the package ${name} changed from ${version || 'one'} to ${now.version || 'another'}`;
    }
    return undefined;
  }

  /** The versions of the packages in use by the package.json files as they were read, by folder. */
  #packageVersions(): Map<string, PackageVersion> {
    const { graph, paths, resolver } = this.#options;
    const versions = new Map<string, PackageVersion>();
    for (const id of graph.ids()) {
      const name = /^.*node_modules\/((?:@[^/]+\/)?[^/]+)\//.exec(id);
      if (!name || versions.has(name[0])) continue;
      const { version } = (resolver.packages.at(paths.fileOf(name[0]).slice(0, -1)) ?? {}) as { version?: unknown };
      versions.set(name[0], { name: name[1]!, version: String(version ?? '') });
    }
    return versions;
  }

  /** Modules that name a script by its URL and got what it no longer is: a file, or a program of its own. */
  #namingOtherwise(id: string): string[] {
    const { graph, targets } = this.#options;
    if (kindOfFile(id) !== 'script') return [];
    return [id, typedId(id, 'url')].flatMap((variant) =>
      graph.importers(variant).filter((importer) => {
        const edge = graph
          .edges(importer)
          .find(({ kind, target }) => target === variant && (kind === 'url' || kind === 'worker'));
        return edge !== undefined && targets.isProgram(importer, id) !== (edge.kind === 'worker');
      }),
    );
  }

  /** Whether a module is ours and its file has another content than what was loaded. */
  #isNews(id: string): boolean {
    const { graph, failed, moduleFiles } = this.#options;
    return (graph.has(id) || failed.has(id)) && moduleFiles.hasNews(id);
  }

  /** Modules whose imports a new file may answer, or answer otherwise. */
  #affectedByNew(path: string): string[] {
    const { root, files, resolver, graph, paths } = this.#options;
    // Up to the project's folder, or to what that has in common with a package beside it.
    for (let at = path; ; at = dirname(at)) {
      files.forget(at);
      if (at === root || root.startsWith(`${at}/`) || at === dirname(at)) break;
    }
    const affected: string[] = [];
    for (const { folder, specifier } of resolver.appeared(path)) {
      for (const id of graph.ids()) {
        if (dirname(paths.fileOf(id)) !== folder) continue;
        const content = graph.content(id);
        if (content?.kind === 'style' || content?.linked.requests.some((request) => request.specifier === specifier))
          affected.push(id);
      }
    }
    return affected;
  }

  #affectedByGone(path: string): string[] {
    const { files, resolver, graph, paths } = this.#options;
    files.forget(path);
    resolver.disappeared(path);
    return graph.importers(paths.idOf(path));
  }
}
