import type { AdapterMessage } from '../core/translate/adapter.js';

/** What an error of the compiler says of its place. */
export interface Located {
  loc?: { start?: { line: number; column: number }; line?: number; column?: number };
}

/** An error that says all of what is wrong with a component. */
export function failures(errors: AdapterMessage[]): Error {
  return Object.assign(new Error(errors[0]!.message), { errors, problem: { code: 'component-invalid', message: '' } });
}

/** Where a block of a component begins. */
export function placeOf({ loc }: { loc: { start: { line: number; column: number } } }): { line: number; column: number } {
  return { line: loc.start.line, column: loc.start.column };
}

/** An error of the compiler as a message. */
export function messageOf(error: string | (Error & Located)): AdapterMessage {
  if (typeof error === 'string') return readMessage(error);
  const at = error.loc?.start;
  return { ...readMessage(error.message), ...(at ? { line: at.line, column: at.column } : {}) };
}

/** A message of the compiler without its own frame, from which the place is read where there is one. */
export function readMessage(text: string): AdapterMessage {
  const [first = ''] = text.split('\n');
  const message = first.replace(/^\[@?vue\/compiler-sfc\]\s*/, '').replace(/\s*\(\d+:\d+\)$/, '');
  const rows = text.split('\n');
  const at = rows.findIndex((row) => /^\s*\|\s*\^/.test(row));
  const line = /^(\d+)\s*\|/.exec(rows[at - 1] ?? '');
  if (!line) return { message };
  const start = rows[at - 1]!.indexOf('|') + 3;
  return { message, line: Number(line[1]), column: Math.max(1, rows[at]!.indexOf('^') - start + 1) };
}
