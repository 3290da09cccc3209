import type { Shift } from '../link/edits.js';
import { grouped } from '../text/grouped.js';
import { lineStarts } from '../text/line-index.js';
import { digitOf, vlq } from './vlq.js';

/** Words that translators leave without a mapping of their own: second keywords of a statement … */
const keywords = /\b(?:else|of|in|instanceof|catch|extends|finally|while|function|await)\b/g;
/** … and what follows a comment. */
const afterComment = / ?([A-Za-z_$][\w$]*)/y;
/** The place of a word is looked for between its mapped neighbours, if they are that close in the source. */
const farthest = 600;

export interface CompletionInput {
  /** Mappings of one source (ECMA-426, 9.2), as the translator gives them. */
  mappings: string;
  /** Where linking inserted something. */
  shifts: readonly Shift[];
  /** The text to which the mappings belong, after linking. */
  text: string;
  source: string;
}

/** A mapping as numbers: column, source line, source column, and index of the name or -1. A mapping to nothing has line -1. */
type Segment = [column: number, line: number, sourceColumn: number, name: number];

/**
 * Moves mappings by what linking inserted, and adds those of words that the translator left out, where the source holds the
 * same word once between the places of the mapped neighbours. Lines in which nothing changes are copied as they are.
 */
export function completeMappings({ mappings, shifts, text, source }: CompletionInput): string {
  const shiftsOf = grouped(shifts, ({ line }) => line);
  const wordsOf = wordsByLine(text);
  const lines = mappings.split(';');
  /** Behind it nothing changes. */
  const lastLine = [...wordsOf.keys(), ...shiftsOf.keys()].reduce((last, line) => Math.max(last, line), -1);
  const reader = new Reader();
  const writer = new Writer();
  let starts: readonly number[] | undefined;
  let last: Segment | undefined;
  for (let line = 0; line < lines.length; line++) {
    const encoded = lines[line]!;
    const words = wordsOf.get(line);
    const moved = shiftsOf.get(line);
    if (line > lastLine && writer.follows(reader)) {
      writer.copyRest(lines.slice(line));
      break;
    }
    if (!words && !moved && writer.follows(reader)) {
      const end = reader.skip(encoded);
      if (end) last = end;
      writer.copy(encoded, reader);
      continue;
    }
    const isInPlace = writer.follows(reader);
    const segments = reader.read(encoded);
    let isSame = isInPlace && !moved;
    if (moved) move(segments, moved);
    const all: Segment[] = [];
    let at = 0;
    let behind: Segment | undefined;
    for (const { column, word } of words ?? []) {
      while (at < segments.length && segments[at]![0] < column) all.push(segments[at++]!);
      if (segments[at]?.[0] === column) continue;
      const before = all.at(-1) ?? last;
      if (at === segments.length) behind ??= firstAfter(lines, line, reader);
      const after = segments[at] ?? behind;
      if (!before || !after) continue;
      starts ??= lineStarts(source);
      const place = placeBetween({ before, after, word, source, starts });
      if (!place) continue;
      all.push([column, place[0], place[1], -1]);
      isSame = false;
    }
    if (all.length > 0) last = all.at(-1);
    if (at < segments.length) last = segments.at(-1);
    if (isSame) writer.copy(encoded, reader);
    else writer.write(all.length === 0 ? segments : all.concat(segments.slice(at)));
  }
  return writer.text();
}

/** Moves mappings of one source by what was inserted into the text to which they belong. */
export function movedMappings(mappings: string, shifts: readonly Shift[]): string {
  return completeMappings({ mappings, shifts, text: '', source: '' });
}

function move(segments: readonly Segment[], shifts: readonly Shift[]): void {
  const inOrder = shifts.toSorted((a, b) => a.column - b.column);
  let next = 0;
  let by = 0;
  for (const segment of segments) {
    for (; next < inOrder.length && inOrder[next]!.column <= segment[0]; next++) by += inOrder[next]!.by;
    segment[0] += by;
  }
}

interface Word {
  column: number;
  word: string;
}

/** The words that may lack a mapping, by line. */
function wordsByLine(text: string): Map<number, Word[]> {
  const words = new Map<number, Word[]>();
  let line = 0;
  let lineStart = 0;
  for (const [index, word] of unmappedWords(text)) {
    for (let end = text.indexOf('\n', lineStart); end !== -1 && end < index; end = text.indexOf('\n', lineStart)) {
      line++;
      lineStart = end + 1;
    }
    const found = { column: index - lineStart, word };
    const group = words.get(line);
    if (group) group.push(found);
    else words.set(line, [found]);
  }
  return words;
}

/** Offsets and words, in order. */
function unmappedWords(text: string): [offset: number, word: string][] {
  const found: [offset: number, word: string][] = [];
  for (const { index, 0: word } of text.matchAll(keywords))
    if (!/[$.]/.test(text[index - 1] ?? '') && text[index + word.length] !== '$') found.push([index, word]);
  const count = found.length;
  for (let end = text.indexOf('*/'); end !== -1; end = text.indexOf('*/', end + 2)) {
    afterComment.lastIndex = end + 2;
    const word = afterComment.exec(text)?.[1];
    if (word !== undefined) found.push([afterComment.lastIndex - word.length, word]);
  }
  if (count > 0 && found.length > count) found.sort((a, b) => a[0] - b[0]);
  return found.filter(([offset], at) => at === 0 || offset !== found[at - 1]![0]);
}

/** The first mapping behind a line. */
function firstAfter(lines: readonly string[], line: number, { state }: Reader): Segment | undefined {
  for (let at = line + 1; at < lines.length; at++) if (lines[at] !== '') return new Reader(state).read(lines[at]!)[0];
  return undefined;
}

interface Gap {
  before: Segment;
  after: Segment;
  word: string;
  source: string;
  starts: readonly number[];
}

function placeBetween({ before, after, word, source, starts }: Gap): [line: number, column: number] | undefined {
  if (before[1] === -1 || after[1] === -1) return undefined;
  const from = starts[before[1]]! + before[2];
  const to = starts[after[1]]! + after[2];
  if (to <= from || to - from > farthest) return undefined;
  const gap = source.slice(from, to);
  // Comments may hold the word too.
  const plain = gap.replace(/\/\*[\s\S]*?(?:\*\/|$)|\/\/[^\n]*/g, (comment) => comment.replace(/[^\n]/g, ' '));
  const places = [...plain.matchAll(new RegExp(`(?<![\\w$])${word.replaceAll('$', '\\$')}(?![\\w$])`, 'g'))];
  if (places.length !== 1) return undefined;
  const offset = from + places[0]!.index;
  let line = before[1];
  while ((starts[line + 1] ?? Number.POSITIVE_INFINITY) <= offset) line++;
  return [line, offset - starts[line]!];
}

/** What mappings are relative to, apart from the column: source line, source column, name. */
type State = readonly [line: number, column: number, name: number];

/** Reads lines of mappings one after another (base 64 VLQ, ECMA-426, 9.2). */
class Reader {
  /** What the next line is relative to. */
  line: number;
  column: number;
  name: number;
  #at = 0;

  constructor([line, column, name]: State = [0, 0, 0]) {
    this.line = line;
    this.column = column;
    this.name = name;
  }

  get state(): State {
    return [this.line, this.column, this.name];
  }

  /** The segments of a line. */
  read(encoded: string): Segment[] {
    const segments: Segment[] = [];
    this.#walk(encoded, (segment) => segments.push(segment));
    return segments;
  }

  /** Reads a line only to know where it leads. Returns its last segment. */
  skip(encoded: string): Segment | undefined {
    if (encoded === '') return undefined;
    let column = 0;
    let hasPlace = false;
    let hasName = false;
    // Which number of a segment is being read: column, source, line, column in it, name.
    let field = 0;
    let value = 0;
    let shift = 0;
    for (let at = 0; at < encoded.length; at++) {
      const code = encoded.charCodeAt(at);
      if (code === comma) {
        field = 0;
        continue;
      }
      const digit = digitOf[code]!;
      value += (digit & 31) << shift;
      if (digit >= 32) {
        shift += 5;
        continue;
      }
      const number = value & 1 ? -(value >>> 1) : value >>> 1;
      if (field === 0) {
        column += number;
        hasPlace = false;
        hasName = false;
      } else if (field === 2) {
        this.line += number;
        hasPlace = true;
      } else if (field === 3) this.column += number;
      else if (field === 4) {
        this.name += number;
        hasName = true;
      }
      field++;
      value = 0;
      shift = 0;
    }
    return [column, hasPlace ? this.line : -1, this.column, hasPlace && hasName ? this.name : -1];
  }

  #walk(encoded: string, take: (segment: Segment) => void): void {
    let column = 0;
    this.#at = 0;
    while (this.#at < encoded.length) {
      column += this.#number(encoded);
      if (this.#isEnd(encoded)) take([column, -1, -1, -1]);
      else {
        this.#number(encoded);
        this.line += this.#number(encoded);
        this.column += this.#number(encoded);
        const hasName = !this.#isEnd(encoded);
        if (hasName) this.name += this.#number(encoded);
        take([column, this.line, this.column, hasName ? this.name : -1]);
      }
      this.#at++;
    }
  }

  #isEnd(encoded: string): boolean {
    return this.#at >= encoded.length || encoded.charCodeAt(this.#at) === comma;
  }

  #number(encoded: string): number {
    let value = 0;
    let shift = 0;
    for (;;) {
      const digit = digitOf[encoded.charCodeAt(this.#at++)]!;
      value += (digit & 31) << shift;
      if (digit < 32) break;
      shift += 5;
    }
    return value & 1 ? -(value >>> 1) : value >>> 1;
  }
}

const comma = 44;

/** Writes lines of mappings one after another. */
class Writer {
  readonly #lines: string[] = [];
  #line = 0;
  #column = 0;
  #name = 0;

  /** Whether what the reader reads next can be copied. */
  follows({ line, column, name }: Reader): boolean {
    return this.#line === line && this.#column === column && this.#name === name;
  }

  /** Takes a line as it is, after the reader has passed it. */
  copy(encoded: string, { line, column, name }: Reader): void {
    this.#lines.push(encoded);
    this.#line = line;
    this.#column = column;
    this.#name = name;
  }

  /** Takes lines as they are, behind which nothing else comes. */
  copyRest(lines: readonly string[]): void {
    for (const line of lines) this.#lines.push(line);
  }

  write(segments: readonly Segment[]): void {
    let line = this.#line;
    let column = this.#column;
    let name = this.#name;
    let last = 0;
    let out = '';
    for (const segment of segments) {
      if (out !== '') out += ',';
      out += vlq(segment[0] - last);
      last = segment[0];
      if (segment[1] === -1) continue;
      out += `A${vlq(segment[1] - line)}${vlq(segment[2] - column)}`;
      [line, column] = [segment[1], segment[2]];
      if (segment[3] === -1) continue;
      out += vlq(segment[3] - name);
      name = segment[3];
    }
    this.#lines.push(out);
    this.#line = line;
    this.#column = column;
    this.#name = name;
  }

  text(): string {
    return this.#lines.join(';');
  }
}
