import type { Manifest } from '../../build/manifest.js';
import { shownText } from '../../core/text/shown-text.js';
import { colours as pc } from './colours.js';

export interface Size {
  raw: number;
  gzip: number;
  brotli: number;
}

export interface BuildTableInput {
  manifest: Manifest;
  /** By path in the output folder; only scripts and styles. */
  sizes: Readonly<Record<string, Size>>;
  modules: number;
  /** Files in the folder that are none of ours. */
  others: readonly string[];
  notes: readonly string[];
  ms: number;
  base: string;
  /** As it's shown. */
  folder: string;
}

/** What a page loads at first and what later, with sizes as they are and compressed. */
export function buildTable({ manifest, sizes, modules, others, notes, ms, base, folder }: BuildTableInput): string {
  const rows: [what: string, size: Size | undefined][] = [];
  const atFirst = new Set<string>();
  for (const [page, { scripts, styles }] of Object.entries(manifest.pages)) {
    const paths = [...scripts, ...styles].map((url) => url.slice(base.length));
    for (const path of paths) atFirst.add(path);
    rows.push([pc.bold(shownText(page)), sum(paths.flatMap((path) => sizes[path] ?? []))]);
    for (const path of paths) rows.push([`  ${shownText(path)}`, sizes[path]]);
  }
  const later = Object.keys(sizes).filter((path) => !atFirst.has(path));
  if (later.length > 0) rows.push([pc.bold('later'), sum(later.flatMap((path) => sizes[path] ?? []))]);
  for (const path of later) rows.push([`  ${shownText(path)}`, sizes[path]]);
  const width = Math.max(...rows.map(([what]) => plainLength(what))) + 2;
  const cell = (bytes: number | undefined) => (bytes === undefined ? '' : kilobytes(bytes)).padStart(10);
  const head = `  ${' '.repeat(width)}${pc.dim('size'.padStart(10) + 'gzip'.padStart(10) + 'brotli'.padStart(10))}`;
  const lines = rows.map(
    ([what, size]) =>
      `  ${what}${' '.repeat(width - plainLength(what))}${cell(size?.raw)}${cell(size?.gzip)}${cell(size?.brotli)}`,
  );
  const count = Object.keys(manifest.files).length;
  const end = `  ${pc.bold(shownText(folder))}  ${modules} modules in ${count} files after ${ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`}`;
  const kept =
    others.length > 0
      ? [
          `  ${pc.yellow(`${others.length === 1 ? 'One file there is' : `${others.length} files there are`} of others and ${others.length === 1 ? 'stays' : 'stay'}:`)} ${shownText(others.slice(0, 5).join(', '))}`,
        ]
      : [];
  return `${['', head, ...lines, '', end, ...kept, ...notes.map((note) => `  ${pc.yellow(shownText(note))}`), ''].join('\n')}\n`;
}

function sum(sizes: readonly Size[]): Size {
  const total = { raw: 0, gzip: 0, brotli: 0 };
  for (const { raw, gzip, brotli } of sizes) {
    total.raw += raw;
    total.gzip += gzip;
    total.brotli += brotli;
  }
  return total;
}

function kilobytes(bytes: number): string {
  return bytes < 1_000_000 ? `${(bytes / 1000).toFixed(bytes < 10_000 ? 2 : 1)} kB` : `${(bytes / 1_000_000).toFixed(2)} MB`;
}

/** The length of a text without escapes for colours. */
function plainLength(text: string): number {
  return text.replace(/\u001b\[[\d;]*m/g, '').length;
}
