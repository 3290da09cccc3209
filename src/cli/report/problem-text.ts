import pc from 'picocolors';
import { formatCodeFrame } from '../../core/code-frame.js';
import type { Problem } from '../../core/problem.js';

/** A problem as text for a terminal: what, where, the code around it, and what to do. */
export function problemText(problem: Problem): string {
  const { message, file, position, frame, hint, chain, code } = problem;
  const lines = [`${pc.red('✖')} ${pc.bold(message)} ${pc.dim(code)}`];
  if (file) lines.push(`  ${pc.cyan(position ? `${file}:${position.line}:${position.column + 1}` : file)}`);
  if (frame) {
    for (const line of formatCodeFrame(frame).split('\n')) lines.push(`  ${/^\s*│\s*\^+$/.test(line) ? pc.red(line) : line}`);
  }
  if (hint) lines.push(`  ${hint}`);
  // The chain of an error that a page threw is its stack, that of a build problem the way of imports.
  if (code === 'run-error') lines.push(...(chain ?? []).map((frame) => pc.dim(`  at ${frame}`)));
  else if (chain && chain.length > 1) lines.push(pc.dim(`  from the page: ${chain.join(' → ')}`));
  return lines.join('\n');
}

/** Prints a problem that ends the command. */
export function printProblem(problem: Problem): void {
  process.stderr.write(`${problemText(problem)}\n`);
}
