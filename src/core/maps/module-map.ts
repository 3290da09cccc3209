import { encode, type SourceMapMappings, type SourceMapSegment } from '@jridgewell/sourcemap-codec';
import type { Shift } from '../link/edits.js';
import { lineStarts } from '../text/line-index.js';
import type { SourceText } from '../text/source-text.js';
import { completeMappings } from './complete-mappings.js';
import type { KeptMap } from './kept-map.js';

/** What is needed to map a linked module's body back to its source. */
export interface MapInput {
  /** The source as the user wrote it. */
  source: SourceText;
  /** URL under which the debugger shows it. */
  sourceUrl: string;
  /** The translator's map; absent where the source was linked as it is. */
  map?: KeptMap;
  shifts: readonly Shift[];
  /** The module as it is linked, with its body from the second line on. */
  code: string;
  /** The debugger should step over this source (ECMA-426 `ignoreList`). */
  ignored: boolean;
}

/** The map of one linked module's body as JSON text. The translator's map is completed in place where it isn't yet. */
export function moduleMap(input: MapInput): string {
  return moduleMapParts(input).join('');
}

/** The parts of what `moduleMap` gives: joined once, with those of many others, they cost half as much. */
export function moduleMapParts(input: MapInput): string[] {
  if (input.map) completeMap(input.map, input);
  const mappings = input.map?.mappings ?? identityMappings(input.source.text, input.shifts);
  const { sourceUrl, source, map, ignored } = input;
  // Mappings hold nothing that needs to be escaped, and are the longest part.
  return [
    '{"version":3,"sources":[',
    JSON.stringify(sourceUrl),
    '],"sourcesContent":[',
    source.json,
    '],"names":',
    map?.names ?? '[]',
    ',"mappings":"',
    mappings,
    ignored ? '","ignoreList":[0]}' : '"}',
  ];
}

/** Moves the translator's mappings by what linking inserted and completes them with the words that it left out, in place. */
export function completeMap(map: KeptMap, { source, shifts, code }: Pick<MapInput, 'source' | 'shifts' | 'code'>): void {
  if (map.isComplete) return;
  map.mappings = completeMappings({
    mappings: map.mappings,
    shifts,
    text: code.slice(code.indexOf('\n') + 1),
    source: source.text,
  });
  map.isComplete = true;
}

function applyShifts(lines: SourceMapMappings, shifts: readonly Shift[]): void {
  const byLine = new Map<number, Shift[]>();
  for (const shift of shifts) {
    const group = byLine.get(shift.line);
    if (group) group.push(shift);
    else byLine.set(shift.line, [shift]);
  }
  for (const [line, group] of byLine) {
    for (const segment of lines[line] ?? []) {
      const column = segment[0];
      for (const shift of group) if (shift.column <= column) segment[0] += shift.by;
    }
  }
}

const token = /[\p{ID_Start}$_][\p{ID_Continue}$]*|\d[\w.]*|[^\s]/gu;

/** A map from a text to itself with a segment for every token, so that every column is exact. */
function identityMappings(source: string, shifts: readonly Shift[]): string {
  const starts = lineStarts(source);
  const lines = starts.map((start, line): SourceMapSegment[] => {
    const text = source.slice(start, starts[line + 1] ?? source.length);
    const segments: SourceMapSegment[] = [];
    for (const { index } of text.matchAll(token)) segments.push([index, 0, line, index]);
    return segments;
  });
  applyShifts(lines, shifts);
  return encode(lines);
}
