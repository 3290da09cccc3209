import { existsSync, readdirSync, readFileSync, realpathSync, statSync } from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import { generatedHtml } from '../core/documents/generated-page.js';
import { VineError } from '../core/problem/problem.js';
import { isBuiltFolder, isWritten } from '../project/files/built-folder.js';
import type { GeneratedPageSettings, Settings } from './schema.js';

/** A URL pattern and the id of the page that it shows. */
export interface Route {
  pattern: string;
  page: string;
}

/** The pages of a project. */
export interface FoundPages {
  routes: Route[];
  /** The HTML of pages that have no file, by id. */
  generated: Readonly<Record<string, string>>;
  /** Absolute path of the folder whose HTML files are the pages, where nobody names any. */
  folder?: string;
}

/** The project's folder: where the nearest package.json or settings file is, but never above where the command was run unless the page is. */
export function projectRoot(start: string, folder: string, isNamed: boolean): string {
  if (isNamed && !existsSync(start)) {
    const near = relative(folder, start);
    // A path of a URL leads to no folder of this machine.
    const isUrl = near.startsWith('..') && !existsSync(sep + start.split(sep)[1]);
    throw new VineError({
      code: 'page-missing',
      message: `There is no page ${isUrl ? start : near}.`,
      file: isUrl ? start : near,
      hint: `Give the path of an HTML file, or of a folder that holds some.${isUrl ? ` Who answers a URL is told by vine-spark check --url ${start}.` : ''}`,
    });
  }
  const base = statSync(start).isDirectory() ? start : dirname(start);
  for (let at = base; ; at = dirname(at)) {
    if (existsSync(join(at, 'package.json')) || readdirSync(at).some((name) => name.startsWith('vine-spark.config.')))
      return realpathSync(at);
    if (at === folder || dirname(at) === at) break;
  }
  return realpathSync(base === start ? base : base.startsWith(folder + sep) ? folder : base);
}

/** Where pages are looked for. */
export interface PagesInput {
  /** Absolute path of the project's folder. */
  root: string;
  /** Absolute path of the page, or of the folder that was named. */
  start: string;
  /** As the command line names it. */
  page: string | undefined;
  pages: Settings['pages'];
  /** Absolute paths of folders that hold no pages of ours, e.g. what a build wrote. */
  except: readonly string[];
  /** Whether there is something to serve without any page. */
  mayBeNone: boolean;
}

/**
 * The pages that the settings or the command line name, or those of the folder.
 *
 * @throws VineError `page-missing`.
 */
export function pagesOf({ root, start, page, pages, except, mayBeNone }: PagesInput): FoundPages {
  const real = realpathSync(start);
  const named = pages ? namedPages(root, pages) : undefined;
  if (page !== undefined && statSync(real).isFile()) {
    const id = idOf(root, real);
    // One page: every path that isn't a file's is the application's own, so that deep links work.
    const own = ['/', `/${basename(id)}`, '/**'].map((pattern) => ({ pattern, page: id }));
    return { routes: [...(named?.routes ?? []), ...own], generated: named?.generated ?? {} };
  }
  if (named) return named;
  const routes = folderRoutes(root, real, except);
  if (routes.length === 0 && !mayBeNone) {
    throw new VineError({
      code: 'page-missing',
      message: `There is no HTML page in ${page ?? 'this folder'}.`,
      hint: `Name one: vine-spark serve path/to/index.html. Or let one be made: pages: { '/': { script: 'src/main.ts' } }`,
    });
  }
  return { routes, generated: {}, folder: real };
}

/** The pages of a folder, each at its path; what is below a folder with a single page leads to that one. */
function folderRoutes(root: string, folder: string, except: readonly string[]): Route[] {
  const pages = htmlFilesIn(folder, except);
  const folders = new Map<string, string[]>();
  for (const path of pages) folders.set(dirname(path), [...(folders.get(dirname(path)) ?? []), path]);
  return [...folders].flatMap(([inside, paths]) => {
    const prefix = inside === '.' ? '/' : `/${inside.split(sep).join('/')}/`;
    const isOnly = paths.length === 1;
    return [
      ...paths.flatMap((path) => fileRoutes(prefix, basename(path), idOf(root, join(folder, path)), isOnly)),
      // What is below it is the application's own business.
      ...(isOnly && (inside === '.' || basename(paths[0]!) === 'index.html')
        ? [{ pattern: `${prefix}**`, page: idOf(root, join(folder, paths[0]!)) }]
        : []),
    ];
  });
}

/** Paths of the HTML files in a folder and below, from there: none of packages, of other projects, of builds, that we wrote, or of folders whose name begins with a dot. */
function htmlFilesIn(folder: string, except: readonly string[], inside = '', depth = 0): string[] {
  const found: string[] = [];
  const folders: string[] = [];
  for (const entry of entriesOf(join(folder, inside))) {
    if (entry.name.startsWith('.')) continue;
    const path = join(inside, entry.name);
    if (entry.isDirectory()) folders.push(path);
    else if (entry.name.endsWith('.html') && !isWritten(join(folder, path))) found.push(path);
  }
  const isPlace = (path: string) => {
    const whole = join(folder, path);
    const isOthers = except.includes(whole) || existsSync(join(whole, 'package.json')) || isBuiltFolder(whole);
    return !noPages.has(basename(path)) && !isOthers;
  };
  const below = depth === deepestFolder ? [] : folders.filter(isPlace);
  return [...found.sort(), ...below.sort().flatMap((path) => htmlFilesIn(folder, except, path, depth + 1))];
}

/** What tools write into projects. */
const noPages = new Set(['node_modules', 'coverage']);
const deepestFolder = 8;

function entriesOf(folder: string) {
  try {
    return readdirSync(folder, { withFileTypes: true });
  } catch {
    return []; // nobody may look into it, or it has just gone
  }
}

/** The paths at which a page of a folder is. */
function fileRoutes(prefix: string, name: string, page: string, isOnly: boolean): Route[] {
  const stem = name.replace(/\.html$/, '');
  const isIndex = stem === 'index' || (isOnly && prefix === '/');
  return [
    ...(isIndex ? [{ pattern: prefix, page }] : []),
    ...(stem === 'index' ? [] : [{ pattern: `${prefix}${stem}`, page }]),
    { pattern: `${prefix}${name}`, page },
  ];
}

function namedPages(root: string, pages: NonNullable<Settings['pages']>): FoundPages {
  const generated: Record<string, string> = {};
  const files = new Set(
    Object.values(pages).flatMap((page) => (typeof page === 'string' ? [idOf(root, resolve(root, page))] : [])),
  );
  const routes = Object.entries(pages).map(([pattern, page]) => {
    if (typeof page !== 'string') {
      const html = htmlOf(page, basename(root));
      const same = Object.keys(generated).find((id) => generated[id] === html);
      const id = same ?? freeId(pattern, new Set([...files, ...Object.keys(generated)]));
      generated[id] = html;
      return { pattern, page: id };
    }
    const path = resolve(root, page);
    if (!existsSync(path))
      throw new VineError({
        code: 'page-missing',
        message: `The setting 'pages' names ${page}, which does not exist.`,
        file: page,
        hint: 'Paths in the settings are relative to the settings file.',
      });
    return { pattern, page: idOf(root, path) };
  });
  return { routes, generated };
}

function htmlOf({ script, title, mount, language }: GeneratedPageSettings, project: string): string {
  return generatedHtml({ scripts: [script].flat(), title: title ?? project, mount, language });
}

/** Where a page without a file would be one: `/` is `index.html`. */
/** The id of a page without a file, which is no page's yet. */
export function freeId(pattern: string, taken: ReadonlySet<string>): string {
  const plain = pattern.replace(/[^/]*\*.*$/, '').replace(/^\/+|\/+$/g, '');
  const stem = plain === '' ? 'index' : plain.replace(/\.html$/, '');
  for (let count = 1; ; count++) {
    const id = `${stem}${count === 1 ? '' : `-${count}`}.html`;
    if (!taken.has(id)) return id;
  }
}

/**
 * What the setting `insert` puts into every page: HTML, or the path of a file that holds some.
 *
 * @throws VineError `settings-unreadable` where there is no such file.
 */
export function insertedHtml(root: string, key: string, value: string | undefined): { html: string; file?: string } {
  // No path of a file begins an element.
  if (value === undefined || value.includes('<') || value.trim() === '') return { html: value ?? '' };
  const file = resolve(root, value);
  if (existsSync(file) && statSync(file).isFile()) return { html: readFileSync(file, 'utf8'), file };
  throw new VineError({
    code: 'settings-unreadable',
    message: `The setting '${key}' names ${value}, which does not exist.`,
    file: value,
    hint: 'Give HTML, such as an element, or the path of a file that holds some.',
  });
}

export function idOf(root: string, path: string): string {
  return relative(root, path).split(sep).join('/');
}
