import type { Edge } from '../graph/module-graph.js';

export interface NativeOrderInput {
  /** Modules that pages run. */
  roots: readonly { id: string }[];
  /** All modules. */
  modules(): Iterable<string>;
  edges(id: string): readonly Edge[];
  isOnCycle(id: string): boolean;
  /** Holds a top-level `await`. */
  isAsync(id: string): boolean;
  /** What is left, with the modules that anything runs. */
  left(): { modules: ReadonlySet<string>; roots: ReadonlySet<string> };
}

/**
 * Compares modules by the order in which the standard evaluates them with everything that nobody needs among them. In a cycle it depends
 * on where that begins: modules that are left out begin cycles too, and those that they have begun wait for them.
 */
export class NativeOrder {
  readonly #input: NativeOrderInput;
  #places: Map<string, number[]> | undefined;
  #waiting: Set<string> | undefined;
  readonly #imported = new Map<string, Set<string>>();

  constructor(input: NativeOrderInput) {
    this.#input = input;
  }

  /** Whether `other`, which `id` leads to, runs after it whoever runs both. */
  isLater(id: string, other: string): boolean {
    const places = this.#placesOfBoth(id, other);
    if (!places || isBehind(places)) return false;
    return !this.#waits(id);
  }

  /** Whether a module is in a circle that waits for an `await`: what leads to one of them waits for all. */
  isInWaitingCircle(id: string): boolean {
    return this.#input.isOnCycle(id) && this.#waits(id);
  }

  #waits(id: string): boolean {
    const { modules, edges, isAsync } = this.#input;
    this.#waiting ??= importersOf([...modules()], edges, isAsync);
    return this.#waiting.has(id);
  }

  /** Whether `other`, which `id` leads to, runs after it when some root runs both, and before it when another does. */
  isNowLater(id: string, other: string): boolean {
    const places = this.#placesOfBoth(id, other);
    if (!places) return false;
    const [own, others] = places;
    return isBehind(places) && isBehind([others, own]);
  }

  #placesOfBoth(id: string, other: string): [number[], number[]] | undefined {
    const { isOnCycle } = this.#input;
    if (!isOnCycle(id) || !isOnCycle(other)) return undefined;
    this.#places ??= this.#placesOf();
    const [own, others] = [this.#places.get(id), this.#places.get(other)];
    return own && others && [own, others];
  }

  /** Places of the modules on cycles in the order of each root. */
  #placesOf(): Map<string, number[]> {
    const { edges, isOnCycle, left } = this.#input;
    const places = new Map<string, number[]>();
    const askers = this.#askers();
    let root = 0;
    for (const start of left().roots) {
      evaluationOrder(start, edges, { ran: this.#ranBefore(askers.get(start)) }).forEach((id, place) => {
        if (!isOnCycle(id)) return;
        const known = places.get(id) ?? [];
        known[root] = place;
        places.set(id, known);
      });
      root++;
    }
    return places;
  }

  /** Who asks for a module by `import()`; nobody where something else runs it too. */
  #askers(): Map<string, string[]> {
    const { roots, modules, edges, left } = this.#input;
    const askers = new Map<string, string[]>();
    const others = new Set(roots.map(({ id }) => id));
    for (const id of modules()) {
      if (!left().modules.has(id)) continue;
      for (const { kind, target } of edges(id))
        if (kind === 'dynamic') {
          const known = askers.get(target);
          if (known) known.push(id);
          else askers.set(target, [id]);
        } else if (kind !== 'import') others.add(target);
    }
    for (const id of others) askers.delete(id);
    return askers;
  }

  /** What runs with a module: one that asks for hundreds is looked at once. */
  #importedBy(id: string): Set<string> {
    const known = this.#imported.get(id) ?? new Set(evaluationOrder(id, this.#input.edges));
    this.#imported.set(id, known);
    return known;
  }

  /** What has run in any case when one of these modules asks for another: what all of them import, directly or not. */
  #ranBefore(askers: readonly string[] = []): Set<string> {
    const [first, ...others] = askers.map((id) => this.#importedBy(id));
    return new Set([...(first ?? [])].filter((id) => others.every((ran) => ran.has(id))));
  }
}

/** Whether a module has a place behind another one's with some root. One that has no place with a root ran before. */
function isBehind([own, others]: [number[], number[]]): boolean {
  return own.some((place, root) => others[root] !== undefined && others[root] < place);
}

/**
 * Modules in the order in which evaluation of a root runs them, after others `ran` (ECMA-262, 16.2.1.6.1.3.1). `met` is told in which
 * order it comes to them.
 */
export function evaluationOrder(
  root: string,
  edges: (id: string) => readonly Edge[],
  { ran = new Set(), met }: { ran?: ReadonlySet<string>; met?: (id: string) => void } = {},
): string[] {
  const order: string[] = [];
  if (ran.has(root)) return order;
  const seen = new Set(ran).add(root);
  met?.(root);
  const stack = [{ id: root, edges: edges(root), next: 0 }];
  while (stack.length > 0) {
    const top = stack.at(-1)!;
    const edge = top.edges[top.next++];
    if (!edge) {
      order.push(top.id);
      stack.pop();
    } else if (edge.kind === 'import' && !seen.has(edge.target)) {
      seen.add(edge.target);
      met?.(edge.target);
      stack.push({ id: edge.target, edges: edges(edge.target), next: 0 });
    }
  }
  return order;
}

/** The modules of which something holds, and all that import them. */
export function importersOf(
  modules: readonly string[],
  edges: (id: string) => readonly Edge[],
  holds: (id: string) => boolean | undefined,
): Set<string> {
  const found = new Set(modules.filter(holds));
  if (found.size === 0) return found;
  const importers = new Map<string, string[]>();
  for (const id of modules) {
    for (const { kind, target } of edges(id)) {
      if (kind !== 'import') continue;
      const list = importers.get(target);
      if (list) list.push(id);
      else importers.set(target, [id]);
    }
  }
  for (const id of found) for (const importer of importers.get(id) ?? []) found.add(importer);
  return found;
}
