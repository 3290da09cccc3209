import pc from 'picocolors';
import { formatCodeFrame } from '../../core/code-frame.js';
import type { Problem } from '../../core/problem.js';

/** The URL that opens a place in the editor: `line` and `column` count from 1. */
export type EditorUrl = (file: string, line: number, column: number) => string;

/**
 * A problem as text for a terminal: what, where, the code around it, and what to do. With `editorUrl`, places are links
 * in terminals that know them (OSC 8).
 */
export function problemText(problem: Problem, editorUrl?: EditorUrl): string {
  const { message, file, position, frame, hint, chain, code } = problem;
  const lines = [`${pc.red('✖')} ${pc.bold(message)} ${pc.dim(code)}`];
  const { line, column } = position ?? { line: 1, column: 0 };
  const link = (text: string, place: [string, number, number]) => (editorUrl ? linked(text, editorUrl(...place)) : text);
  if (file) lines.push(`  ${link(pc.cyan(position ? `${file}:${line}:${column + 1}` : file), [file, line, column + 1])}`);
  if (frame) {
    for (const row of formatCodeFrame(frame).split('\n')) lines.push(`  ${/^\s*│\s*\^+$/.test(row) ? pc.red(row) : row}`);
  }
  if (hint) lines.push(`  ${hint}`);
  // The chain of an error that a page threw is its stack, that of a build problem the way of imports.
  if (code === 'run-error') lines.push(...(chain ?? []).map((frame) => pc.dim(`  at ${frame}`)));
  else if (chain && chain.length > 1) lines.push(pc.dim(`  from the page: ${chain.join(' → ')}`));
  return lines.join('\n');
}

function linked(text: string, url: string): string {
  return `\u001b]8;;${url}\u0007${text}\u001b]8;;\u0007`;
}

/** Prints a problem that ends the command. */
export function printProblem(problem: Problem): void {
  process.stderr.write(`${problemText(problem)}\n`);
}
