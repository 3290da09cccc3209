import type { RawMap } from './raw-map.js';

/** A map of one source as it is kept for every module: names as JSON text take a fraction of the memory that a list takes. */
export interface KeptMap {
  names: string;
  mappings: string;
  /** The mappings belong to the linked text and lack nothing: see `completeMap`. */
  isComplete?: true;
}

/** What has to be kept of a translator's map; the source is its module's own. */
export function keepMap({ names, mappings }: RawMap): KeptMap {
  return { names: JSON.stringify(names), mappings };
}

/** A kept map for those who read maps. */
export function rawMap({ names, mappings }: KeptMap): RawMap {
  return { version: 3, sources: [''], names: JSON.parse(names) as string[], mappings };
}
