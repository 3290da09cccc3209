import { kindOfFile } from '../core/file-kinds.js';
import type { ModuleContent, StyleContent } from '../core/graph/module-content.js';
import type { EdgeKind } from '../core/graph/module-graph.js';
import { named } from '../core/graph/named.js';
import type { PieceModule } from '../core/pieces/piece.js';
import { entriesOf } from '../core/urls.js';
import { manifestName } from '../project/files/built-folder.js';
import { ShippedMaps } from '../project/files/shipped-maps.js';
import { documentSheets, type Page } from '../project/pages/page.js';
import { PieceModules } from '../project/pages/piece-modules.js';
import type { ProjectGraph } from '../project/project-graph.js';
import { Assets } from './assets.js';
import { BuiltFiles, isMeasured, movedDown } from './built-files.js';
import { type ChunkRoot, planChunks, usedBelow } from './chunks.js';
import type { CompressedSizes } from './compressed-sizes.js';
import { licencesOf } from './licences.js';
import type { Manifest, ManifestFile, ManifestPage } from './manifest.js';
import type { Mapped } from './mapped.js';
import type { BuildMemory } from './memory.js';
import { smallerOldScript } from './minify.js';
import type { BuildOptions } from './options.js';
import { OtherFiles } from './other-files.js';
import type { OutputFiles } from './output-folder.js';
import { PageWriter } from './page-writer.js';
import { type Program, shakeProject } from './program.js';
import { runtimeFor } from './runtime.js';
import { idsFor, Scripts } from './scripts.js';
import { BuiltSheets } from './sheets.js';
import { oldTranslator } from './targets.js';
import { addVerbatim } from './verbatim.js';
import { warningsOf } from './warnings.js';
import { type WorkersInput, workerScripts } from './workers.js';

/** What the runtime looks a worker's URL up by, see `browser/built.ts`. */
const workerMark = 'worker:';

/** What a build comes to before it's put in place. */
export interface Written {
  files: OutputFiles;
  manifest: Manifest;
  /** Paths of sheets that only some pages will ever ask for. */
  fallbacks: ReadonlySet<string>;
  compressed: CompressedSizes;
  program: Program;
  /** Texts of modules by the file that they are in. */
  modules: ReadonlyMap<string, ReadonlyMap<string, string>>;
  /** What was looked at beside the project's modules. */
  others: OtherFiles;
}

/** Makes the files of a build. */
export class Writer {
  readonly #project: ProjectGraph;
  readonly #options: BuildOptions;
  readonly #program: Program;
  readonly #files: BuiltFiles;
  readonly #assets: Assets;
  readonly #sheets: BuiltSheets;
  readonly #pieces: PieceModules;
  readonly #scripts: Scripts;
  /** Texts of modules by file. */
  readonly #texts = new Map<string, ReadonlyMap<string, string>>();
  readonly #others = new OtherFiles();
  #madeRuntime: string | undefined;

  constructor(project: ProjectGraph, options: BuildOptions, memory: BuildMemory) {
    this.#project = project;
    this.#options = options;
    const { base, minify, sourceMaps, inlineBytes } = options;
    const hasMaps = sourceMaps !== 'off';
    this.#files = new BuiltFiles({ namesMaps: sourceMaps === 'on' });
    this.#assets = new Assets(project, this.#files, { base, inlineBytes, others: this.#others });
    const { browsers } = options;
    this.#program = shakeProject({
      project,
      memory,
      inSteps: browsers.edition < 2018,
      isOld: browsers.edition === 5,
      assetUrl: (id, hash) => this.#assets.url(id, hash),
    });
    const { graph, bundle } = this.#program;
    this.#sheets = new BuiltSheets({
      graph,
      paths: project.paths,
      files: this.#files,
      minify,
      hasMaps,
      // What knows them is loaded with the first sheet.
      get targets() {
        return browsers.sheets;
      },
      assetUrl: (id, version) => this.#assets.write(id, version),
      urlOf: (path) => `${options.base}${path}`,
      sourceUrl,
      memory,
      onWarning: options.onWarning,
    });
    this.#pieces = new PieceModules(graph, this.#sheets.served, { source: sourceUrl, worker: (id) => `${workerMark}${id}` });
    this.#scripts = new Scripts({
      bundle,
      graph,
      minify,
      inSteps: browsers.edition < 2018,
      toEs5: browsers.edition === 5 ? (mapped) => this.#toEs5(mapped) : undefined,
      hasMaps,
      sourceUrl,
      shipped: new ShippedMaps({
        paths: project.paths,
        gate: project.gate,
        base: sourceUrl(''),
        onLook: (path) => this.#others.noteRead(path),
        onNote: options.onNote,
      }),
      whole: (id, hasSheets) => this.#whole(id, hasSheets),
      urlOf: (id, kind, specifier) => this.#urlOf(id, kind, specifier),
      edition: browsers.edition,
      keepsNames: this.#keepsNames,
      kept: project.kept ?? memory,
      memory,
      fingerprint: project.fingerprint,
    });
  }

  get #keepsNames(): boolean {
    return !this.#options.minify || this.#options.functionNames === 'kept';
  }

  async write(): Promise<Written> {
    const { pages } = this.#project;
    const { graph, bundle } = this.#program;
    const late = this.#targets('dynamic');
    const workerIds = this.#targets('worker');
    const plan = planChunks(graph, [
      ...pages.all().map((page): ChunkRoot => ({ id: page.id, kind: 'page', modules: this.#orderOf(page) })),
      ...late.map((id): ChunkRoot => ({ id, kind: 'late', modules: graph.reachable([id]) })),
      ...workerIds.map((id): ChunkRoot => ({ id, kind: 'worker', modules: graph.reachable([id]) })),
    ]);
    const chunkOf = new Map(plan.chunks.flatMap(({ key, modules }) => modules.map((id) => [id, key] as const)));
    bundle.group({
      chunkOf: (id) => chunkOf.get(id),
      convention: (id) => this.#convention(id),
      keepsNames: this.#keepsNames,
      isPlain: !this.#options.minify || this.#options.browsers.edition === 5,
    });
    for (const id of graph.ids()) {
      const content = graph.content(id);
      if (content?.kind === 'asset') this.#assets.write(id, content.hash);
    }
    // What a backend's templates name has its place in the list.
    for (const id of this.#options.embedded) if (kindOfFile(id) === 'asset') this.#assets.ofPage(id);
    const fileOf = new Map<string, string>();
    this.#options.onStage(this.#options.minify ? `making ${graph.size} modules smaller` : `writing ${graph.size} modules`);
    // Together, so that all threads have something to do; put in place one after another.
    const scripts = plan.chunks.map(({ name, modules, isLate }) => {
      const ids = idsFor(bundle, modules);
      return { ids, made: ids.length === 0 ? undefined : this.#scripts.script(name, ids, { hasSheets: isLate }) };
    });
    await Promise.all(scripts.map(({ made }) => made));
    for (const [index, { ids, made }] of scripts.entries()) {
      if (!made) continue;
      const { key, name } = plan.chunks[index]!;
      const path = this.#files.put(name, '.js', await made);
      fileOf.set(key, path);
      this.#texts.set(path, this.#scripts.textsOf(ids));
    }
    const filesOf = (id: string) => plan.needs.get(id)!.flatMap((key) => fileOf.get(key) ?? []);
    const lateFiles = Object.fromEntries(late.map((id) => [bundle.idOf(id), filesOf(id)]));
    const modulesIn = new Map(plan.chunks.map(({ key, modules }) => [fileOf.get(key) ?? '', modules]));
    const workers = await this.#writeWorkers({ ids: workerIds, late: lateFiles, modulesIn });
    const made = await this.#writePages(filesOf, lateFiles, workers);
    const licences = licencesOf(this.#project, this.#program);
    if (licences !== '') this.#files.put('licences', '.txt', { text: licences });
    for (const warning of warningsOf(this.#project, this.#program, this.#files)) this.#options.onWarning(warning);
    addVerbatim(this.#project, this.#files, this.#others, this.#options);
    const manifest = await this.#manifest(made);
    if (this.#options.manifest) this.#files.all.set(manifestName, `${JSON.stringify(manifest, null, 2)}\n`);
    return {
      files: this.#files.all,
      manifest,
      fallbacks: this.#sheets.fallbacks,
      compressed: this.#files.compressed,
      program: this.#program,
      modules: this.#texts,
      others: this.#others,
    };
  }

  async #writePages(
    filesOf: (id: string) => string[],
    late: Record<string, string[]>,
    workers: Record<string, string>,
  ): Promise<Record<string, ManifestPage>> {
    const { graph, bundle } = this.#program;
    const { integrity, isElsewhere, onWarning } = this.#options;
    const common = {
      project: this.#project,
      files: this.#files,
      sheets: this.#sheets,
      assets: this.#assets,
      others: this.#others,
    };
    const writer = new PageWriter({ ...common, integrity, isElsewhere, onWarning });
    const made: Record<string, ManifestPage> = {};
    for (const page of this.#project.pages.all()) {
      const order = this.#orderOf(page);
      const reached = usedBelow(graph, order);
      const only = <T>(all: Record<string, T>) =>
        Object.fromEntries(Object.entries(all).filter(([id]) => reached.has(id) || reached.has(id.replace(/\?names$/, ''))));
      const first = filesOf(page.id);
      const missing = Object.entries(only(late)).map(([id, paths]) => [id, paths.filter((path) => !first.includes(path))]);
      // What pages of a backend start stands by its own name.
      made[entriesOf(page.id)?.join() ?? page.id] = await writer.write(page, {
        scripts: page.runs.length === 0 ? [] : [this.#files.put('runtime', '.js', { text: this.#runtime() }), ...first],
        entries: page.runs.map(({ entry }) => bundle.idOf(entry)),
        late: Object.fromEntries(missing),
        workers: only(workers),
        imported: order.filter((id) => graph.content(id)?.kind === 'style' && !documentSheets(page).includes(id)),
        isLeft: (id) => graph.has(id),
      });
    }
    return made;
  }

  async #manifest(pages: Record<string, ManifestPage>): Promise<Manifest> {
    const { integrity, base } = this.#options;
    const files: Record<string, ManifestFile> = {};
    for (const [path, content] of byName(this.#files.all)) {
      const isText = isMeasured(path);
      files[path] = {
        bytes: Buffer.byteLength(content),
        ...(isText ? { gzip: await this.#files.compressed.gzip(path) } : {}),
        ...(isText && integrity ? { integrity: this.#files.integrityOf(path) } : {}),
      };
    }
    const assets = Object.fromEntries(byName(Object.entries(this.#assets.paths)));
    const isPage = (name: string) => this.#project.pages.byId.has(name);
    const own = Object.entries(pages).filter(([name]) => isPage(name));
    const entries = Object.fromEntries(byName(Object.entries(pages).filter(([name]) => !isPage(name))));
    return { builtBy: 'Vine Spark', version: 1, base, pages: Object.fromEntries(own), entries, assets, files };
  }

  /** Modules that some edge of a kind leads to. */
  #targets(wanted: EdgeKind): string[] {
    const { graph } = this.#program;
    const edges = [...graph.ids()].flatMap((id) => graph.edges(id));
    return [...new Set(edges.flatMap(({ kind, target }) => (kind === wanted && graph.has(target) ? [target] : [])))].sort();
  }

  /** What is left of a page's modules, in the order in which they run. */
  #orderOf(page: Page): string[] {
    const { graph } = this.#program;
    const left = new Set(graph.reachable(this.#project.pages.modules([page])));
    return this.#project.pageOrder(page).filter((id) => left.has(id));
  }

  /** Which convention a module follows for CommonJS modules that it imports as a whole; names of theirs say it themselves. */
  #convention(id: string): boolean | undefined {
    const { graph, members } = this.#program;
    const content = graph.content(id);
    const member = members.get(id);
    const isWhole = member && [...member.imported.values(), ...member.passedOn.values()].some(({ name }) => name === null);
    const asksCommonJs = graph.edges(id).some(({ kind, target }) => kind !== 'style' && isCommonJs(graph.content(target)));
    return content?.kind === 'script' && isWhole && asksCommonJs ? content.edges.nodeDefault === true : undefined;
  }

  /** A module that has its scope for itself. Nothing in it depends on when and where it was made. */
  async #whole(id: string, hasSheets: boolean): Promise<PieceModule | undefined> {
    const content = this.#program.graph.content(id);
    if (content?.kind === 'style') return this.#styleModule(id, content, hasSheets);
    const module = this.#pieces.get(id);
    if (!module) return undefined;
    const { specifiers: _, anonymousComponent: __, dynamic, ...edges } = module.edges;
    const late =
      dynamic && Object.fromEntries(Object.entries(dynamic).map(([name, target]) => [name, { ...target, piece: target.id }]));
    const map = module.map ? { map: module.map } : {};
    const isAsync = module.linked.code.startsWith('async ');
    const more = { ...(late ? { dynamic: late } : {}), ...(isAsync ? { async: true as const } : {}) };
    return { id, linked: module.linked, edges: { ...edges, version: '', ...more }, ...map };
  }

  #urlOf(id: string, kind: 'url' | 'worker', specifier: string): string {
    const content = this.#program.graph.content(id);
    const urls = content?.kind === 'script' ? content.urls : [];
    const ofName = named(urls, specifier);
    const known = ofName.find((url) => url.kind === kind) ?? ofName[0];
    if (known?.target === undefined) return specifier;
    return known.kind === 'worker' ? `${workerMark}${known.target}` : this.#sheets.served.urlOf(known.target);
  }

  /** A sheet that scripts import. Those of a page come in a file of their own, before anything runs. */
  async #styleModule(id: string, { linked }: StyleContent, hasSheets: boolean): Promise<PieceModule> {
    const imports = this.#program.graph.edges(id).flatMap(({ kind, target }) => (kind === 'import' ? [target] : []));
    const style = hasSheets ? `${this.#options.base}${await this.#sheets.fallback(id)}` : '';
    const { text } = await this.#sheets.made(id);
    return { id, linked, edges: { version: '', imports, style }, css: () => text };
  }

  async #writeWorkers(asked: Pick<WorkersInput, 'ids' | 'late' | 'modulesIn'>): Promise<Record<string, string>> {
    const { graph, bundle } = this.#program;
    const { base, browsers } = this.#options;
    const scope = browsers.edition < 2020 ? 'self' : 'globalThis';
    const made = await workerScripts({ ...asked, graph, bundle, scripts: this.#scripts, base, runtime: this.#runtime(), scope });
    for (const [id, { path, script }] of made) {
      this.#texts.set(path, this.#scripts.textsOf(idsFor(bundle, graph.reachable([id]))));
      this.#files.putAt(path, script);
    }
    return Object.fromEntries([...made].map(([id, { path }]) => [id, path]));
  }

  /** The page's runtime, as small as everything else. */
  #runtime(): string {
    this.#madeRuntime ??= runtimeFor(this.#options.browsers, this.#options.minify);
    return this.#madeRuntime;
  }

  async #toEs5({ text, map }: Mapped): Promise<Mapped> {
    const { options, installCommand } = this.#project;
    const translator = oldTranslator(options.root, installCommand);
    const { code, map: chained } = await translator.transform(text, {
      jsc: { target: 'es5', parser: { syntax: 'ecmascript' }, externalHelpers: false },
      isModule: false,
      swcrc: false,
      configFile: false,
      ...(map === undefined ? {} : { sourceMaps: true, inputSourceMap: map }),
    });
    // Its helpers would be variables of the page.
    const wrapped = `(function () {\n${code}\n})();\n`;
    const old = { text: wrapped, ...(map === undefined ? {} : { map: movedDown(chained!) }) };
    return this.#options.minify ? smallerOldScript(translator, old, { keepsNames: this.#keepsNames }) : old;
  }
}

function byName<T>(entries: Iterable<[string, T]>): [string, T][] {
  return [...entries].sort(([a], [b]) => (a < b ? -1 : 1));
}

function isCommonJs(content: ModuleContent | undefined): boolean {
  return content?.kind === 'script' && content.linked.format === 'commonjs';
}

/** Where a map, which lies in the folder of assets, says that a source is: at its path in the project. */
function sourceUrl(id: string): string {
  return `../${id}`;
}
