/** A place in a text: `line` is 1-based, `column` is 0-based, both counted in UTF-16 code units. */
export interface Position {
  line: number;
  column: number;
}

/** Offsets at which the lines of `text` start; lines end at LF, CR LF, CR, U+2028 or U+2029 (ECMA-262, 12.3). */
export function lineStarts(text: string): number[] {
  const starts = [0];
  const ends = /\r\n|[\n\r\u2028\u2029]/g;
  while (ends.exec(text)) starts.push(ends.lastIndex);
  return starts;
}

/** The same for whoever counts LF alone, as most that write maps do. */
export function lineFeedStarts(text: string): number[] {
  const starts = [0];
  for (let at = text.indexOf('\n'); at !== -1; at = text.indexOf('\n', at + 1)) starts.push(at + 1);
  return starts;
}

/** The position of `offset` in a text whose lines start at `starts`. Offsets past the end fall on the last line. */
export function positionAt(starts: readonly number[], offset: number): Position {
  let low = 0;
  let high = starts.length - 1;
  while (low < high) {
    const middle = (low + high + 1) >> 1;
    if (starts[middle]! <= offset) low = middle;
    else high = middle - 1;
  }
  return { line: low + 1, column: Math.max(0, offset - starts[low]!) };
}

/** How many line ends `text` holds, which is the number by which it moves what follows it down. */
export function countLineEnds(text: string): number {
  let count = 0;
  for (let at = text.indexOf('\n'); at !== -1; at = text.indexOf('\n', at + 1)) count++;
  // CR alone and the two Unicode separators are rare: look for them only where they occur at all.
  if (text.includes('\r') || text.includes('\u2028') || text.includes('\u2029')) return lineStarts(text).length - 1;
  return count;
}
