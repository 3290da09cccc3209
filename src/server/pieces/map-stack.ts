import { type Problem, problemAt } from '../../core/problem/problem.js';
import { lineStarts } from '../../core/text/line-index.js';

/** One line of a stack as browsers write it: `line` counts from 1, `column` from 0. */
export interface StackFrame {
  name: string;
  url: string;
  line: number;
  column: number;
}

/** A place in a source: `line` counts from 1, `column` from 0. */
export interface Origin {
  /** Id of the module. */
  file: string;
  source: string;
  line: number;
  column: number;
}

/** What mapping needs of the server: where a place in one of our scripts comes from, if that is code of the user's. */
export type OriginOf = (frame: StackFrame) => Promise<Origin | undefined>;

/** Reads the frames of `Error.stack`, in Chromium's notation or in that of Firefox and Safari. */
export function readStack(stack: string): StackFrame[] {
  const frames: StackFrame[] = [];
  for (const row of stack.split('\n', mostRows)) {
    // Whatever a page calls a stack: no row of a real one is as long.
    if (row.length > longestRow) continue;
    const match = /^\s*at (?:(?:async )?(.*?) \()?(\S+?):(\d+):(\d+)\)?$/.exec(row) ?? /^(.*?)@(\S+?):(\d+):(\d+)$/.exec(row);
    if (match) frames.push({ name: match[1] ?? '', url: match[2]!, line: Number(match[3]), column: Number(match[4]) - 1 });
  }
  return frames;
}

/** Of a stack that a page sends. */
const mostRows = 100;
const longestRow = 2000;

/** The error as a problem at its place in the user's source, with the stack's own frames as its chain. */
export async function mapError({ message, stack }: { message: string; stack: string }, originOf: OriginOf): Promise<Problem> {
  const problem: Problem = { code: 'run-error', severity: 'error', message };
  let first: Origin | undefined;
  const chain: string[] = [];
  for (const frame of readStack(stack)) {
    const origin = await originOf(frame);
    if (!origin) continue;
    first ??= origin;
    chain.push(`${frame.name || '(top)'} ${origin.file}:${origin.line}:${origin.column + 1}`);
  }
  if (!first) return problem;
  const { file, source, line, column } = first;
  const place = { file, text: source, start: (lineStarts(source)[line - 1] ?? 0) + column };
  return { ...problemAt(place, { code: 'run-error', message }), chain };
}
