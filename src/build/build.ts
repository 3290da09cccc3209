import { readdirSync, readFileSync } from 'node:fs';
import { basename, extname, join, relative, sep } from 'node:path';
import type { Bundle } from '../core/bundle/bundle.js';
import type { ModuleContent, StyleContent } from '../core/graph/module-content.js';
import type { EdgeKind, ModuleGraph } from '../core/graph/module-graph.js';
import { fileOfId } from '../core/module-id.js';
import type { PieceModule } from '../core/pieces/piece.js';
import { type Problem, VineError } from '../core/problem/problem.js';
import { contentHash } from '../core/text/content-hash.js';
import { escapeHtml } from '../core/tool-page.js';
import { decoded } from '../core/urls.js';
import type { ProjectOptions } from '../project/options.js';
import { namedInVain } from '../project/pages/named-in-vain.js';
import type { Page } from '../project/pages/page.js';
import { PieceModules } from '../project/pages/piece-modules.js';
import { fileUrl, rewritePage } from '../project/pages/rewrite-page.js';
import { ProjectGraph } from '../project/project-graph.js';
import { StyleSheets } from '../project/styles/style-sheets.js';
import { type ChunkRoot, planChunks } from './chunks.js';
import { inlineImports } from './inline-imports.js';
import type { Manifest, ManifestPage } from './manifest.js';
import type { Mapped } from './mapped.js';
import { smallerScript, smallerSheet } from './minify.js';
import { checkFolder, manifestName, type OutputFiles, writeOutput } from './output-folder.js';
import { type Program, shakeProject } from './program.js';
import { Scripts } from './scripts.js';

export interface BuildOptions extends ProjectOptions {
  /** Absolute path of the folder to write to. */
  out: string;
  minify: boolean;
  /** `hidden`: written, and not named by the files that they belong to. */
  sourceMaps: 'on' | 'hidden' | 'off';
  /** Whether somebody else answers a path, such as a backend, by a rule. */
  isElsewhere(path: string): boolean;
  onWarning(warning: Problem): void;
  onNote(note: string): void;
}

/** What a build came to. */
export interface BuildResult {
  manifest: Manifest;
  /** Number of modules in the output. */
  modules: number;
  /** Files in the folder that are none of ours. */
  others: string[];
  /** Scripts and styles by path. */
  texts: ReadonlyMap<string, string>;
}

const assetFolder = 'assets';
/** What stands in front of the ids of imported sheets until they are put in their places. */
const importMark = 'sheet:';
/** What the runtime looks a worker's URL up by, see `browser/built.ts`. */
const workerMark = 'worker:';
const plainRuntime = readFileSync(new URL('../browser/built.js', import.meta.url), 'utf8');

/**
 * Reads a project for production and writes it out.
 *
 * @throws VineError `output-refused`, or `BuildFailed` with the problems that keep a page from being built.
 */
export async function build(options: BuildOptions): Promise<BuildResult> {
  const project = new ProjectGraph(options, {
    changes: { added() {}, dropped() {} },
    onLoaded() {},
    onWarning: options.onWarning,
    onNote: options.onNote,
    turn: () => undefined,
  });
  project.readPages();
  try {
    await project.readModules();
    await readLate(project);
    // Warnings of modules come in a turn of their own.
    await new Promise((resolve) => setImmediate(resolve));
    if (project.problems.length > 0) throw new BuildFailed(project.problems);
    const sources = [...project.modules.ids()].map((id) => project.paths.fileOf(fileOfId(id)));
    checkFolder(options.out, options.root, { sources, verbatim: options.verbatim });
    const { files, manifest, fallbacks } = await new Writer(project, options).write();
    const others = writeOutput(options.out, files);
    await project.writeKept();
    const texts = new Map(
      [...files].flatMap(([path, content]) =>
        /\.(?:js|css)$/.test(path) && typeof content === 'string' && path in manifest.files && !fallbacks.has(path)
          ? [[path, content] as const]
          : [],
      ),
    );
    return { manifest, modules: project.modules.size, others, texts };
  } finally {
    await project.close();
  }
}

/** The project can't be built as it is. */
export class BuildFailed extends Error {
  readonly problems: readonly Problem[];

  constructor(problems: readonly Problem[]) {
    super('The project has problems.');
    this.problems = problems;
  }
}

/** Reads what stands behind every `import()` and in every worker: a build can't wait until somebody asks. */
async function readLate(project: ProjectGraph): Promise<void> {
  const asked = new Set<string>();
  for (;;) {
    const targets = [...project.modules.ids()].flatMap((id) =>
      project.modules.edges(id).flatMap(({ kind, target }) => (kind === 'dynamic' || kind === 'worker' ? [target] : [])),
    );
    const fresh = targets.filter((id) => !asked.has(id));
    if (fresh.length === 0) return;
    for (const id of fresh) asked.add(id);
    await Promise.all(fresh.map((id) => project.builder.askFor(id)));
    await project.builder.settle();
  }
}

/** Makes the files of a build. */
class Writer {
  readonly #project: ProjectGraph;
  readonly #options: BuildOptions;
  readonly #program: Program;
  readonly #files = new Map<string, string | Buffer>();
  readonly #sheets: StyleSheets;
  readonly #pieces: PieceModules;
  readonly #scripts: Scripts;
  readonly #assets: Record<string, string> = {};
  /** Minified sheets by id. */
  readonly #styles = new Map<string, string>();
  /** Paths of sheets that only some pages will ever ask for. */
  readonly #fallbacks = new Set<string>();
  #smallRuntime: Promise<string> | undefined;

  constructor(project: ProjectGraph, options: BuildOptions) {
    this.#project = project;
    this.#options = options;
    const { base, minify } = options;
    const url = (path: string) => `${base}${path}`;
    this.#program = shakeProject({ project, assetUrl: (id, hash) => url(assetPath(id, hash)) });
    const { graph, bundle } = this.#program;
    this.#sheets = new StyleSheets(
      graph,
      {
        // Only `@import` names a sheet so, and none of those is left.
        style: (id) => `${importMark}${id}`,
        file: (id, version) => url(this.#assetFile(id, version)),
        source: (id) => sourceUrl(id),
        map: () => undefined,
      },
      project.paths,
    );
    this.#pieces = new PieceModules(graph, this.#sheets, { source: sourceUrl, worker: (id) => `${workerMark}${id}` });
    this.#scripts = new Scripts({
      bundle,
      graph,
      minify,
      hasMaps: options.sourceMaps !== 'off',
      sourceUrl,
      whole: (id, hasSheets) => this.#whole(id, hasSheets),
      urlOf: (id, kind, specifier) => this.#urlOf(id, kind, specifier),
      kept: project.kept,
      fingerprint: project.fingerprint,
    });
  }

  async write(): Promise<{ files: OutputFiles; manifest: Manifest; fallbacks: ReadonlySet<string> }> {
    const { pages } = this.#project;
    const { graph, bundle } = this.#program;
    const edges = [...graph.ids()].flatMap((id) => graph.edges(id));
    const targets = (wanted: EdgeKind) =>
      [...new Set(edges.flatMap(({ kind, target }) => (kind === wanted && graph.has(target) ? [target] : [])))].sort();
    const late = targets('dynamic');
    const workers = targets('worker');
    const roots: ChunkRoot[] = [
      ...pages.all().map((page) => ({ id: page.id, isPage: true, modules: this.#orderOf(page) })),
      ...late.map((id) => ({ id, isPage: false, modules: graph.reachable([id]) })),
    ];
    const plan = planChunks(graph, roots);
    const chunkOf = new Map(plan.chunks.flatMap(({ key, modules }) => modules.map((id) => [id, key] as const)));
    bundle.group({ chunkOf: (id) => chunkOf.get(id), convention: (id) => this.#convention(id), isPlain: !this.#options.minify });
    for (const id of graph.ids()) {
      const content = graph.content(id);
      if (content?.kind === 'asset') this.#assetFile(id, content.hash);
    }
    const fileOf = new Map<string, string>();
    for (const { key, name, modules, isLate } of plan.chunks) {
      const ids = idsFor(bundle, modules);
      if (ids.length > 0) fileOf.set(key, this.#put(name, '.js', await this.#scripts.script(name, ids, { hasSheets: isLate })));
    }
    const filesOf = (id: string) => plan.needs.get(id)!.flatMap((key) => fileOf.get(key) ?? []);
    const lateFiles = Object.fromEntries(late.map((id) => [bundle.idOf(id), filesOf(id)]));
    const workerFiles = await this.#writeWorkers(workers, lateFiles);
    const made: Record<string, ManifestPage> = {};
    for (const page of pages.all())
      made[page.id] = await this.#page(page, { scripts: filesOf(page.id), late: lateFiles, workers: workerFiles });
    this.#verbatim();
    const sizes = [...this.#files]
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([path, content]) => [path, { bytes: Buffer.byteLength(content) }]);
    const manifest: Manifest = {
      builtBy: 'Vine Spark',
      version: 1,
      pages: made,
      assets: Object.fromEntries(Object.entries(this.#assets).sort(([a], [b]) => (a < b ? -1 : 1))),
      files: Object.fromEntries(sizes),
    };
    this.#files.set(manifestName, `${JSON.stringify(manifest, null, 2)}\n`);
    return { files: this.#files, manifest, fallbacks: this.#fallbacks };
  }

  /** What is left of a page's modules, in the order in which they run. */
  #orderOf(page: Page): string[] {
    const { graph } = this.#program;
    const left = new Set(graph.reachable(this.#project.pages.modules([page])));
    return this.#project.pageOrder(page).filter((id) => left.has(id));
  }

  /** Which convention a module follows for what CommonJS gives it. */
  #convention(id: string): boolean | undefined {
    const { graph } = this.#program;
    const content = graph.content(id);
    const asksCommonJs = graph.edges(id).some(({ kind, target }) => kind !== 'style' && isCommonJs(graph.content(target)));
    return content?.kind === 'script' && asksCommonJs ? content.edges.nodeDefault === true : undefined;
  }

  /** A module that has its scope for itself. Nothing in it depends on when and where it was made. */
  #whole(id: string, hasSheets: boolean): PieceModule | undefined {
    const content = this.#program.graph.content(id);
    if (content?.kind === 'style') return this.#styleModule(id, content, hasSheets);
    const module = this.#pieces.get(id);
    if (!module) return undefined;
    const { specifiers: _, anonymousComponent: __, dynamic, ...edges } = module.edges;
    const late =
      dynamic && Object.fromEntries(Object.entries(dynamic).map(([name, target]) => [name, { ...target, piece: target.id }]));
    const map = module.map ? { map: module.map } : {};
    return { id, linked: module.linked, edges: { ...edges, version: '', ...(late ? { dynamic: late } : {}) }, ...map };
  }

  #urlOf(id: string, kind: 'url' | 'worker', specifier: string): string {
    const content = this.#program.graph.content(id);
    const known =
      content?.kind === 'script' ? content.urls.find((url) => url.kind === kind && url.specifier === specifier) : undefined;
    if (known?.target === undefined) return specifier;
    return kind === 'worker' ? `${workerMark}${known.target}` : this.#sheets.urlOf(known.target);
  }

  /** A sheet that scripts import. Those of a page come in a file of their own, before anything runs. */
  #styleModule(id: string, { linked }: StyleContent, hasSheets: boolean): PieceModule {
    const imports = this.#program.graph.edges(id).flatMap(({ kind, target }) => (kind === 'import' ? [target] : []));
    const style = hasSheets ? `${this.#options.base}${this.#fallback(id)}` : '';
    return { id, linked, edges: { version: '', imports, style }, css: () => this.#style(id) };
  }

  /** Puts a text under a name with its hash, and its map beside it. */
  #put(name: string, extension: '.js' | '.css', { text: given, map }: Mapped): string {
    // A host may send a sheet without saying in which encoding, and the page may say nothing either.
    const text = extension === '.css' && /[^\u0000-\u007f]/.test(given) ? `@charset "utf-8";\n${given}` : given;
    const path = `${assetFolder}/${name}-${contentHash(text).slice(0, 10)}${extension}`;
    const isNamed = map !== undefined && this.#options.sourceMaps === 'on';
    this.#files.set(path, isNamed ? `${text}//# sourceMappingURL=${basename(path)}.map\n` : text);
    if (map !== undefined) this.#files.set(`${path}.map`, map);
    return path;
  }

  /**
   * Writes the scripts of workers, each with the runtime and all that it needs from the start. Their settings name other workers, which
   * may name them: names are made of all the texts that they lead to.
   */
  async #writeWorkers(ids: readonly string[], late: Record<string, string[]>): Promise<Record<string, string>> {
    const { graph, bundle } = this.#program;
    const standIn = (id: string) => `${assetFolder}/${nameOf(id)}-${contentHash('worker', id).slice(0, 10)}.js`;
    const standIns = Object.fromEntries(ids.map((id) => [id, standIn(id)]));
    const texts = new Map<string, Mapped>();
    for (const id of ids) {
      const reached = graph.reachable([id]);
      const used = new Set(
        reached
          .flatMap((at) => graph.edges(at))
          .flatMap(({ kind, target }) => (kind === 'dynamic' || kind === 'worker' ? [target] : [])),
      );
      const everything = usedBelow(graph, used);
      const own = Object.fromEntries(Object.entries(late).filter(([target]) => everything.has(target)));
      const workers = Object.fromEntries(ids.filter((other) => everything.has(other)).map((other) => [other, standIns[other]!]));
      const before = `const sparkBuilt = ${JSON.stringify({ base: this.#options.base, late: own, workers })};\n${await this.#runtime()}\n`;
      texts.set(
        id,
        await this.#scripts.script(nameOf(id), idsFor(bundle, reached), {
          before,
          after: `vine.start(${JSON.stringify(bundle.idOf(id))});`,
        }),
      );
    }
    const files: Record<string, string> = {};
    for (const id of ids) {
      const reached = new Set([id]);
      for (const at of reached) for (const other of ids) if (texts.get(at)!.text.includes(standIns[other]!)) reached.add(other);
      const hash = contentHash(...[...reached].sort().map((at) => texts.get(at)!.text)).slice(0, 10);
      files[id] = `${assetFolder}/${nameOf(id)}-${hash}.js`;
    }
    const isNamed = this.#options.sourceMaps === 'on';
    for (const id of ids) {
      const { text, map } = texts.get(id)!;
      const final = ids.reduce((out, other) => out.replaceAll(standIns[other]!, files[other]!), text);
      const path = files[id]!;
      this.#files.set(path, isNamed && map !== undefined ? `${final}//# sourceMappingURL=${basename(path)}.map\n` : final);
      if (map !== undefined) this.#files.set(`${path}.map`, map);
    }
    return files;
  }

  /** The text of a sheet with what it imports. */
  #style(id: string): string {
    const known = this.#styles.get(id);
    if (known !== undefined) return known;
    const text = this.#inlined(id);
    const made = this.#options.minify ? smallerSheet(id, text) : text;
    this.#styles.set(id, made);
    return made;
  }

  /** The text of a sheet with those that it imports in their places. In a circle, one that is under way is left out. */
  #inlined(id: string, above: readonly string[] = []): string {
    return inlineImports(this.#sheets.textOf(id), (url) => {
      if (!url.startsWith(importMark)) return undefined;
      const target = url.slice(importMark.length);
      return above.includes(target) || target === id ? '' : this.#inlined(target, [...above, id]);
    });
  }

  /** Writes a sheet of its own. Returns its path. */
  #sheetFile(id: string): string {
    const name = basename(fileOfId(id), extname(fileOfId(id)));
    return this.#put(name, '.css', { text: this.#style(id) });
  }

  /** A sheet that comes with its module, and as a file for pages whose policy forbids that. */
  #fallback(id: string): string {
    const path = this.#sheetFile(id);
    this.#fallbacks.add(path);
    return path;
  }

  /** The page's runtime, as small as everything else. */
  async #runtime(): Promise<string> {
    this.#smallRuntime ??= this.#options.minify
      ? smallerScript({ text: plainRuntime }).then(({ text }) => text)
      : Promise.resolve(plainRuntime);
    return this.#smallRuntime;
  }

  /** Writes a file as it is. Returns its path. */
  #assetFile(id: string, version: string): string {
    const known = this.#assets[id];
    if (known !== undefined) return known;
    const path = assetPath(id, version);
    this.#files.set(path, readFileSync(this.#project.paths.fileOf(fileOfId(id))));
    this.#assets[id] = path;
    return path;
  }

  async #page(page: Page, { scripts: own, late, workers }: PageFiles): Promise<ManifestPage> {
    const { base } = this.#options;
    const { graph, bundle } = this.#program;
    const url = (path: string) => `${base}${path}`;
    const imported = this.#orderOf(page).filter((id) => graph.content(id)?.kind === 'style' && !page.styles.includes(id));
    const styles = imported.length === 0 ? [] : [this.#joined(page, imported)];
    const runtimeFile = this.#put('runtime', '.js', { text: await this.#runtime() });
    const scripts = [runtimeFile, ...own];
    const starts: string[] = [];
    for (const { entry } of page.runs) {
      const text = `self["~spark"].start(${JSON.stringify(bundle.idOf(entry))});\n`;
      starts.push(this.#put('start', '.js', { text }));
    }
    const reached = usedBelow(graph, this.#orderOf(page));
    const isReached = (id: string) => reached.has(id) || reached.has(id.replace(/\?names$/, ''));
    const only = <T>(all: Record<string, T>) => Object.fromEntries(Object.entries(all).filter(([id]) => isReached(id)));
    const ownWorkers = only(workers);
    const settings = escapeHtml(
      JSON.stringify({ base, late: only(late), ...(Object.keys(ownWorkers).length > 0 ? { workers: ownWorkers } : {}) }),
    );
    const tag = (path: string) => `<script defer charset="utf-8" src="${escapeHtml(url(path))}"></script>`;
    const first = `<script defer charset="utf-8" src="${escapeHtml(url(runtimeFile))}" data-spark-built="${settings}"></script>${scripts.slice(1).map(tag).join('')}`;
    const sheets = escapeHtml(JSON.stringify(Object.fromEntries(imported.map((id) => [id, '']))));
    const links = styles
      .map((path) => `<link rel="stylesheet" href="${escapeHtml(url(path))}" data-spark-sheets="${sheets}">`)
      .join('');
    const html = rewritePage(page, {
      headStart: '',
      headEnd: links,
      fileUrl: (specifier, id) => this.#fileUrl(specifier, page, id),
      sheet: (id) => (graph.has(id) ? `href="${escapeHtml(url(this.#sheetFile(id)))}"` : undefined),
      script: (index) => (index === 0 ? first : '') + tag(starts[index]!),
    });
    this.#files.set(page.id, html);
    const linked = page.styles.filter((id) => id !== undefined && graph.has(id)) as string[];
    const fixed = linked.map((id) => this.#sheetFile(id));
    return { scripts: [...scripts, ...starts].map(url), styles: [...fixed, ...styles].map(url) };
  }

  /** The sheets of a page in one file; those that count at the start only stand there. */
  #joined(page: Page, ids: readonly string[]): string {
    // What stays an `@import` counts at the start only, whichever sheet it stands in.
    const text = inlineImports(ids.map((id) => this.#style(id)).join('\n'), () => undefined);
    return this.#put(basename(page.id, extname(page.id)), '.css', { text: `${text}\n` });
  }

  /** The URL of a file that the page names: a file of the project gets a name with its hash, everything else stays where it was. */
  #fileUrl(specifier: string, page: Page, script?: string): string {
    const { base, root, verbatim } = this.#options;
    const url = fileUrl(specifier, page, base);
    const [, path = '', behind = ''] = /^([^?#]*)(.*)$/s.exec(url)!;
    if (script !== undefined) return `${base}${this.#assetOf(script)}${behind}`;
    if (!path.startsWith(base) || page.parts.baseHref !== undefined) return url;
    const inside = decoded(path.slice(base.length));
    if (inside !== undefined) {
      if (verbatim.some((folder) => this.#project.gate.ofVerbatim(folder, `/${inside}`) !== undefined)) return url;
      if (this.#project.gate.ofProject(join(root, inside)) !== undefined) return `${base}${this.#assetOf(inside)}${behind}`;
    }
    if (!this.#options.isElsewhere(path)) this.#options.onWarning(namedInVain(page, specifier));
    return url;
  }

  /** Writes a file that a page names. Returns its path. */
  #assetOf(id: string): string {
    return this.#assetFile(id, contentHash(readFileSync(this.#project.paths.fileOf(id))));
  }

  /** Copies the verbatim folders. Of two that have a file, the first one counts, as where they are served. */
  #verbatim(): void {
    const built = new Set([...this.#files.keys(), manifestName]);
    for (const folder of this.#options.verbatim) {
      for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true })) {
        if (!entry.isFile()) continue;
        const path = relative(folder, join(entry.parentPath, entry.name)).split(sep).join('/');
        const file = this.#project.gate.ofVerbatim(folder, `/${path}`);
        if (file === undefined) continue;
        if (built.has(path))
          throw new VineError({
            code: 'output-clash',
            message: `Both the build and the verbatim folder ${relative(this.#options.root, folder)} have a file ${path}.`,
            hint: 'Rename one of them, or take it out of the folder.',
          });
        if (!this.#files.has(path)) this.#files.set(path, readFileSync(file));
      }
    }
  }
}

/** What a page loads, as paths. */
interface PageFiles {
  scripts: string[];
  /** Module behind an `import()` -> files that bring it. */
  late: Record<string, string[]>;
  workers: Record<string, string>;
}

/** The ids by which the runtime knows what modules became, each once. */
function idsFor(bundle: Bundle, modules: readonly string[]): string[] {
  return [...new Set(modules.flatMap((id) => bundle.idsOf(id)))];
}

/** Everything that modules lead to, later and in workers too. */
function usedBelow(graph: ModuleGraph<ModuleContent>, from: Iterable<string>): ReadonlySet<string> {
  const seen = new Set(from);
  for (const id of seen) for (const { target } of graph.edges(id)) seen.add(target);
  return seen;
}

function isCommonJs(content: ModuleContent | undefined): boolean {
  return content?.kind === 'script' && content.linked.format === 'commonjs';
}

/** A file's name without its folder and its extension. */
function nameOf(id: string): string {
  return basename(fileOfId(id), extname(fileOfId(id)));
}

/** The path of a file that is used by its URL. */
function assetPath(id: string, version: string): string {
  const file = fileOfId(id);
  return `${assetFolder}/${basename(file, extname(file))}-${version.slice(0, 10)}${extname(file)}`;
}

/** Where a map, which lies in the folder of assets, says that a source is: at its path in the project. */
function sourceUrl(id: string): string {
  return `../${id}`;
}
