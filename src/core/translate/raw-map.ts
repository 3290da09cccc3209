import remapping from '@jridgewell/remapping';

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
  return remapping([outer as never, inner as never], () => null) as unknown as RawMap;
}
