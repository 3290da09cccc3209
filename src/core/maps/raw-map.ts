import { TraceMap } from '@jridgewell/trace-mapping';
import { MapOrigin, through } from './origin.js';
import { readMappings } from './segments.js';
import { writeMappings } from './write-mappings.js';

/** A source map as the translator gives it (ECMA-426). */
export interface RawMap {
  version: number;
  sources: string[];
  sourcesContent?: (string | null)[];
  names: string[];
  mappings: string;
}

/** One map in place of two: `outer` maps to a text that `inner` maps on to its sources. */
export function chainMaps(outer: RawMap, inner: RawMap): RawMap {
  const origin = new MapOrigin({
    sources: new TraceMap(inner as never).resolvedSources,
    sourcesContent: inner.sourcesContent ?? [],
    names: inner.names,
    ignored: [],
    segments: readMappings(inner.mappings),
  });
  const { sources, sourcesContent, names, segments } = through(readMappings(outer.mappings), outer.names, origin);
  return {
    version: 3,
    sources: sources as string[],
    sourcesContent: [...sourcesContent],
    names: [...names],
    mappings: writeMappings(segments),
  };
}
