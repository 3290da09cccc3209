import { formatCodeFrame } from '../../core/problem/code-frame.js';
import type { Problem } from '../../core/problem/problem.js';
import { shownLines, shownText } from '../../core/text/shown-text.js';
import { colours as pc } from './colours.js';

/** The URL that opens a place in the editor: `line` and `column` count from 1. */
export type EditorUrl = (file: string, line: number, column: number) => string;

/**
 * A problem as text for a terminal: what, where, the code around it, and what to do. With `editorUrl`, places are links
 * in terminals that know them (OSC 8). Code is cut to `columns`, the rest may be wrapped.
 */
export function problemText(problem: Problem, editorUrl?: EditorUrl, columns?: number): string {
  const { message, file, position, frame, hint, chain, code } = problem;
  const [first = '', ...more] = shownLines(message);
  const mark = problem.severity === 'warning' ? pc.yellow('!') : pc.red('✖');
  const lines = [`${mark} ${pc.bold(first)} ${pc.dim(code)}`, ...more.map(continued)];
  const { line, column } = position ?? { line: 1, column: 0 };
  const link = (text: string, place: [string, number, number]) => (editorUrl ? linked(text, editorUrl(...place)) : text);
  const place = file === undefined ? '' : shownText(position ? `${file}:${line}:${column + 1}` : file);
  if (file) lines.push(`  ${link(pc.cyan(place), [file, line, column + 1])}`);
  if (frame) {
    for (const row of formatCodeFrame(frame, columns && columns - 2).split('\n'))
      lines.push(`  ${/^\s*│\s*\^+$/.test(row) ? pc.red(row) : shownText(row)}`);
  }
  if (hint) {
    const [start = '', ...rest] = shownLines(hint);
    lines.push(`  ${start}`, ...rest.map(continued));
  }
  // The chain of an error that a page threw is its stack, that of a build problem the way of imports.
  if (code === 'run-error') lines.push(...(chain ?? []).map((frame) => pc.dim(`  at ${shownText(frame)}`)));
  else if (chain && chain.length > 1) lines.push(pc.dim(`  from the page: ${shortened(chain).map(shownText).join(' → ')}`));
  return lines.join('\n');
}

/** A way of imports, without its middle where it's long. */
function shortened(chain: readonly string[]): readonly string[] {
  const ends = 5;
  if (chain.length <= 2 * ends + 1) return chain;
  return [...chain.slice(0, ends), `(${chain.length - 2 * ends} more)`, ...chain.slice(-ends)];
}

/** A further line of a text: the mark in front tells it from lines of ours. */
function continued(line: string): string {
  return `  ${pc.dim('┊')} ${line}`;
}

function linked(text: string, url: string): string {
  return `\u001b]8;;${url}\u0007${text}\u001b]8;;\u0007`;
}

/** Prints a problem that ends the command. */
export function printProblem(problem: Problem): void {
  process.stderr.write(`${problemText(problem)}\n`);
}
