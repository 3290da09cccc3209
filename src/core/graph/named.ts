import { grouped } from '../text/grouped.js';
import type { Edge } from './module-graph.js';

interface Specified {
  specifier: string;
}

const bySpecifier = new WeakMap<readonly Specified[], Map<string, Specified[]>>();

/** Those of a list that never changes that have a specifier: some modules name thousands of others. */
export function named<Item extends Specified>(items: readonly Item[], specifier: string): readonly Item[] {
  const known = bySpecifier.get(items) ?? grouped<Specified, string>(items, (item) => item.specifier);
  bySpecifier.set(items, known);
  return (known.get(specifier) as Item[] | undefined) ?? [];
}

const byTarget = new WeakMap<readonly Edge[], Map<string, Edge[]>>();

/** Those of the edges of a module that lead to another, likewise. */
export function leadingTo(edges: readonly Edge[], target: string): readonly Edge[] {
  const known = byTarget.get(edges) ?? grouped(edges, (edge) => edge.target);
  byTarget.set(edges, known);
  return known.get(target) ?? [];
}
