import remapping from '@jridgewell/remapping';
import type { RawMap } from '../translate/translate-script.js';

/** One map in place of two: `outer` maps to a text that `inner` maps on to its sources. */
export function chainMaps(outer: RawMap, inner: RawMap): RawMap {
  return remapping([outer as never, inner as never], () => null) as unknown as RawMap;
}
