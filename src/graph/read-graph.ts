import { readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative, resolve, sep } from 'node:path';
import { importsOf } from '../core/components/imports.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import type { AskedEdge, AskedGraph } from '../core/graph/questions.js';
import { reachedFrom } from '../core/graph/questions.js';
import { fileOfPart, packageOf } from '../core/module-id.js';
import { lineStarts, positionAt } from '../core/text/line-index.js';
import { ownIdPrefix } from '../core/urls.js';
import type { ProjectGraph } from '../project/project-graph.js';

/** A project's graph as it's asked about: files, with pages as roots; what is ours is left out. */
export interface ReadGraph extends AskedGraph {
  /** Bytes of the files. */
  sizes: ReadonlyMap<string, number>;
  /** Absolute path of the project. */
  root: string;
  /** The line of a source on which it names a specifier, from 1; `undefined` where that can't be told. */
  lineOf(id: string, specifier: string): number | undefined;
}

/** What is left of a project in a build, with the bytes of modules in its scripts. */
export interface Built {
  graph: ModuleGraph<ModuleContent>;
  sizes: ReadonlyMap<string, number>;
}

/** Takes the graph of a project that was read; with `built`, of what a build left of it. */
export function readGraph(project: ProjectGraph, built?: Built): ReadGraph {
  const { pages, paths } = project;
  const modules = built?.graph ?? project.modules;
  const edges = new Map<string, AskedEdge[]>();
  const sizes = new Map<string, number>();
  const texts = new Map<string, string>();
  // A build leaves scripts out; what they name as files stays with those that use them.
  const isOurs = (id: string) =>
    id.startsWith(ownIdPrefix) || (!modules.has(id) && project.modules.content(id)?.kind === 'script');
  const add = (id: string, edge: AskedEdge) => {
    if (edge.target === id) return;
    const known = edges.get(id) ?? [];
    if (
      !known.some(({ target, kind, specifier }) => target === edge.target && kind === edge.kind && specifier === edge.specifier)
    )
      known.push(edge);
    edges.set(id, known);
  };
  for (const id of modules.ids()) {
    if (isOurs(id)) continue;
    const file = fileOfPart(id);
    if (!edges.has(file)) edges.set(file, []);
    const content = modules.content(id);
    const source =
      content?.kind === 'script'
        ? content.source.text
        : content?.kind === 'style'
          ? (content.shownSource ?? content.source)
          : undefined;
    if (source !== undefined) texts.set(file, source);
    const bytes = source === undefined ? sizeOf(paths.fileOf(file)) : Buffer.byteLength(source);
    // Parts of a file count together in a build.
    sizes.set(file, built && content?.kind === 'script' ? (sizes.get(file) ?? 0) + (built.sizes.get(id) ?? 0) : bytes);
    for (const { kind, specifier, target } of modules.edges(id))
      if (!isOurs(target)) add(file, { kind, specifier, target: fileOfPart(target) });
  }
  const roots: string[] = [];
  for (const page of pages.all()) {
    roots.push(page.id);
    sizes.set(page.id, sizeOf(paths.fileOf(page.id)));
    edges.set(page.id, []);
    for (const target of pages.modules([page])) {
      const inline = pages.inlineText(target) !== undefined;
      // A script that stands in a page is a part of the page.
      if (inline) for (const edge of modules.edges(target)) add(page.id, { ...edge, target: fileOfPart(edge.target) });
      else if (!isOurs(target) && modules.has(target))
        add(page.id, { kind: 'import', specifier: target, target: fileOfPart(target) });
    }
  }
  for (const id of [...edges.keys()]) if (pages.inlineText(id) !== undefined) edges.delete(id);
  return {
    roots,
    edges,
    sizes,
    root: paths.root,
    lineOf(id, specifier) {
      const text = texts.get(id);
      const at = text === undefined ? -1 : Math.max(text.indexOf(`'${specifier}'`), text.indexOf(`"${specifier}"`));
      return at === -1 ? undefined : positionAt(lineStarts(text!), at).line;
    },
  };
}

/** Modules that a name means: a path, the end of one, or a package with all that is in it. */
export function named(graph: ReadGraph, name: string): string[] {
  const ids = [...graph.edges.keys()];
  const plain = name.replace(/^\.\//, '');
  if (graph.edges.has(plain)) return [plain];
  const inPackage = ids.filter((id) => packageOf(id) === name);
  if (inPackage.length > 0) return inPackage;
  return ids.filter((id) => id.endsWith(`/${plain}`) || id.replace(/\.\w+$/, '').endsWith(plain));
}

/** Packages of which several versions are in use, with their folders. */
export function packagesTwice(
  graph: ReadGraph,
  versionOf: (folder: string) => string,
): { name: string; copies: { version: string; folder: string; bytes: number; by: string[] }[] }[] {
  const folders = new Map<string, Set<string>>();
  const bytes = new Map<string, number>();
  const by = new Map<string, Set<string>>();
  const folderOf = (id: string) => /^.*node_modules\/(?:@[^/]+\/)?[^/]+/.exec(id)?.[0];
  for (const [id, edges] of graph.edges) {
    for (const { target } of edges) {
      const folder = folderOf(target);
      if (folder !== undefined && folder !== folderOf(id)) by.set(folder, (by.get(folder) ?? new Set()).add(id));
    }
    const folder = folderOf(id);
    const name = packageOf(id);
    if (folder === undefined || name === undefined) continue;
    folders.set(name, (folders.get(name) ?? new Set()).add(folder));
    bytes.set(folder, (bytes.get(folder) ?? 0) + (graph.sizes.get(id) ?? 0));
  }
  return [...folders]
    .filter(([, all]) => all.size > 1)
    .map(([name, all]) => ({
      name,
      copies: [...all].sort().map((folder) => ({
        version: versionOf(folder),
        folder,
        bytes: bytes.get(folder) ?? 0,
        by: [...(by.get(folder) ?? [])].sort(),
      })),
    }));
}

/** Source files of the project that no page reaches. `except`: absolute paths of folders that hold none. */
export function unusedFiles(graph: ReadGraph, except: ReadonlySet<string>): string[] {
  const reached = reachedFrom(graph);
  // What is imported for its types only is gone when modules run, and is used all the same.
  for (const id of reached) for (const target of importedTypes(graph.root, id)) reached.add(target);
  const all = sourcesIn(graph.root, except).map((path) => relative(graph.root, path).split(sep).join('/'));
  return all.filter((id) => !reached.has(id)).sort();
}

/** Files that a source imports, types too. */
function importedTypes(root: string, id: string): string[] {
  if (!/\.(?:[mc]?tsx?|vue|svelte)$/.test(id) || id.includes('node_modules/')) return [];
  try {
    const file = join(root, id);
    return importsOf(file, readFileSync(file, 'utf8')).flatMap(({ specifier }) => {
      if (!specifier.startsWith('.')) return [];
      const path = resolve(dirname(file), specifier);
      const found = ['', '.ts', '.tsx', '/index.ts', '/index.tsx']
        .map((extension) => path.replace(/\.js$/, '') + extension)
        .find((one) => statSync(one, { throwIfNoEntry: false })?.isFile());
      return found === undefined ? [] : [relative(root, found).split(sep).join('/')];
    });
  } catch {
    return []; // it's broken, and others tell that
  }
}

const kinds = /\.(?:[mc]?[jt]sx?|vue|svelte|css|scss|sass)$/;
const others =
  /(?:^|\/)(?:tests?|__tests__|specs?|e2e|scripts|backend|server)\/|\.(?:test|spec|config|samples|stories|d)\.\w+$|(?:^|\/)\./;

function sourcesIn(folder: string, except: ReadonlySet<string>, inside = ''): string[] {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    const name = `${inside}${entry.name}`;
    if (entry.isDirectory())
      return entry.name.startsWith('.') || entry.name === 'node_modules' || except.has(path) || others.test(`${name}/`)
        ? []
        : sourcesIn(path, except, `${name}/`);
    return kinds.test(name) && !others.test(name) ? [path] : [];
  });
}

function sizeOf(path: string): number {
  return statSync(path, { throwIfNoEntry: false })?.size ?? 0;
}
