import { posix } from 'node:path';
import { decode } from '@jridgewell/sourcemap-codec';
import { parseJson } from '../text/json.js';
import { chainMaps, type RawMap } from './raw-map.js';

/** A map that a package ships beside a file. */
export type ShippedMap = RawMap & { sourceRoot?: string };

/** What a file says of its map (ECMA-426, 11.1.2): the last such comment, if only blank lines follow. */
export function mapReference(source: string): string | undefined {
  const tail = source.slice(-4096);
  return (
    /\/[/*][#@] sourceMappingURL=([^\s*]+)(?:\s*\*\/)?\s*$/.exec(tail)?.[1] ??
    /sourceMappingURL=(data:[^\s*]+)\s*$/.exec(source)?.[1]
  );
}

/**
 * Reads the text of a shipped map.
 *
 * @throws Error with what is wrong with it.
 */
export function readShippedMap(text: string): ShippedMap {
  const map = parseJson(text.replace(/^\)\]\}'[^\n]*\n/, '')) as Partial<ShippedMap> | null;
  if (map?.version !== 3) throw new Error('it is not of version 3');
  if (!Array.isArray(map.sources) || typeof map.mappings !== 'string') throw new Error('it has no sources or no mappings');
  const { sources } = map;
  for (const line of decode(map.mappings)) {
    for (const segment of line) {
      if (segment.length > 1 && !(segment[1]! in sources)) throw new Error('its mappings name sources that it does not list');
    }
  }
  return { ...map, names: map.names ?? [] } as ShippedMap;
}

/**
 * Ids of a shipped map's sources, for a file that is a module of ours. Sources that lie elsewhere, e.g. under another
 * protocol, get a name of their own below the file's folder.
 */
export function shippedSources({ sources, sourceRoot = '' }: ShippedMap, id: string): string[] {
  return sources.map((source) => {
    const path = /^[a-z][a-z0-9+.-]*:|^\//i.test(source) ? source.replace(/^[a-z][a-z0-9+.-]*:\/*|^\/+/i, '~/') : source;
    return posix.join(posix.dirname(id), /^(?:\/|[a-z][a-z0-9+.-]*:)/i.test(sourceRoot) ? '' : sourceRoot, path);
  });
}

/** A module's own map led on through the map that its package ships, so that the debugger shows what was written. */
export function chainShippedMap(
  own: string,
  shipped: ShippedMap,
  { sources, contents }: { sources: readonly string[]; contents: readonly string[] },
): string {
  const indexed = { ...shipped, sourceRoot: '', sources: shipped.sources.map((_, index) => String(index)), sourcesContent: [] };
  const chained = chainMaps(JSON.parse(own) as RawMap, indexed as RawMap);
  const used = chained.sources.map(Number);
  return JSON.stringify({
    version: 3,
    sources: used.map((index) => sources[index]),
    sourcesContent: used.map((index) => contents[index]),
    names: chained.names,
    mappings: chained.mappings,
    ignoreList: used.map((_, index) => index),
  });
}
