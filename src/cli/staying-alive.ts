import type { Problem } from '../core/problem/problem.js';
import { printProblem } from './report/problem-text.js';
import type { Reporter } from './report/reporter.js';

/** What is left to do may take so long after the user has asked for the end. */
const closingMs = 1000;
const signals = ['SIGINT', 'SIGTERM', 'SIGHUP'] as const;
const mostTold = 200;

/** Tells of failures in the tool itself, each once, however often they come. */
export class Failures {
  readonly #reporter: Reporter;
  readonly #told = new Set<string>();

  constructor(reporter: Reporter) {
    this.#reporter = reporter;
  }

  /** `what` says on what it was, e.g. a request. */
  tell(what: string, error: unknown): void {
    const problem = failureProblem(what, error);
    const key = problem.code === 'internal-error' ? `${problem.hint}` : problem.message;
    if (this.#told.has(key) || this.#told.size >= mostTold) return;
    this.#told.add(key);
    this.#reporter.tell({ event: 'problem', problem });
  }
}

/** A failure as a problem: the user's own if it's one, else ours, with what is needed to report it. */
export function failureProblem(what: string, error: unknown): Problem {
  const known = (error as { problem?: Problem } | undefined)?.problem;
  if (known?.code !== undefined) return known;
  const { message, stack = '' } = error instanceof Error ? error : new Error(String(error));
  const where = stack.split('\n').filter((line) => /^\s+at /.test(line));
  return {
    code: 'internal-error',
    severity: 'error',
    message: `Vine Spark failed on ${what}: ${message}`,
    hint: `It goes on. Please report this, with what vine-spark --version says and these lines:\n${where.slice(0, 8).join('\n')}`,
  };
}

/** Errors that nothing caught are told, and the server goes on: what they broke is one answer or one build. */
export function goOnAfterErrors(tell: (error: unknown) => void): void {
  process.on('uncaughtException', tell);
  process.on('unhandledRejection', tell);
}

let close: (() => void) | undefined;

/** Ends the process in good order when it's asked to, and at once when it's asked again or nobody takes what it prints. */
export function closeOnSignals(closeAll: () => Promise<unknown>): void {
  let isClosing = false;
  const closeWith = (code: number) => {
    if (isClosing) process.exit(code === 0 ? 1 : code);
    isClosing = true;
    setTimeout(() => process.exit(code), closingMs);
    closeAll().then(
      () => process.exit(code),
      () => process.exit(code),
    );
  };
  close = () => closeWith(0);
  for (const signal of signals) process.on(signal, close);
}

/**
 * Does some work during which signals end the process by themselves: code of the user's that never ends would keep this
 * process from noticing them.
 */
export async function withPlainSignals<T>(work: () => Promise<T>): Promise<T> {
  await quietTurn();
  const handler = close;
  if (!handler) return work();
  if (plainWork++ === 0) for (const signal of signals) process.off(signal, handler);
  try {
    return await work();
  } finally {
    if (--plainWork === 0) for (const signal of signals) process.on(signal, handler);
  }
}

/**
 * Waits for a turn of the event loop in which nothing is done. A signal that has arrived and wasn't dispatched yet would be lost with
 * its handler, and in a turn it's dispatched before anything else was done only if it came before the turn did.
 */
async function quietTurn(): Promise<void> {
  for (let turn = 0; turn < mostTurns; turn++) {
    const from = performance.now();
    await new Promise((resolve) => setImmediate(resolve));
    // The first one may have begun long ago.
    if (turn > 0 && performance.now() - from < quietMs) return;
  }
}

const mostTurns = 100;
const quietMs = 0.5;

/** How much of such work is going on. */
let plainWork = 0;

/**
 * What is printed may find nobody: `| head -1` ends with its first line, and a disk may be full. There is nothing to be said
 * then, so the process ends.
 */
export function endWithOutput(): void {
  process.stderr.on('error', () => {});
  process.stdout.on('error', (error: NodeJS.ErrnoException) => {
    const isWanted = error.code === 'EPIPE';
    if (!isWanted)
      printProblem({
        code: 'output-unwritable',
        severity: 'error',
        message: `The output cannot be written (${error.code}).`,
        hint: 'Free some room, or let it go somewhere else.',
      });
    process.exit(isWanted ? 0 : 1);
  });
}
