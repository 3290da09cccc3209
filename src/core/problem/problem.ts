import { lineStarts, type Position, positionAt } from '../text/line-index.js';
import { type CodeFrameLine, codeFrame } from './code-frame.js';
import type { ProblemCode } from './codes.js';

/** Something wrong in what the user wrote. Data, not an exception, so that one bad module hides no other. */
export interface Problem {
  code: ProblemCode;
  severity: 'error' | 'warning';
  /** One clear sentence. */
  message: string;
  /** Path relative to the project, with `/`. */
  file?: string;
  position?: Position;
  frame?: CodeFrameLine[];
  /** What to do about it. */
  hint?: string;
  /** How the file got in, from the page to the importer. */
  chain?: string[];
}

/** Where in a text a problem is: the whole text and the offsets of what to underline. */
export interface ProblemPlace {
  file: string;
  text: string;
  start: number;
  end?: number;
}

/** Builds a problem that shows its place: position and code frame come from the text. */
export function problemAt(place: ProblemPlace, problem: Pick<Problem, 'code' | 'message' | 'hint'>): Problem {
  const starts = lineStarts(place.text);
  const position = positionAt(starts, place.start);
  const width = Math.max(1, (place.end ?? place.start + 1) - place.start);
  const { hint, ...rest } = problem;
  return {
    ...rest,
    severity: 'error',
    file: place.file,
    position,
    frame: codeFrame(place.text, starts, position, width),
    ...(hint === undefined ? {} : { hint }),
  };
}

/** An error that a user caused and can mend. The command line prints it without a stack trace. */
export class VineError extends Error {
  override readonly name = 'VineError';
  readonly problem: Problem;
  /** What else is wrong with the same. */
  readonly others: readonly Problem[];
  /** Absolute paths of files, of which a change may mend it, beside that of the problem. */
  madeOf: readonly string[] = [];

  constructor(
    problem: Omit<Problem, 'severity'> & { severity?: Problem['severity'] },
    options?: ErrorOptions,
    others: readonly Problem[] = [],
  ) {
    super(problem.message, options);
    this.problem = { severity: 'error', ...problem };
    this.others = others;
  }

  get problems(): Problem[] {
    return [this.problem, ...this.others];
  }

  get code(): ProblemCode {
    return this.problem.code;
  }
}
