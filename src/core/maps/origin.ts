import { lineFeedStarts } from '../text/line-index.js';
import { Segments, segmentWidth } from './segments.js';

/** A map with its mappings as numbers. */
export interface OpenMap {
  sources: readonly (string | null)[];
  sourcesContent: readonly (string | null)[];
  names: readonly string[];
  /** See `Segments`. */
  segments: Int32Array;
  /** Sources over which the debugger should step. */
  ignored: readonly number[];
}

/** Where a place leads. Names are those of `Origin.names`; -1 for none, as for what leads nowhere. */
export interface Found {
  source: number;
  line: number;
  column: number;
  name: number;
}

/** What a text was made of: leads places in the text back to its sources. */
export interface Origin extends Omit<OpenMap, 'segments'> {
  /** Sets `found` to where a place leads. Returns whether anything is known of it. */
  find(line: number, column: number, found: Found): boolean;
}

/** What a map says of a text. */
export class MapOrigin implements Origin {
  readonly sources: readonly (string | null)[];
  readonly sourcesContent: readonly (string | null)[];
  readonly names: readonly string[];
  readonly ignored: readonly number[];
  readonly #segments: Int32Array;
  /** Place of the first segment of each line. */
  readonly #lines: Int32Array;

  constructor({ sources, sourcesContent, names, ignored, segments }: OpenMap) {
    this.sources = sources;
    this.sourcesContent = sourcesContent;
    this.names = names;
    this.ignored = ignored;
    this.#segments = segments;
    const lines = segments.length === 0 ? 0 : segments[segments.length - segmentWidth]! + 1;
    this.#lines = new Int32Array(lines + 1).fill(segments.length);
    let next = 0;
    for (let at = 0; at < segments.length; at += segmentWidth) while (next <= segments[at]!) this.#lines[next++] = at;
  }

  find(line: number, column: number, found: Found): boolean {
    if (line < 0 || line + 1 >= this.#lines.length) return false;
    const segments = this.#segments;
    // The last one that begins at the place or before it.
    let low = this.#lines[line]! / segmentWidth;
    let high = this.#lines[line + 1]! / segmentWidth;
    const first = low;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (segments[middle * segmentWidth + 1]! <= column) low = middle + 1;
      else high = middle;
    }
    if (low === first) return false;
    const at = (low - 1) * segmentWidth;
    found.source = segments[at + 2]!;
    found.line = segments[at + 3]!;
    found.column = segments[at + 4]!;
    found.name = segments[at + 5]!;
    return true;
  }
}

/** A text that is its own source. */
export class OwnOrigin implements Origin {
  readonly sources: readonly string[];
  readonly sourcesContent: readonly string[];
  readonly names = [];
  readonly ignored: readonly number[];

  constructor(source: string, text: string, isIgnored: boolean) {
    this.sources = [source];
    this.sourcesContent = [text];
    this.ignored = isIgnored ? [0] : [];
  }

  find(line: number, column: number, found: Found): boolean {
    found.source = 0;
    found.line = line;
    found.column = column;
    found.name = -1;
    return true;
  }
}

/** A text that some edits were made in, each from a place on. */
export interface EditedText {
  text: string;
  before: string;
  /** Segments from `text` to `before`, one at least where anything else begins, and for every line. */
  segments: Int32Array;
  names: readonly string[];
}

/** A text of which another one was made by edits. */
export class EditedOrigin implements Origin {
  readonly sources: readonly (string | null)[];
  readonly sourcesContent: readonly (string | null)[];
  readonly ignored: readonly number[];
  readonly names: readonly string[];
  readonly #below: Origin;
  readonly #edited: EditedText;
  readonly #map: MapOrigin;
  readonly #starts: readonly number[];
  readonly #startsBefore: readonly number[];
  readonly #at: Found = { source: 0, line: 0, column: 0, name: -1 };

  constructor(edited: EditedText, below: Origin) {
    this.#edited = edited;
    this.#below = below;
    this.sources = below.sources;
    this.sourcesContent = below.sourcesContent;
    this.ignored = below.ignored;
    this.names = [...below.names, ...edited.names];
    // The name of a segment has no use here, since what is looked for is where it begins: that stands in its place.
    this.#map = new MapOrigin({ sources: [], sourcesContent: [], names: [], ignored: [], segments: withStarts(edited.segments) });
    this.#starts = lineFeedStarts(edited.text);
    this.#startsBefore = lineFeedStarts(edited.before);
  }

  find(line: number, column: number, found: Found): boolean {
    const at = this.#at;
    if (!this.#map.find(line, column, at)) return false;
    const index = at.name * segmentWidth;
    const { segments, text, before } = this.#edited;
    const by = column - segments[index + 1]!;
    const name = segments[index + 5]!;
    // What wasn't edited goes on as far as the texts are the same.
    const isSame =
      by > 0 && name === -1 && text[this.#starts[line]! + column] === before[this.#startsBefore[at.line]! + at.column + by];
    if (!this.#below.find(at.line, isSame ? at.column + by : at.column, found)) return false;
    if (found.name === -1 && name !== -1) found.name = this.#below.names.length + name;
    return true;
  }
}

function withStarts(segments: Int32Array): Int32Array {
  const copy = segments.slice();
  for (let at = 0; at < copy.length; at += segmentWidth) copy[at + 5] = at / segmentWidth;
  return copy;
}

/**
 * Leads a map on to what the text it leads to was made of. Only the sources and names that are used stay. `names` are those of the
 * segments; what `origin` says of a name counts more.
 */
export function through(segments: Int32Array, names: readonly string[], origin: Origin): OpenMap {
  const made = new Segments(segments.length / segmentWidth || 1);
  const sources = new Picked();
  const usedNames = new Picked<string>();
  const found: Found = { source: -1, line: 0, column: 0, name: -1 };
  let last: readonly [line: number, source: number, sourceLine: number, sourceColumn: number, name: number] = [-1, -1, 0, 0, -1];
  for (let at = 0; at < segments.length; at += segmentWidth) {
    const line = segments[at]!;
    let source = -1;
    let name = -1;
    if (segments[at + 2] !== -1) {
      if (!origin.find(segments[at + 3]!, segments[at + 4]!, found)) continue;
      if (found.source !== -1) {
        source = sources.placeOf(found.source);
        if (found.name !== -1) name = usedNames.placeOf(origin.names[found.name]!);
        else if (segments[at + 5] !== -1) name = usedNames.placeOf(names[segments[at + 5]!]!);
      }
    }
    const isFirst = last[0] !== line;
    // One that says the same as the one before says nothing, nor does one that leads nowhere behind another such.
    if (source === -1 ? isFirst || last[1] === -1 : !isFirst && isRepeated(last, source, found, name)) continue;
    made.add(line, segments[at + 1]!, source, source === -1 ? 0 : found.line, source === -1 ? 0 : found.column, name);
    last = [line, source, found.line, found.column, name];
  }
  const used = sources.all;
  return {
    sources: used.map((index) => origin.sources[index]!),
    sourcesContent: used.map((index) => origin.sourcesContent[index] ?? null),
    names: usedNames.all,
    segments: made.numbers,
    ignored: used.flatMap((index, place) => (origin.ignored.includes(index) ? [place] : [])),
  };
}

function isRepeated(last: readonly number[], source: number, { line, column }: Found, name: number): boolean {
  return last[1] === source && last[2] === line && last[3] === column && last[4] === name;
}

/** Values in the order in which they were first asked for. */
class Picked<Value = number> {
  readonly all: Value[] = [];
  readonly #places = new Map<Value, number>();

  placeOf(value: Value): number {
    const known = this.#places.get(value);
    if (known !== undefined) return known;
    this.#places.set(value, this.all.length);
    return this.all.push(value) - 1;
  }
}
