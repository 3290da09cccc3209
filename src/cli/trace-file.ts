import { closeSync, openSync, writeSync } from 'node:fs';
import { VineError } from '../core/problem/problem.js';
import { Trace, type TraceEvent } from '../core/trace.js';

const writeAfterMs = 500;

/**
 * A trace that goes to a file in the Trace Event Format, as an array that is never closed, which the format allows: so the
 * file is complete whenever it's looked at.
 *
 * @throws VineError `trace-unwritable`.
 */
export function traceFile(path: string): { trace: Trace; close(): void } {
  let descriptor: number;
  try {
    descriptor = openSync(path, 'w');
  } catch (error) {
    throw new VineError(
      {
        code: 'trace-unwritable',
        message: `The trace cannot be written to ${path}: ${error instanceof Error ? error.message : String(error)}.`,
        hint: 'Give the path of a file in a folder that exists: --trace trace.json',
      },
      { cause: error },
    );
  }
  let waiting: TraceEvent[] = [];
  let timer: NodeJS.Timeout | undefined;
  let isClosed = false;
  writeSync(descriptor, '[\n');
  const write = () => {
    timer = undefined;
    if (!isClosed && waiting.length > 0) writeSync(descriptor, waiting.map((event) => `${JSON.stringify(event)},\n`).join(''));
    waiting = [];
  };
  const trace = new Trace((event) => {
    waiting.push(event);
    timer ??= setTimeout(write, writeAfterMs);
    timer.unref();
  });
  return {
    trace,
    close() {
      write();
      isClosed = true;
      closeSync(descriptor);
    },
  };
}
