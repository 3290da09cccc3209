import { lazily } from '../../core/lazily.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { lineStarts } from '../../core/text/line-index.js';
import type { AdapterPart } from '../../core/translate/adapter.js';

const traceMapping = lazily<typeof import('@jridgewell/trace-mapping')>('@jridgewell/trace-mapping');

/** What is wrong where a file has no such part, or one of a kind that is no module. */
export function partGone(file: string, part: string): Problem {
  return {
    code: 'import-unresolved',
    severity: 'error',
    file,
    message: `${file} has no part '${part}' that can be a module.`,
  };
}

/** A problem of a part of a file, at its place in the whole file. */
export function relocated(problem: Problem, part: Pick<AdapterPart, 'map'>, { id, text }: { id: string; text: string }): Problem {
  const { position, code, message, hint, frame, ...rest } = problem;
  if (!position) return { ...problem, file: id };
  let { line, column } = position;
  if (part.map) {
    const { originalPositionFor, TraceMap } = traceMapping();
    const found = originalPositionFor(new TraceMap(part.map as never), { line, column });
    if (found.line !== null) ({ line, column } = found);
  }
  const start = (lineStarts(text)[line - 1] ?? 0) + column;
  const mark = frame?.find((row) => row.mark)?.mark;
  const end = start + (mark ? mark.to - mark.from : 1);
  return {
    ...rest,
    ...problemAt({ file: id, text, start, end }, { code, message, ...(hint ? { hint } : {}) }),
    severity: problem.severity,
  };
}
