import { fileOfId } from './module-id.js';

/** What our own URLs and ids begin with, below the front end's base. */
export const ownPrefix = '~spark/';

/** What ids begin with that are no paths of files: no relative path starts with a slash. */
export const ownIdPrefix = `/${ownPrefix}`;

/** What stands for `..` in URLs, where browsers would resolve it. A folder of that name gets one more `~`. */
const up = '~up';

/** The part of a URL that names a module: each segment encoded, with the steps above the project's folder kept. */
export function idToPath(id: string): string {
  return id
    .split('/')
    .map((segment) => (segment === '..' ? up : encodeURIComponent(/^~+up$/.test(segment) ? `~${segment}` : segment)))
    .join('/');
}

/** A path with what has a meaning in URLs encoded. */
export function encodedPath(path: string): string {
  return path.split('/').map(encodeURIComponent).join('/');
}

/** A URL as it may stand in a style sheet, with quotes or without (CSS Syntax Level 3, 4.3.6). */
export function cssUrl(url: string): string {
  return url.replace(/['()]/g, (sign) => `%${sign.charCodeAt(0).toString(16)}`);
}

/** The id that a decoded path from `idToPath` stands for. */
export function pathToId(path: string): string {
  return path
    .split('/')
    .map((segment) => (segment === up ? '..' : segment.replace(/^~(?=~+up$)/, '')))
    .join('/');
}

/** One of our own URLs, taken apart. `id` names a module, `name` a piece or, with `style/` in front, a sheet. */
export type OwnUrl =
  | { kind: PlainName }
  | { kind: 'page-piece'; page: string; part: PagePart }
  | { kind: 'start'; page: string; index: number }
  | { kind: 'update'; update: number }
  | { kind: 'lazy'; id: string }
  | { kind: 'worker'; id: string }
  | { kind: 'style'; id: string }
  | { kind: 'sheets'; page: string; index: number }
  | { kind: 'embed'; page: string }
  | { kind: 'file'; id: string }
  | { kind: 'map'; name: string };

/** What the ids of pages of a backend begin with: no page of ours ends like a module. */
const embedPrefix = '~spark/embed/';

/** The id of a page of a backend by the ids of the modules that it starts. */
export function embeddedPageId(entries: readonly string[]): string {
  return embedPrefix + entries.map((id) => id.replace(/[%,]/g, encodeURIComponent)).join(',');
}

/** The modules that a page of a backend starts, by its id; `undefined` for other ids. They may be anything. */
export function entriesOf(page: string): string[] | undefined {
  if (!page.startsWith(embedPrefix)) return undefined;
  const names = page.slice(embedPrefix.length);
  return names === '' ? [] : names.split(',').map((id) => id.replace(/%2C/g, ',').replace(/%25/g, '%'));
}

/** The modules of packages, or the application's own. */
export type PagePart = 'packages' | 'app';

type PlainName = 'page-script' | 'embed-script' | 'live' | 'session' | 'traffic' | 'error' | 'open';

const plainNames: Record<string, PlainName> = {
  'page.js': 'page-script',
  'embed.js': 'embed-script',
  live: 'live',
  session: 'session',
  traffic: 'traffic',
  error: 'error',
  open: 'open',
};

/**
 * Reads a URL's path behind the base and `ownPrefix`, still encoded; `undefined` for what is none of ours. An id in it is one
 * to be looked up, which proves nothing.
 */
export function readOwnUrl(encoded: string): OwnUrl | undefined {
  if (Object.hasOwn(plainNames, encoded)) return { kind: plainNames[encoded]! };
  const path = decoded(encoded);
  if (path === undefined) return undefined;
  const [, folder, rest = ''] = /^(piece|map|style|sheets|file|embed)\/(.+)$/s.exec(pathToId(path)) ?? [];
  if (folder === 'style') return { kind: 'style', id: rest };
  if (folder === 'sheets') return readSheetsName(rest);
  if (folder === 'embed')
    return rest.endsWith('.js') ? { kind: 'embed', page: embedPrefix + rest.slice(0, -'.js'.length) } : undefined;
  if (folder === 'file') return { kind: 'file', id: rest };
  if (folder === 'map') return { kind: 'map', name: rest.replace(/\.json$/, '') };
  return folder === 'piece' && rest.endsWith('.js') ? readPieceName(rest.slice(0, -'.js'.length)) : undefined;
}

/** Takes the name of several sheets in one file apart. */
export function readSheetsName(name: string): (OwnUrl & { kind: 'sheets' }) | undefined {
  const [, page = '', index] = /^(.+)\/(\d{1,6})\.css$/s.exec(name) ?? [];
  return index === undefined ? undefined : { kind: 'sheets', page, index: Number(index) };
}

/** Takes the name of a piece apart. */
export function readPieceName(name: string): OwnUrl | undefined {
  const [, kind, rest = ''] = /^(page|update|lazy|worker)\/(.+)$/s.exec(name) ?? [];
  if (kind === 'lazy') return { kind: 'lazy', id: rest };
  if (kind === 'worker') return { kind: 'worker', id: rest };
  if (kind === 'update') return /^\d{1,15}$/.test(rest) ? { kind, update: Number(rest) } : undefined;
  const [, page = '', part, index] = /^(.+)\/(?:(packages|app)|start-(\d{1,6}))$/s.exec(kind === 'page' ? rest : '') ?? [];
  if (part) return { kind: 'page-piece', page, part: part as PagePart };
  return index === undefined ? undefined : { kind: 'start', page, index: Number(index) };
}

/** Names of pieces, which also are their places in URLs. */
export const pieceName = {
  ofPage: (page: string, part: PagePart) => `page/${page}/${part}`,
  ofStart: (page: string, index: number) => `page/${page}/start-${index}`,
  ofUpdate: (update: number) => `update/${update}`,
  lazy: (id: string) => `lazy/${id}`,
  worker: (id: string) => `worker/${id}`,
};

/** The path below the base at which a service worker is: it's for what is below its own path. */
export function servicePath(id: string): string {
  return `${/([^/]*?)(?:\.[^./]*)?$/.exec(fileOfId(id))![1]}.js`;
}

/** Our own URLs for a front end under `base`, as paths of its origin. */
export const ownUrl = {
  plain: (base: string, name: 'page.js' | 'embed.js' | 'live' | 'session' | 'traffic' | 'error' | 'open') =>
    `${base}${ownPrefix}${name}`,
  piece: (base: string, name: string) => `${base}${ownPrefix}piece/${idToPath(name)}.js`,
  service: (base: string, id: string, version: string) =>
    `${base}${servicePath(id)}?service=${encodeURIComponent(id)}&v=${version}`,
  /** `of` is the tag of the piece, or the version of the sheet whose id stands behind `style/`. */
  map: (base: string, name: string, of: string) => `${base}${ownPrefix}map/${idToPath(name)}.json?of=${of}`,
  style: (base: string, id: string, version: string) => `${base}${ownPrefix}style/${idToPath(id)}?v=${version}`,
  /** The script that brings everything that a page of a backend needs. */
  embed: (base: string, page: string) => `${base}${ownPrefix}embed/${idToPath(page.slice(embedPrefix.length))}.js`,
  /** Several sheets of a page in one file. */
  sheets: (base: string, page: string, index: number, version: string) =>
    `${base}${ownPrefix}sheets/${idToPath(page)}/${index}.css?v=${version}`,
  /** A file outside the project's folder, which has no path of its own. */
  file: (base: string, id: string, version: string) => `${base}${ownPrefix}file/${idToPath(id)}?v=${version}`,
};

/** The name of the piece behind one of our own URLs, with or without an origin; `undefined` for any other text. */
export function pieceNameOf(url: string, base: string): string | undefined {
  const start = `${base}${ownPrefix}piece/`;
  const at = url.indexOf(start);
  if (at === -1) return undefined;
  const path = url.slice(at + start.length).replace(/[?#].*$/s, '');
  const name = path.endsWith('.js') ? decoded(path.slice(0, -'.js'.length)) : undefined;
  return name === undefined ? undefined : pathToId(name);
}

/** A path with its escapes resolved; `undefined` where they are broken or hide a NUL. */
export function decoded(path: string): string | undefined {
  try {
    const text = decodeURIComponent(path);
    return text.includes('\0') ? undefined : text;
  } catch {
    return undefined;
  }
}
