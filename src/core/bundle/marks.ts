import type { PrintedMember } from './print-member.js';

/** A mark of a printed module: where it stands in a text, and the index of its variable. */
export interface Mark {
  start: number;
  end: number;
  index: number;
}

/** The marks in a text that was made of a printed module, in the order in which they stand there. */
export function marksIn(text: string, { mark, marked }: PrintedMember): Mark[] {
  const marks: Mark[] = [];
  if (marked.length === 0) return marks;
  for (let start = text.indexOf(mark); start !== -1; start = text.indexOf(mark, start + 1)) {
    const from = start + mark.length;
    const digits = text.indexOf('$', from);
    const number = digits === -1 ? '' : text.slice(from, digits);
    if (/^\d+$/.test(number)) marks.push({ start, end: digits + 1, index: Number(number) });
  }
  return marks;
}
