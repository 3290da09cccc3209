import { packageOf } from '../core/module-id.js';
import { plain } from './limits.js';
import { loadsOf } from './loads.js';
import type { Manifest } from './manifest.js';
import type { BuildResult } from './options.js';

/** Sizes in bytes. */
export interface Size {
  raw: number;
  gzip: number;
  brotli: number;
}

/** Some files with their sizes, and how much more they are than in the last build, compressed with gzip; `undefined` where there was none. */
export interface LoadSummary extends Size {
  files: ({ path: string; change: number | undefined } & Size)[];
  change: number | undefined;
}

export interface PageSummary {
  page: string;
  /** What it loads at first. */
  first: LoadSummary;
  /** What `import()`s and workers may bring. */
  later: LoadSummary;
}

/** What a build came to, in numbers. */
export interface BuildSummary {
  pages: PageSummary[];
  /** The largest packages, and the application itself, with the bytes that are in scripts of theirs. */
  packages: { name: string; bytes: number }[];
  modules: number;
  files: number;
  total: Size;
}

/** Adds up what a build wrote. */
export async function summarise({ manifest, texts, compressed, before, modules, sizes }: BuildResult): Promise<BuildSummary> {
  const sizeOf = new Map<string, Size>();
  await Promise.all(
    texts.map(async (path) => {
      const { bytes, gzip = await compressed.gzip(path) } = manifest.files[path]!;
      sizeOf.set(path, { raw: bytes, gzip, brotli: await compressed.brotli(path) });
    }),
  );
  const last = before && lastSizes(before);
  const loadOf = (urls: readonly string[], page: string): LoadSummary => {
    const files = urls.flatMap((url) => {
      const path = url.slice(manifest.base.length);
      const size = sizeOf.get(path);
      return size ? [{ path, ...size, change: last && size.gzip - (last.files.get(plain(path)) ?? 0) }] : [];
    });
    const was = before && loadsOf(before)[page];
    const change = last && was ? files.reduce((sum, { change: by }) => sum + (by ?? 0), 0) : undefined;
    return { ...sum(files), files, change };
  };
  const pages = Object.entries(loadsOf(manifest)).map(([page, { scripts, styles, later }]) => ({
    page,
    first: loadOf([...scripts, ...styles], page),
    later: loadOf(later, page),
  }));
  return {
    pages,
    packages: largestPackages(sizes),
    modules,
    files: Object.keys(manifest.files).length,
    total: sum([...sizeOf.values()]),
  };
}

/** Sizes of the last build's files by their names without hashes. */
function lastSizes({ files }: Manifest): { files: Map<string, number> } {
  const sizes = new Map<string, number>();
  for (const [path, { gzip: size = 0 }] of Object.entries(files))
    sizes.set(plain(path), Math.max(size, sizes.get(plain(path)) ?? 0));
  return { files: sizes };
}

const mostPackages = 5;

function largestPackages(sizes: ReadonlyMap<string, number>): BuildSummary['packages'] {
  const byPackage = new Map<string, number>();
  for (const [id, bytes] of sizes) {
    const name = packageOf(id);
    if (name !== undefined) byPackage.set(name, (byPackage.get(name) ?? 0) + bytes);
  }
  const all = [...byPackage].map(([name, bytes]) => ({ name, bytes }));
  return all.sort((a, b) => b.bytes - a.bytes || (a.name < b.name ? -1 : 1)).slice(0, mostPackages);
}

function sum(sizes: readonly Size[]): Size {
  const total = { raw: 0, gzip: 0, brotli: 0 };
  for (const { raw, gzip: small, brotli } of sizes) {
    total.raw += raw;
    total.gzip += small;
    total.brotli += brotli;
  }
  return total;
}
