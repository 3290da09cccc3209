import type { Problem } from '../core/problem/problem.js';
import { loadsOf } from './loads.js';
import type { Manifest } from './manifest.js';

/** Sizes that a build must not exceed, in bytes, compressed with gzip. */
export interface Limits {
  /** What a page loads at first. */
  firstLoad?: number | undefined;
  /** What it may load later. */
  later?: number | undefined;
}

/** The size of some files, compressed with gzip. */
export function gzipOf({ files, base }: Manifest, urls: readonly string[]): number {
  return urls.reduce((sum, url) => sum + (files[url.slice(base.length)]?.gzip ?? 0), 0);
}

/** The problems of pages that load more than they may, with what grew since the last build. */
export function checkLimits(limits: Limits, manifest: Manifest, before: Manifest | undefined): Problem[] {
  const problems: Problem[] = [];
  for (const [page, { scripts, styles, later }] of Object.entries(loadsOf(manifest))) {
    const kinds = [
      { limit: limits.firstLoad, urls: [...scripts, ...styles], what: 'loads at first' },
      { limit: limits.later, urls: later, what: 'may load later' },
    ];
    for (const { limit, urls, what } of kinds) {
      const size = gzipOf(manifest, urls);
      if (limit === undefined || size <= limit) continue;
      const grown = whatGrew(manifest, before, urls);
      problems.push({
        code: 'limit-exceeded',
        severity: 'error',
        file: page,
        message: `${page} ${what} ${kilobytes(size)}, compressed, and the limit is ${kilobytes(limit)}.`,
        hint: `${grown} Load some of it later with import(), or raise output.limits.`,
      });
    }
  }
  return problems;
}

/** The files that make the most of the difference to the last build, or of the whole. */
function whatGrew(manifest: Manifest, before: Manifest | undefined, urls: readonly string[]): string {
  const old = new Map<string, number>();
  for (const [path, { gzip = 0 }] of Object.entries(before?.files ?? {}))
    old.set(plain(path), (old.get(plain(path)) ?? 0) + gzip);
  const grown = urls
    .map((url) => url.slice(manifest.base.length))
    .map((path) => ({ path, by: (manifest.files[path]?.gzip ?? 0) - (old.get(plain(path)) ?? 0) }))
    .filter(({ by }) => by > 0)
    .sort((a, b) => b.by - a.by)
    .slice(0, 3);
  const list = grown.map(({ path, by }) => `${plain(path).replace(/^assets\//, '')} by ${kilobytes(by)}`).join(', ');
  if (list === '') return 'Nothing grew since the last build.';
  return before ? `Since the last build grew: ${list}.` : `The most of it: ${list.replaceAll(' by ', ' with ')}.`;
}

/** A path without its hash. */
export function plain(path: string): string {
  return path.replace(/-[0-9a-f]{10}(\.\w+)$/, '$1');
}

/** A size as people read it. */
export function kilobytes(bytes: number): string {
  return bytes < 1_000_000 ? `${(bytes / 1000).toFixed(bytes < 10_000 ? 2 : 1)} kB` : `${(bytes / 1_000_000).toFixed(2)} MB`;
}
