import { kilobytes } from '../../build/limits.js';
import type { BuildSummary, LoadSummary, Size } from '../../build/summary.js';
import { shownText } from '../../core/text/shown-text.js';
import { colours as pc } from './colours.js';

export interface BuildTableInput {
  summary: BuildSummary;
  /** Files in the folder that are none of ours. */
  others: readonly string[];
  notes: readonly string[];
  /** The last build was put in place again. */
  unchanged: boolean;
  ms: number;
  /** As it's shown. */
  folder: string;
  /** The page that shows what is in each file, where one was written. */
  report: string | undefined;
}

interface Row {
  what: string;
  size?: Size | undefined;
  change?: number | undefined;
  isHead?: boolean;
}

/** What each page loads at first and what later, with sizes as they are and compressed, and what changed since the last build. */
export function buildTable({ summary, others, notes, unchanged, ms, folder, report }: BuildTableInput): string {
  const rows: Row[] = [];
  for (const { page, first, later } of summary.pages) {
    rows.push({ what: shownText(page), size: first, change: first.change, isHead: true }, ...filesOf(first));
    if (later.files.length > 0) rows.push({ what: '  later', size: later, change: later.change }, ...filesOf(later, '    '));
  }
  const width = Math.max(...rows.map(({ what }) => what.length), 20) + 2;
  const head = `  ${' '.repeat(width)}${pc.dim(['size', 'gzip', 'brotli', 'change'].map((name) => name.padStart(10)).join(''))}`;
  const lines = rows.map(({ what, size, change, isHead }) => {
    const name = isHead ? pc.bold(what) : what;
    const cells = size ? [size.raw, size.gzip, size.brotli].map((bytes) => kilobytes(bytes).padStart(10)).join('') : '';
    return `  ${name}${' '.repeat(width - what.length)}${cells}${changeText(change)}`;
  });
  const { packages, modules, files } = summary;
  const largest =
    packages.length > 0
      ? [
          `  ${pc.dim('largest packages')}  ${packages.map(({ name, bytes }) => `${shownText(name)} ${kilobytes(bytes)}`).join(', ')}`,
        ]
      : [];
  const counts = `${modules} module${modules === 1 ? '' : 's'} in ${files} file${files === 1 ? '' : 's'}`;
  const end = `  ${pc.bold(shownText(folder))}  ${counts}${unchanged ? ', unchanged since the last build,' : ''} after ${ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`}`;
  return `${['', head, ...lines, '', ...largest, end, ...(report === undefined ? [] : [`  ${pc.bold(shownText(report))}  ${pc.dim('what is in it, and why')}`]), ...keptLines(others), ...notes.map((note) => `  ${pc.yellow(shownText(note))}`), ''].join('\n')}\n`;
}

/** One line for a build after a change. */
export function rebuiltLine(summary: BuildSummary, ms: number): string {
  const changes = summary.pages.flatMap(({ page, first, later }) => {
    const by = (first.change ?? 0) + (later.change ?? 0);
    return by === 0 ? [] : [`${shownText(page)} ${signed(by)}`];
  });
  const time = ms < 1000 ? `${Math.round(ms)} ms` : `${(ms / 1000).toFixed(1)} s`;
  return `  ${pc.green('built')} after ${time}${changes.length > 0 ? `  ${pc.dim(`${changes.join(', ')}, gzip`)}` : ''}\n`;
}

function filesOf({ files }: LoadSummary, inset = '  '): Row[] {
  return files.map(({ path, change, ...size }) => ({ what: `${inset}${shownText(path)}`, size, change }));
}

function changeText(change: number | undefined): string {
  if (change === undefined || change === 0) return '';
  const text = signed(change).padStart(10);
  return change > 0 ? pc.yellow(text) : pc.green(text);
}

function signed(bytes: number): string {
  return `${bytes > 0 ? '+' : '−'}${kilobytes(Math.abs(bytes))}`;
}

function keptLines(others: readonly string[]): string[] {
  if (others.length === 0) return [];
  const isOne = others.length === 1;
  const what = `${isOne ? 'One file there is' : `${others.length} files there are`} of others and ${isOne ? 'stays' : 'stay'}:`;
  return [`  ${pc.yellow(what)} ${shownText(others.slice(0, 5).join(', '))}`];
}
