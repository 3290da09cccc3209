import { relative, resolve, sep } from 'node:path';
import { type Problem, problemAt } from '../core/problem/problem.js';
import { lineStarts } from '../core/text/line-index.js';

/** One line of the compiler's plain output. */
const located = /^(.+?)\((\d+),(\d+)\): (error|warning) (TS\d+): (.*)$/;
const unlocated = /^(error|warning) (TS\d+): (.*)$/;

/**
 * Reads what TypeScript's compiler prints with `--pretty false`, from version 5 to 7. `root` is the project's folder, `cwd` where
 * the compiler ran, `readText` gives a file's text, so that problems have frames.
 */
export function readTypeProblems(
  output: string,
  { root, cwd, readText }: { root: string; cwd: string; readText(file: string): string | undefined },
): Problem[] {
  const problems: Problem[] = [];
  for (const line of output.split(/\r?\n/)) {
    const match = located.exec(line);
    if (match) {
      const [, path = '', row, column, severity, code, message = ''] = match;
      const file = resolve(cwd, path);
      const id = relative(root, file).split(sep).join('/');
      const told = { code: 'type-error', message: `${message} (${code})` } as const;
      const text = readText(file);
      const start = text === undefined ? undefined : (lineStarts(text)[Number(row) - 1] ?? 0) + Number(column) - 1;
      const problem: Problem =
        start === undefined
          ? { ...told, severity: 'error', file: id, position: { line: Number(row), column: Number(column) - 1 } }
          : problemAt({ file: id, text: text!, start, end: wordEnd(text!, start) }, told);
      problems.push({ ...problem, severity: severity === 'error' ? 'error' : 'warning' });
      continue;
    }
    const general = unlocated.exec(line);
    if (general) problems.push({ code: 'type-error', severity: 'error', message: `${general[3]} (${general[2]})` });
    // What stands indented below explains it further.
    else if (/^ {2}\S/.test(line) && problems.length > 0) {
      const last = problems.at(-1)!;
      if ((last.hint ?? '').length < 600) last.hint = `${last.hint === undefined ? '' : `${last.hint} `}${line.trim()}`;
    }
  }
  return problems;
}

function wordEnd(text: string, start: number): number {
  const word = /^[\w$]+/.exec(text.slice(start, start + 200));
  return start + (word?.[0].length ?? 1);
}
