import type Picomatch from 'picomatch';
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

/** Whether a path looks like that of a file, which no page stands in for. */
export function looksLikeFile(path: string): boolean {
  return /\.[A-Za-z0-9]{1,8}$/.test(path) && !path.endsWith('.html');
}
