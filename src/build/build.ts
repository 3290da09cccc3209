import { readdirSync, readFileSync } from 'node:fs';
import { basename, extname, join, relative, sep } from 'node:path';
import { encodedMap, FlattenMap } from '@jridgewell/trace-mapping';
import type { StyleContent } from '../core/graph/module-content.js';
import { indexMap, type MapSection } from '../core/maps/index-map.js';
import { moduleMapParts } from '../core/maps/module-map.js';
import { fileOfId } from '../core/module-id.js';
import { Piece, type PieceModule } from '../core/pieces/piece.js';
import { type Problem, VineError } from '../core/problem/problem.js';
import { batches } from '../core/text/batches.js';
import { contentHash } from '../core/text/content-hash.js';
import { countLineEnds } from '../core/text/line-index.js';
import { escapeHtml } from '../core/tool-page.js';
import { decoded } from '../core/urls.js';
import type { ProjectOptions } from '../project/options.js';
import { namedInVain } from '../project/pages/named-in-vain.js';
import type { Page } from '../project/pages/page.js';
import { PieceModules } from '../project/pages/piece-modules.js';
import { fileUrl, rewritePage } from '../project/pages/rewrite-page.js';
import { ProjectGraph } from '../project/project-graph.js';
import { StyleSheets } from '../project/styles/style-sheets.js';
import { type ChunkPlan, type ChunkRoot, planChunks } from './chunks.js';
import { inlineImports } from './inline-imports.js';
import type { Manifest, ManifestPage } from './manifest.js';
import { type Mapped, smallerScript, smallerSheet } from './minify.js';
import { checkFolder, manifestName, type OutputFiles, writeOutput } from './output-folder.js';

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
  readonly #files = new Map<string, string | Buffer>();
  readonly #sheets: StyleSheets;
  readonly #pieces: PieceModules;
  readonly #assets: Record<string, string> = {};
  /** Minified sheets by id. */
  readonly #styles = new Map<string, string>();
  /** Paths of sheets that only some pages will ever ask for. */
  readonly #fallbacks = new Set<string>();
  #smallRuntime: Promise<string> | undefined;
  /** Workers that are to be written, with the names of their files. */
  readonly #workers = new Map<string, string>();

  constructor(project: ProjectGraph, options: BuildOptions) {
    this.#project = project;
    this.#options = options;
    const { base } = options;
    const url = (path: string) => `${base}${path}`;
    this.#sheets = new StyleSheets(
      project.modules,
      {
        // Only `@import` names a sheet so, and none of those is left.
        style: (id) => `${importMark}${id}`,
        file: (id, version) => url(this.#assetFile(id, version)),
        source: (id) => sourceUrl(id),
        map: () => undefined,
      },
      project.paths,
    );
    this.#pieces = new PieceModules(project.modules, this.#sheets, {
      source: sourceUrl,
      worker: (id) => url(this.#workerFile(id)),
    });
  }

  async write(): Promise<{ files: OutputFiles; manifest: Manifest; fallbacks: ReadonlySet<string> }> {
    const { modules, pages } = this.#project;
    const late = new Set(
      [...modules.ids()].flatMap((id) => modules.edges(id).flatMap(({ kind, target }) => (kind === 'dynamic' ? [target] : []))),
    );
    const roots: ChunkRoot[] = [
      ...pages.all().map((page) => ({ id: page.id, isPage: true, modules: this.#project.pageOrder(page) })),
      ...[...late].sort().map((id) => ({ id, isPage: false, modules: modules.reachable([id]) })),
    ];
    const plan = planChunks(modules, roots);
    const fileOf = new Map<string, string>();
    for (const chunk of plan.chunks) {
      const { key, name, modules: ids, isLate } = chunk;
      fileOf.set(key, await this.#script(name, this.#modulesOf(ids, isLate), { hasSheets: isLate }));
    }
    const made: Record<string, ManifestPage> = {};
    const lateFiles = Object.fromEntries([...late].sort().map((id) => [id, plan.needs.get(id)!.map((key) => fileOf.get(key)!)]));
    for (const [id, name] of this.#workers) await this.#worker(id, name, lateFiles);
    for (const page of pages.all()) made[page.id] = await this.#page(page, plan, { fileOf, lateFiles });
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

  /** Modules as they go into files: nothing in them depends on when and where they were made. */
  #modulesOf(ids: readonly string[], hasSheets = false): PieceModule[] {
    return ids.flatMap((id) => {
      const content = this.#project.modules.content(id);
      if (content?.kind === 'style') return [this.#styleModule(id, content, hasSheets)];
      const module = this.#pieces.get(id);
      if (!module) return [];
      const { specifiers: _, anonymousComponent: __, dynamic, ...edges } = module.edges;
      const late =
        dynamic && Object.fromEntries(Object.entries(dynamic).map(([name, target]) => [name, { ...target, piece: target.id }]));
      const map = module.map ? { map: module.map } : {};
      return [{ id, linked: module.linked, edges: { ...edges, version: '', ...(late ? { dynamic: late } : {}) }, ...map }];
    });
  }

  /** A sheet that scripts import. Those of a page come in a file of their own, before anything runs. */
  #styleModule(id: string, { linked }: StyleContent, hasSheets: boolean): PieceModule {
    const imports = this.#project.modules.edges(id).flatMap(({ kind, target }) => (kind === 'import' ? [target] : []));
    const style = hasSheets ? `${this.#options.base}${this.#fallback(id)}` : '';
    return { id, linked, edges: { version: '', imports, style }, css: () => this.#style(id) };
  }

  /** Writes a script of modules. Returns its path. */
  async #script(name: string, modules: PieceModule[], { hasSheets = false, before = '', after = '' } = {}): Promise<string> {
    const parts = await Promise.all(modules.map((module) => this.#statement(module, hasSheets)));
    const head = `${before}(vine => { if (!vine) return;\n`;
    let line = countLineEnds(head);
    const sections: MapSection[] = [];
    for (const { text, map } of parts) {
      if (map !== undefined) sections.push({ line, map: () => [map] });
      line += countLineEnds(text) + 1;
    }
    const text = `${head}${parts.map((part) => `${part.text}\n`).join('')}${after}})(self["~spark"]);\n`;
    const hasMap = this.#options.sourceMaps !== 'off';
    const map = hasMap ? { map: flat([...batches(indexMap(`${name}.js`, sections))].join('')) } : {};
    return this.#put(name, '.js', { text, ...map });
  }

  /** The statement that registers a module, and the map of that. Made smaller it is kept for the next build. */
  async #statement(module: PieceModule, hasSheets: boolean): Promise<Mapped> {
    const piece = new Piece({ modules: [module], hasSheets, mapUrl: '' });
    const [, ...rest] = [...piece.inner()];
    const text = rest.flat().join('').trimEnd();
    const input = this.#options.sourceMaps === 'off' ? undefined : module.map;
    // The statement's own line stands above the module's.
    const map = input && flat([...batches(indexMap('', [{ line: 1, map: () => moduleMapParts(input) }]))].join(''));
    const mapped = { text, ...(map === undefined ? {} : { map }) };
    if (!this.#options.minify) return mapped;
    const key = `smaller ${contentHash(this.#project.fingerprint, text, map ?? '')}`;
    const kept = this.#project.kept?.get(key);
    if (kept !== undefined) return JSON.parse(kept) as Mapped;
    const made = await smallerScript(mapped);
    this.#project.kept?.put(key, () => JSON.stringify(made));
    return made;
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

  /** The path of a worker's script, which changes with everything that may ever run in it. */
  #workerFile(id: string): string {
    const { modules } = this.#project;
    const all = new Set([id]);
    for (const at of all) for (const { target } of modules.edges(at)) all.add(target);
    const texts = [...all].sort().map((at) => `${at} ${modules.content(at)?.linked.code}`);
    const path = `${assetFolder}/${basename(fileOfId(id), extname(fileOfId(id)))}-${contentHash(plainRuntime, ...texts).slice(0, 10)}.js`;
    this.#workers.set(id, path);
    return path;
  }

  async #worker(id: string, path: string, late: Record<string, string[]>): Promise<void> {
    const settings = JSON.stringify({ base: this.#options.base, late });
    const before = `const sparkBuilt = ${settings};\n${await this.#runtime()}\n`;
    const written = await this.#script('worker', this.#modulesOf(this.#project.modules.reachable([id])), {
      before,
      after: `vine.start(${JSON.stringify(id)});`,
    });
    // Its name was given when the modules that start it were made.
    for (const end of ['', '.map']) {
      const text = this.#files.get(written + end);
      if (text === undefined) continue;
      this.#files.set(path + end, String(text).replaceAll(basename(written), basename(path)));
      this.#files.delete(written + end);
    }
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
    const extension = extname(id);
    const path = `${assetFolder}/${basename(id, extension)}-${version.slice(0, 10)}${extension}`;
    this.#files.set(path, readFileSync(this.#project.paths.fileOf(id)));
    this.#assets[id] = path;
    return path;
  }

  async #page(
    page: Page,
    plan: ChunkPlan,
    { fileOf, lateFiles }: { fileOf: ReadonlyMap<string, string>; lateFiles: Record<string, string[]> },
  ): Promise<ManifestPage> {
    const { base } = this.#options;
    const url = (path: string) => `${base}${path}`;
    const imported = this.#project
      .pageOrder(page)
      .filter((id) => this.#project.modules.content(id)?.kind === 'style' && !page.styles.includes(id));
    const styles = imported.length === 0 ? [] : [this.#joined(page, imported)];
    const runtimeFile = this.#put('runtime', '.js', { text: await this.#runtime() });
    const scripts = [runtimeFile, ...plan.needs.get(page.id)!.map((key) => fileOf.get(key)!)];
    const starts: string[] = [];
    for (const { entry } of page.runs) {
      const text = `self["~spark"].start(${JSON.stringify(entry)});\n`;
      starts.push(this.#put('start', '.js', { text }));
    }
    const settings = escapeHtml(JSON.stringify({ base, late: lateFiles }));
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
      sheet: (id) => (this.#project.modules.has(id) ? `href="${escapeHtml(url(this.#sheetFile(id)))}"` : undefined),
      script: (index) => (index === 0 ? first : '') + tag(starts[index]!),
    });
    this.#files.set(page.id, html);
    const linked = page.styles.filter((id) => id !== undefined && this.#project.modules.has(id)) as string[];
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

/** Where a map, which lies in the folder of assets, says that a source is: at its path in the project. */
function sourceUrl(id: string): string {
  return `../${id}`;
}

/** An index map as a plain one, which other tools read. */
function flat(map: string): string {
  return JSON.stringify(encodedMap(new FlattenMap(map)));
}
