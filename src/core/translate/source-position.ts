import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import type { RawMap } from '../maps/raw-map.js';
import { lineStarts, positionAt } from '../text/line-index.js';

/** Tells the source that an offset in a text comes from, as the map names it. */
export function sourcesOf(map: RawMap, text: string): (offset: number) => string | undefined {
  const traced = new TraceMap(map as never);
  const starts = lineStarts(text);
  return (offset) => {
    const { line, column } = positionAt(starts, offset);
    return originalPositionFor(traced, { line, column }).source ?? undefined;
  };
}

/** The offset in `source` that an offset in the translated text comes from. */
export function sourcePosition(map: RawMap, text: string, offset: number, source: string): number {
  const { line, column } = positionAt(lineStarts(text), offset);
  const found = originalPositionFor(new TraceMap(map as never), { line, column });
  if (found.line === null) return 0;
  return (lineStarts(source)[found.line - 1] ?? 0) + found.column;
}
