import type { SourceMapSegment } from '@jridgewell/sourcemap-codec';
import type MagicString from 'magic-string';
import { EditedOrigin, type OpenMap, type Origin, through } from '../core/maps/origin.js';
import { readMappings, Segments, segmentWidth, writeMappings } from '../core/maps/segments.js';

/** A text and the map that leads from it to where it came from, as JSON (ECMA-426). */
export interface Mapped {
  text: string;
  map?: string;
}

/** The same while it's being worked on. */
export interface MappedText {
  text: string;
  map?: OpenMap;
}

/** A replacement in a text without line ends on either side. */
export interface Replacement {
  start: number;
  end: number;
  text: string;
}

interface WholeMap {
  sources: (string | null)[];
  sourcesContent?: (string | null)[];
  names?: string[];
  mappings: string;
  ignoreList?: number[];
}

/** Reads a map, whose lines stand `down` so many lines further down. */
export function openMap(json: string, down = 0): OpenMap {
  const { sources, sourcesContent = [], names = [], mappings, ignoreList = [] } = JSON.parse(json) as WholeMap;
  const segments = readMappings(mappings);
  return { sources, sourcesContent, names, segments: down === 0 ? segments : movedLines(segments, down), ignored: ignoreList };
}

function movedLines(segments: Int32Array, down: number): Int32Array {
  for (let at = 0; at < segments.length; at += segmentWidth) segments[at]! += down;
  return segments;
}

/** Writes a map. */
export function writtenMap({ sources, sourcesContent, names, segments, ignored }: OpenMap, file?: string): string {
  return JSON.stringify({
    version: 3,
    ...(file === undefined ? {} : { file }),
    names,
    sources,
    sourcesContent,
    mappings: writeMappings(segments),
    ...(ignored.length > 0 ? { ignoreList: ignored } : {}),
  });
}

/** A text as it goes into files. */
export function written({ text, map }: MappedText): Mapped {
  return { text, ...(map === undefined ? {} : { map: writtenMap(map) }) };
}

/** What was written, opened again. */
export function opened({ text, map }: Mapped): MappedText {
  return { text, ...(map === undefined ? {} : { map: openMap(map) }) };
}

/** An edited module as something that others are made of. `below` is what the module as it was leads to. */
export function editedOrigin(edited: MagicString, text: string, below: Origin): Origin {
  const { names, mappings } = edited.generateDecodedMap({ source: 'module' });
  return new EditedOrigin({ text, before: edited.original, segments: asNumbers(mappings), names }, below);
}

/** An edited module with its map. `below` as above. */
export function mappedEdits(edited: MagicString, text: string, below: Origin): MappedText {
  const { names, mappings } = edited.generateDecodedMap({ hires: 'boundary', source: 'module' });
  return { text, map: through(asNumbers(mappings), names, below) };
}

function asNumbers(lines: SourceMapSegment[][]): Int32Array {
  const segments = new Segments();
  for (const [line, inLine] of lines.entries())
    for (const [column, source = -1, sourceLine = 0, sourceColumn = 0, name = -1] of inLine)
      segments.add(line, column, source, sourceLine, sourceColumn, name);
  return segments.numbers;
}

/** Applies replacements, in the order of the text, and moves the map along. `nameOf` gives names of the map their right text. */
export function replaced(
  { text, map }: MappedText,
  replacements: readonly Replacement[],
  nameOf: (name: string) => string = (name) => name,
): MappedText {
  if (replacements.length === 0) return map === undefined ? { text } : { text, map };
  let out = '';
  let at = 0;
  for (const { start, end, text: fresh } of replacements) {
    out += text.slice(at, start) + fresh;
    at = end;
  }
  out += text.slice(at);
  return map === undefined ? { text: out } : { text: out, map: movedMap(map, text, replacements, nameOf) };
}

function movedMap(map: OpenMap, text: string, replacements: readonly Replacement[], nameOf: (name: string) => string): OpenMap {
  const segments = map.segments.slice();
  let at = 0;
  let line = 0;
  let lineStart = 0;
  let next = 0;
  while (next < replacements.length) {
    let end = text.indexOf('\n', lineStart);
    if (end === -1) end = text.length;
    let by = 0;
    while (at < segments.length && segments[at]! < line) at += segmentWidth;
    for (; at < segments.length && segments[at] === line; at += segmentWidth) {
      while (
        next < replacements.length &&
        replacements[next]!.end - lineStart <= segments[at + 1]! &&
        replacements[next]!.start < end
      ) {
        const { start, end: stop, text: fresh } = replacements[next++]!;
        by += fresh.length - (stop - start);
      }
      segments[at + 1]! += by;
    }
    while (next < replacements.length && replacements[next]!.start < end) next++;
    line++;
    lineStart = end + 1;
  }
  return { ...map, names: map.names.map(nameOf), segments };
}

/** The map of a part of a text, and the line on which the part begins, counted from 0. */
export interface MapSection {
  line: number;
  map: OpenMap;
}

/** A map of a text made of several, each from a line on, and none on the lines of another, as JSON. */
export function joinedMap(file: string, sections: readonly MapSection[]): string {
  const sources: (string | null)[] = [];
  const sourcesContent: (string | null)[] = [];
  const ignored: number[] = [];
  const names = new Map<string, number>();
  const segments = new Segments(sections.reduce((count, { map }) => count + map.segments.length / segmentWidth, 1));
  for (const { line, map } of sections) {
    const first = sources.length;
    for (const [index, source] of map.sources.entries()) {
      sources.push(source);
      sourcesContent.push(map.sourcesContent[index] ?? null);
    }
    for (const index of map.ignored) ignored.push(first + index);
    const nameAt = map.names.map((name) => {
      const known = names.get(name) ?? names.size;
      names.set(name, known);
      return known;
    });
    const { segments: own } = map;
    for (let at = 0; at < own.length; at += segmentWidth) {
      const source = own[at + 2] === -1 ? -1 : own[at + 2]! + first;
      const name = own[at + 5] === -1 ? -1 : nameAt[own[at + 5]!]!;
      segments.add(own[at]! + line, own[at + 1]!, source, own[at + 3]!, own[at + 4]!, name);
    }
  }
  return writtenMap({ sources, sourcesContent, names: [...names.keys()], segments: segments.numbers, ignored }, file);
}
