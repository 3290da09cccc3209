import remapping from '@jridgewell/remapping';
import { decode, encode, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import type MagicString from 'magic-string';
import type { RawMap } from '../core/translate/translate-script.js';

/** A text and the map that leads from it to where it came from, as JSON (ECMA-426). */
export interface Mapped {
  text: string;
  map?: string;
}

/** A replacement in a text without line ends on either side. */
export interface Replacement {
  start: number;
  end: number;
  text: string;
}

/** A map whose mappings may be decoded already. */
export type Layer = Omit<RawMap, 'mappings'> & { mappings: string | SourceMapSegment[][] };

/** The map from an edited text to the module as it was. */
export function editsMap(edited: MagicString): Layer {
  const { sources, names, mappings } = edited.generateDecodedMap({ hires: 'boundary', source: 'module' });
  return { version: 3, sources, names, mappings };
}

/** An edited module with its map to the source. `below` is the map of the module as it was, as JSON. */
export function mappedEdits(edited: MagicString, below: string): Mapped {
  const joined = remapping(editsMap(edited) as never, (_, { depth }) => (depth === 1 ? JSON.parse(below) : null));
  return { text: edited.toString(), map: JSON.stringify(joined) };
}

/** Applies replacements, in the order of the text, and moves the map along. `nameOf` gives names of the map their right text. */
export function replaced(
  { text, map }: Mapped,
  replacements: readonly Replacement[],
  nameOf: (name: string) => string = (name) => name,
): Mapped {
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

function movedMap(map: string, text: string, replacements: readonly Replacement[], nameOf: (name: string) => string): string {
  const parsed = JSON.parse(map) as { mappings: string; names: string[] };
  const lines = decode(parsed.mappings);
  let line = 0;
  let lineStart = 0;
  let next = 0;
  while (next < replacements.length) {
    let end = text.indexOf('\n', lineStart);
    if (end === -1) end = text.length;
    const segments: SourceMapSegment[] = lines[line] ?? [];
    let by = 0;
    for (const segment of segments) {
      while (next < replacements.length && replacements[next]!.end - lineStart <= segment[0] && replacements[next]!.start < end) {
        const { start, end: stop, text: fresh } = replacements[next++]!;
        by += fresh.length - (stop - start);
      }
      segment[0] += by;
    }
    while (next < replacements.length && replacements[next]!.start < end) next++;
    line++;
    lineStart = end + 1;
  }
  return JSON.stringify({ ...parsed, names: parsed.names.map(nameOf), mappings: encode(lines) });
}

/** The map of a part of a text, as JSON, and the line on which the part begins, counted from 0. */
export interface MapSection {
  line: number;
  map: string;
}

interface WholeMap {
  sources: (string | null)[];
  sourcesContent?: (string | null)[];
  names: string[];
  mappings: string;
  ignoreList?: number[];
}

/** A map of a text made of several, each from a line on, and none on the lines of another. */
export function joinedMap(file: string, sections: readonly MapSection[]): string {
  const all: Required<Omit<WholeMap, 'mappings'>> = { sources: [], sourcesContent: [], names: [], ignoreList: [] };
  const names = new Map<string, number>();
  const lines: SourceMapSegment[][] = [];
  for (const { line, map } of sections) {
    const section = JSON.parse(map) as WholeMap;
    const first = all.sources.length;
    for (const [index, source] of section.sources.entries()) {
      all.sources.push(source);
      all.sourcesContent.push(section.sourcesContent?.[index] ?? null);
    }
    for (const index of section.ignoreList ?? []) all.ignoreList.push(first + index);
    const nameAt = section.names.map((name) => {
      const known = names.get(name) ?? names.size;
      names.set(name, known);
      return known;
    });
    while (lines.length < line) lines.push([]);
    for (const [index, segments] of decode(section.mappings).entries()) {
      for (const segment of segments) {
        if (segment.length > 1) segment[1]! += first;
        if (segment.length === 5) segment[4] = nameAt[segment[4]]!;
      }
      lines[line + index] = segments;
    }
  }
  const { sources, sourcesContent, ignoreList } = all;
  return JSON.stringify({
    version: 3,
    file,
    names: [...names.keys()],
    sources,
    sourcesContent,
    mappings: encode(lines),
    ...(ignoreList.length > 0 ? { ignoreList } : {}),
  });
}
