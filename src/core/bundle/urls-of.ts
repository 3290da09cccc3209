import type { Edge } from '../graph/module-graph.js';
import { named } from '../graph/named.js';
import { matchesPattern } from '../link/url-places.js';
import type { Member } from './member.js';

/** The files that an expression in `new URL(…, import.meta.url)` may name, among what a module leads to. */
export function urlsMatching(edges: readonly Edge[], pattern: string): Edge[] {
  return edges.filter(({ kind, specifier }) => (kind === 'url' || kind === 'worker') && matchesPattern(pattern, specifier));
}

/** What a URL leads to. The kind that stands in the text says which, if a module names the same file in both ways. */
export function urlEdge(edges: readonly Edge[], specifier: string, isWorker: boolean): Edge | undefined {
  const ofName = named(edges, specifier);
  const found = (wanted: Edge['kind']) => ofName.find((edge) => edge.kind === wanted);
  return isWorker ? (found('worker') ?? found('url')) : (found('url') ?? found('worker'));
}

/** The URLs that a module names, in the order of the text, each once. */
export function urlsOf(member: Member): { kind: 'url' | 'worker'; specifier: string }[] {
  const urls = new Map<string, { kind: 'url' | 'worker'; specifier: string }>();
  for (const place of member.places) {
    if (place.kind !== 'url') continue;
    const kind = place.isWorker ? 'worker' : 'url';
    urls.set(`${kind} ${place.specifier}`, { kind, specifier: place.specifier });
  }
  return [...urls.values()];
}
