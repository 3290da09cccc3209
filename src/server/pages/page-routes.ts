import type { IncomingMessage } from 'node:http';
import { extname } from 'node:path/posix';
import type Picomatch from 'picomatch';
import { kindOfFile } from '../../core/file-kinds.js';
import { lazily } from '../../core/lazily.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** A URL pattern of the settings and the page it shows. */
export interface PageRoute {
  /** A path, or a glob where it holds a `*`. */
  pattern: string;
  /** Id of the HTML file. */
  page: string;
}

/** Which page a path shows. Paths without `*` come first, then the longest pattern. */
export class PageRoutes {
  readonly routes: readonly PageRoute[];
  readonly #exact = new Map<string, string>();
  readonly #globs: { matches(path: string): boolean; page: string; length: number }[] = [];

  constructor(routes: readonly PageRoute[]) {
    this.routes = routes;
    for (const { pattern, page } of routes) {
      if (pattern.includes('*'))
        this.#globs.push({ matches: matcherOf(pattern), page, length: pattern.replace(/\*.*/, '').length });
      else this.#exact.set(normal(pattern), page);
    }
    this.#globs.sort((a, b) => b.length - a.length);
  }

  /** The page at exactly this path. */
  at(path: string): string | undefined {
    return this.#exact.get(normal(path));
  }

  /** The page whose pattern covers this path, for paths that the application itself interprets. */
  covering(path: string): string | undefined {
    return this.#globs.find(({ matches }) => matches(path))?.page;
  }
}

/** Made when a path is first asked for that no page has itself. */
function matcherOf(pattern: string): (path: string) => boolean {
  let matches: ((path: string) => boolean) | undefined;
  return (path) => {
    matches ??= picomatch()(pattern, { dot: false });
    return matches(path);
  };
}

function normal(path: string): string {
  return path.length > 1 && path.endsWith('/') ? path.slice(0, -1) : path;
}

/**
 * Whether somebody goes to a page at a path that no page has itself, so that the page whose pattern covers it stands in. Browsers say
 * so (Fetch Metadata, 2.1 and 2.2), others by what they accept. What is missing of scripts, images, data and the like is none.
 */
export function isPageRequest({ method, headers }: IncomingMessage, path: string): boolean {
  return (method === 'GET' || method === 'HEAD') && !looksLikeFile(path) && wantsPage({ headers });
}

/** Whether a browser will show the answer as a page, whatever the method. */
export function wantsPage({ headers }: Pick<IncomingMessage, 'headers'>): boolean {
  const dest = String(headers['sec-fetch-dest'] ?? '');
  if (/^(?:document|i?frame)$/.test(dest) || headers['sec-fetch-mode'] === 'navigate') return true;
  // A script that asks for HTML means it; images, scripts and calls of an API never do.
  return (dest === '' || dest === 'empty') && (headers.accept ?? '').includes('text/html');
}

/** Whether a path is that of a file which pages use, by its extension: what else stands behind a dot may mean anything. */
export function looksLikeFile(path: string): boolean {
  const kind = kindOfFile(path);
  return (kind !== undefined && !documents.has(extname(path).toLowerCase())) || /\.(?:vue|svelte|less|styl|map|htm)$/i.test(path);
}

/** Files that people go to themselves, and that are as good names for pages. */
const documents = new Set(['.pdf', '.txt', '.csv', '.xml']);
