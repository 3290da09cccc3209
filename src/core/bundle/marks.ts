import type { PrintedMember } from './print-member.js';
import type { Variable } from './scope.js';

/** Replaces the marks of a printed module by the names of its variables. `onName` is told of each. */
export function withNames(
  text: string,
  { mark, marked }: PrintedMember,
  onName?: (start: number, end: number, name: string) => void,
): string {
  if (marked.length === 0) return text;
  const escaped = mark.replace(/\$/g, '\\$');
  return text.replace(new RegExp(`${escaped}(\\d+)\\$`, 'g'), (found, index: string, start: number) => {
    const name = marked[Number(index)]!.name!;
    onName?.(start, start + found.length, name);
    return name;
  });
}

/** The variables behind the marks of a text, as often as they stand there. */
export function* marksIn(text: string, { mark, marked }: PrintedMember): Generator<Variable> {
  if (marked.length === 0) return;
  for (const [, index] of text.matchAll(new RegExp(`${mark.replace(/\$/g, '\\$')}(\\d+)\\$`, 'g'))) yield marked[Number(index)]!;
}
