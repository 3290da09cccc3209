import { digitOf } from './vlq.js';

/** Numbers of a segment in a list: its line and column, the source or -1, line and column there, the name or -1. All from 0. */
export const segmentWidth = 6;

/**
 * Mappings as one list of numbers, in the order of the text (ECMA-426, 9.2): a map of a large script has hundreds of thousands of
 * segments, which cost several times as much memory and time as objects.
 */
export class Segments {
  #numbers: Int32Array;
  /** How many segments there are. */
  count = 0;

  constructor(room = 64) {
    this.#numbers = new Int32Array(room * segmentWidth);
  }

  /** The numbers of all segments. */
  get numbers(): Int32Array {
    return this.#numbers.subarray(0, this.count * segmentWidth);
  }

  /** Appends a segment. */
  add(line: number, column: number, source: number, sourceLine: number, sourceColumn: number, name: number): void {
    let at = this.count++ * segmentWidth;
    if (at + segmentWidth > this.#numbers.length) {
      const larger = new Int32Array(this.#numbers.length * 2);
      larger.set(this.#numbers);
      this.#numbers = larger;
    }
    const numbers = this.#numbers;
    numbers[at++] = line;
    numbers[at++] = column;
    numbers[at++] = source;
    numbers[at++] = sourceLine;
    numbers[at++] = sourceColumn;
    numbers[at] = name;
  }
}

const comma = 44;
const semicolon = 59;

/** Reads mappings. Those of a line come in the order of their columns, whatever the order in which they stand. */
export function readMappings(mappings: string): Int32Array {
  const segments = new Segments(mappings.length >> 3 || 1);
  const { length } = mappings;
  let line = 0;
  let column = 0;
  let source = 0;
  let sourceLine = 0;
  let sourceColumn = 0;
  let name = 0;
  let last = 0;
  let isInOrder = true;
  // How many numbers of a segment were read, and what was read of the next one.
  let fields = 0;
  let value = 0;
  let shift = 0;
  for (let at = 0; at <= length; at++) {
    const code = at < length ? mappings.charCodeAt(at) : semicolon;
    if (code === comma || code === semicolon) {
      if (fields >= 4) segments.add(line, column, source, sourceLine, sourceColumn, fields > 4 ? name : -1);
      else if (fields > 0) segments.add(line, column, -1, 0, 0, -1);
      if (column < last) isInOrder = false;
      last = column;
      fields = 0;
      if (code === semicolon) {
        line++;
        column = 0;
        last = 0;
      }
      continue;
    }
    const digit = digitOf[code]!;
    value += (digit & 31) << shift;
    if (digit >= 32) {
      shift += 5;
      continue;
    }
    const number = value & 1 ? -(value >>> 1) : value >>> 1;
    value = 0;
    shift = 0;
    if (fields === 0) column += number;
    else if (fields === 1) source += number;
    else if (fields === 2) sourceLine += number;
    else if (fields === 3) sourceColumn += number;
    else name += number;
    fields++;
  }
  return isInOrder ? segments.numbers : inOrder(segments.numbers);
}

function inOrder(numbers: Int32Array): Int32Array {
  const places = Array.from({ length: numbers.length / segmentWidth }, (_, index) => index * segmentWidth);
  places.sort((a, b) => numbers[a]! - numbers[b]! || numbers[a + 1]! - numbers[b + 1]!);
  return Int32Array.from(places.flatMap((place) => [...numbers.subarray(place, place + segmentWidth)]));
}
