import { readFileSync } from 'node:fs';
import { isAbsolute } from 'node:path';
import { fileURLToPath } from 'node:url';
import { type Problem, problemAt, VineError } from '../../core/problem/problem.js';

export interface SassFailure {
  sassMessage?: string;
  span?: { url?: URL; start: { offset: number }; end: { offset: number } };
}

export interface CssFailure {
  reason?: string;
  input?: { offset?: number; line?: number; column?: number };
  line?: number;
  column?: number;
  specifier?: string;
  problem?: Pick<Problem, 'code' | 'message' | 'hint'>;
  /** The configuration file that is at fault. */
  configFile?: string;
}

export function styleProblem(
  error: unknown,
  { id, file, source }: { id: string; file: string; source: string },
  files: { mayRead(path: string): boolean; idOf(path: string): string },
): Problem {
  const { configFile: failed } = error as CssFailure;
  if (error instanceof VineError && failed === undefined) return error.problems[0]!;
  const { sassMessage, span } = error as SassFailure;
  if (sassMessage !== undefined && span) {
    const other = span.url?.protocol === 'file:' && fileURLToPath(span.url) !== file ? fileURLToPath(span.url) : undefined;
    // Not even the line with the mistake is shown of a file that isn't to be read.
    if (other !== undefined && !files.mayRead(other))
      return problemAt(
        { file: id, text: source, start: 0 },
        { code: 'file-outside', message: `${id} leads out of the project, to ${other}.` },
      );
    const text = other ? readFileSync(other, 'utf8') : source;
    return problemAt(
      { file: other ? files.idOf(other) : id, text, start: span.start.offset, end: span.end.offset },
      { code: 'syntax-error', message: ended(sassMessage) },
    );
  }
  const { reason, line, column, specifier, problem, configFile } = error as CssFailure;
  if (configFile !== undefined) {
    const why = error instanceof Error ? error.message.split('\n')[0]! : String(error);
    return {
      code: 'settings-unreadable',
      severity: 'error',
      file: configFile,
      ...placeOf(error, files.idOf),
      message: ended(`${configFile} cannot be used for style sheets: ${why}`),
      hint: 'It holds, or may hold, the configuration of PostCSS; correct it, and the sheets are made.',
    };
  }
  const message = ended(reason ?? (error instanceof Error ? error.message.split('\n')[0]! : String(error)));
  const start = specifier ? Math.max(0, source.indexOf(specifier)) : offsetOf(source, line ?? 1, column ?? 1);
  return problemAt(
    { file: id, text: source, start, end: start + (specifier?.length ?? 1) },
    problem ?? { code: specifier ? 'import-unresolved' : 'syntax-error', message },
  );
}

/** Where in a configuration, or in a part of it, something is wrong. */
function placeOf(error: unknown, idOf: (path: string) => string): Pick<Problem, 'file' | 'position' | 'frame'> {
  if (!(error instanceof VineError) || error.problem.file === undefined) return {};
  const { file, position, frame } = error.problem;
  return { file: isAbsolute(file) ? idOf(file) : file, ...(position && frame ? { position, frame } : {}) };
}

export function offsetOf(text: string, line: number, column: number): number {
  return (
    text
      .split('\n')
      .slice(0, line - 1)
      .reduce((sum, row) => sum + row.length + 1, 0) +
    column -
    1
  );
}

export function ended(message: string): string {
  return /[.!?]$/.test(message) ? message : `${message}.`;
}
