import type { SourceMapSegment } from '@jridgewell/sourcemap-codec';
import type MagicString from 'magic-string';
import { EditedOrigin, type OpenMap, type Origin, through } from '../core/maps/origin.js';
import { readMappings, Segments, segmentWidth } from '../core/maps/segments.js';
import { JoinedMappings, type PartedMappings, partedMappings, writeMappings } from '../core/maps/write-mappings.js';

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
function writtenMap({ sources, sourcesContent, names, segments, ignored }: OpenMap): string {
  return JSON.stringify({
    version: 3,
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

/** Applies replacements, in the order of the text, and moves the map along. `names` are those of the map, if they are others now. */
export function replaced(
  { text, map }: MappedText,
  replacements: readonly Replacement[],
  names: readonly string[] | undefined = map?.names,
): MappedText {
  if (replacements.length === 0) return map === undefined ? { text } : { text, map };
  let out = '';
  let at = 0;
  for (const { start, end, text: fresh } of replacements) {
    out += text.slice(at, start) + fresh;
    at = end;
  }
  out += text.slice(at);
  return map === undefined
    ? { text: out }
    : { text: out, map: { ...map, names: [...names!], segments: movedSegments(map.segments, text, replacements) } };
}

function movedSegments(before: Int32Array, text: string, replacements: readonly Replacement[]): Int32Array {
  const segments = before.slice();
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
  return segments;
}

/** The map of a part of a text, and the line on which the part begins, counted from 0. */
export interface MapSection {
  line: number;
  map: OpenMap;
}

/** What a map of a whole text is made of, once for all texts of which it's a part. Texts and lists are JSON, lists without their brackets. */
interface Section {
  mappings: PartedMappings;
  sources: string;
  sourcesContent: string;
  names: string;
}

const knownSections = new WeakMap<OpenMap, Section>();

function sectionOf(map: OpenMap): Section {
  const known = knownSections.get(map);
  if (known) return known;
  const contents = map.sources.map((_, index) => map.sourcesContent[index] ?? null);
  const [sources, sourcesContent, names] = [map.sources, contents, map.names].map((list) => JSON.stringify(list).slice(1, -1));
  const section: Section = {
    mappings: partedMappings(map.segments),
    sources: sources!,
    sourcesContent: sourcesContent!,
    names: names!,
  };
  knownSections.set(map, section);
  return section;
}

function firstLines(segments: Int32Array, count: number): Int32Array {
  let end = 0;
  while (end < segments.length && segments[end]! < count) end += segmentWidth;
  return segments.subarray(0, end);
}

/** A map of a text made of several, each from a line on, and none on the lines of another, as JSON. */
export function joinedMap(file: string, sections: readonly MapSection[]): string {
  const mappings = new JoinedMappings();
  const ignored: number[] = [];
  let sources = 0;
  let names = 0;
  const parts = sections.map(({ line, map }, index) => {
    const section = sectionOf(map);
    const room = (sections[index + 1]?.line ?? Number.POSITIVE_INFINITY) - line;
    // Some maps go on behind the end of their text.
    const own = section.mappings.lines < room ? section.mappings : partedMappings(firstLines(map.segments, room));
    mappings.add(own, { line, sources, names });
    for (const source of map.ignored) ignored.push(sources + source);
    sources += map.sources.length;
    names += map.names.length;
    return section;
  });
  const listOf = (part: 'sources' | 'sourcesContent' | 'names') =>
    `[${parts.flatMap((section) => (section[part] === '' ? [] : section[part])).join()}]`;
  const lists = `"names":${listOf('names')},"sources":${listOf('sources')},"sourcesContent":${listOf('sourcesContent')}`;
  const rest = ignored.length > 0 ? `,"ignoreList":${JSON.stringify(ignored)}` : '';
  return `{"version":3,"file":${JSON.stringify(file)},${lists},"mappings":"${mappings.text}"${rest}}`;
}
