import { segmentWidth } from './segments.js';
import { putVlq, vlq } from './vlq.js';

/**
 * Mappings of a part of a text, written so that they can stand behind others: in what is written, numbers count from the ones before
 * (ECMA-426, 9.2), so that only the first place in a source and the first name depend on those.
 */
export interface PartedMappings {
  /** What stands in front of the first place in a source. */
  head: string;
  first: { source: number; line: number; column: number } | undefined;
  /** What stands between that and the first name. */
  middle: string;
  firstName: number | undefined;
  tail: string;
  /** Line on which the last segment stands, from 0. */
  lines: number;
  /** The last place and the last name. */
  last: { source: number; line: number; column: number; name: number };
}

const comma = 44;
const semicolon = 59;
const roomOfPart = 1 << 16;
/** Five numbers of seven digits at most, and what stands in front of them. */
const longestSegment = 40;
const room = Buffer.alloc(roomOfPart);

/** Writes segments (see `Segments`) apart from what stands before them. */
export function partedMappings(numbers: Int32Array): PartedMappings {
  let [head, middle, text] = ['', '', ''];
  let first: PartedMappings['first'];
  let firstName: number | undefined;
  let length = 0;
  let line = 0;
  let column = 0;
  let source = 0;
  let sourceLine = 0;
  let sourceColumn = 0;
  let name = 0;
  let isFirst = true;
  /** What was written since it was taken last. */
  const take = () => {
    const all = text + room.toString('latin1', 0, length);
    text = '';
    length = 0;
    return all;
  };
  for (let at = 0; at < numbers.length; at += segmentWidth) {
    for (; line < numbers[at]!; line++) {
      if (length + longestSegment > roomOfPart) text = take();
      room[length++] = semicolon;
      column = 0;
      isFirst = true;
    }
    if (length + longestSegment > roomOfPart) text = take();
    if (!isFirst) room[length++] = comma;
    isFirst = false;
    length = putVlq(room, length, numbers[at + 1]! - column);
    column = numbers[at + 1]!;
    if (numbers[at + 2] === -1) continue;
    if (first === undefined) {
      head = take();
      first = { source: numbers[at + 2]!, line: numbers[at + 3]!, column: numbers[at + 4]! };
    } else {
      length = putVlq(room, length, numbers[at + 2]! - source);
      length = putVlq(room, length, numbers[at + 3]! - sourceLine);
      length = putVlq(room, length, numbers[at + 4]! - sourceColumn);
    }
    source = numbers[at + 2]!;
    sourceLine = numbers[at + 3]!;
    sourceColumn = numbers[at + 4]!;
    if (numbers[at + 5] === -1) continue;
    if (firstName === undefined) {
      middle = take();
      firstName = numbers[at + 5]!;
    } else length = putVlq(room, length, numbers[at + 5]! - name);
    name = numbers[at + 5]!;
  }
  const last = { source, line: sourceLine, column: sourceColumn, name };
  return { head, first, middle, firstName, tail: take(), lines: line, last };
}

/** Mappings of a text that is made of parts, each on lines of its own. */
export class JoinedMappings {
  #text = '';
  #line = 0;
  #last: PartedMappings['last'] = { source: 0, line: 0, column: 0, name: 0 };

  /** All that was added, as it stands in a map. */
  get text(): string {
    return this.#text;
  }

  /** Appends a part that begins at `line`. Its sources and names are counted from `sources` and `names` on. */
  add(parted: PartedMappings, { line, sources, names }: { line: number; sources: number; names: number }): void {
    const { head, first, middle, firstName, tail, lines, last } = parted;
    const before = this.#last;
    let text = ';'.repeat(line - this.#line) + head;
    this.#line = line + lines;
    if (first) {
      text += vlqs(first.source + sources - before.source, first.line - before.line, first.column - before.column);
      const name = firstName === undefined ? before.name : last.name + names;
      this.#last = { source: last.source + sources, line: last.line, column: last.column, name };
    }
    if (firstName !== undefined) text += middle + vlqs(firstName + names - before.name);
    this.#text += text + tail;
  }
}

/** Writes mappings. */
export function writeMappings(numbers: Int32Array): string {
  const joined = new JoinedMappings();
  joined.add(partedMappings(numbers), { line: 0, sources: 0, names: 0 });
  return joined.text;
}

function vlqs(...values: number[]): string {
  return values.map(vlq).join('');
}
