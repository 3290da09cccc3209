/** How one module leads to another. */
export type EdgeKind = 'import' | 'dynamic' | 'require' | 'style' | 'url' | 'worker';

export interface Edge {
  kind: EdgeKind;
  specifier: string;
  /** The `type` import attribute, if there is one. */
  type?: string;
  /** Id of the target. */
  target: string;
}

interface GraphNode<Content> {
  id: string;
  content: Content;
  edges: Edge[];
  /** Importer id -> how many edges lead here from it. */
  importers: Map<string, number>;
}

/** What a change of edges did. */
export interface EdgeChange {
  /** Targets that the graph does not hold yet. */
  missing: string[];
  /** Modules that nothing reaches any more; they are gone from the graph. */
  removed: string[];
}

/**
 * The modules of a project with their edges. Edges may lead to modules that are not in the graph: that is how a dynamic
 * import waits to be asked for. Costs of a change depend on the change, not on the size of the graph.
 */
export class ModuleGraph<Content> {
  readonly #nodes = new Map<string, GraphNode<Content>>();
  /** Importers of ids that are not nodes yet. */
  readonly #awaited = new Map<string, Map<string, number>>();
  readonly #roots = new Set<string>();
  /** Changes whenever modules or edges come or go, so that what depends on them alone can be kept. */
  shape = 0;
  /** How many edges there are of each kind. */
  readonly #kinds = new Map<EdgeKind, number>();

  get size(): number {
    return this.#nodes.size;
  }

  has(id: string): boolean {
    return this.#nodes.has(id);
  }

  content(id: string): Content | undefined {
    return this.#nodes.get(id)?.content;
  }

  edges(id: string): readonly Edge[] {
    return this.#nodes.get(id)?.edges ?? [];
  }

  importers(id: string): string[] {
    return [...(this.#nodes.get(id)?.importers ?? this.#awaited.get(id) ?? new Map<string, number>()).keys()];
  }

  hasEdgesOf(kind: EdgeKind): boolean {
    return (this.#kinds.get(kind) ?? 0) > 0;
  }

  ids(): IterableIterator<string> {
    return this.#nodes.keys();
  }

  /** Marks modules that stay although nothing imports them. Returns what fell away with the roots given up. */
  setRoots(ids: Iterable<string>): string[] {
    const before = [...this.#roots];
    this.#roots.clear();
    for (const id of ids) this.#roots.add(id);
    return this.#removeUnreachable(before.filter((id) => !this.#roots.has(id)));
  }

  roots(): IterableIterator<string> {
    return this.#roots.values();
  }

  isRoot(id: string): boolean {
    return this.#roots.has(id);
  }

  /** Adds a module or replaces its content and edges. */
  set(id: string, content: Content, edges: Edge[]): EdgeChange {
    const old = this.#nodes.get(id);
    if (!old || !areSame(old.edges, edges)) this.shape++;
    const node: GraphNode<Content> = { id, content, edges, importers: old?.importers ?? this.#awaited.get(id) ?? new Map() };
    this.#awaited.delete(id);
    this.#nodes.set(id, node);
    for (const { kind, target } of edges) {
      this.#kinds.set(kind, (this.#kinds.get(kind) ?? 0) + 1);
      const importers = this.#importersOf(target);
      importers.set(id, (importers.get(id) ?? 0) + 1);
    }
    const removed = old ? this.#removeUnreachable(this.#release(id, old.edges)) : [];
    const missing = new Set<string>();
    for (const { kind, target } of edges) if (!isLazy(kind) && !this.#nodes.has(target)) missing.add(target);
    return { missing: [...missing], removed };
  }

  /** Removes what no root reaches, e.g. what was loaded for a module that could not be made after all. */
  dropUnreachable(): string[] {
    const alone = [...this.#nodes.values()].filter(({ id, importers }) => importers.size === 0 && !this.#roots.has(id));
    return this.#removeUnreachable(alone.map(({ id }) => id));
  }

  /**
   * Every module reachable from `starts` over static imports and `require`, dependencies before dependents: the order in
   * which the standard evaluates them. `skip` names modules to leave out together with what only they reach.
   */
  reachable(starts: Iterable<string>, skip: ReadonlySet<string> = new Set()): string[] {
    const order: string[] = [];
    const seen = new Set(skip);
    const stack: { edges: readonly Edge[]; next: number; id: string }[] = [];
    const enter = (id: string) => {
      if (seen.has(id) || !this.#nodes.has(id)) return;
      seen.add(id);
      stack.push({ id, edges: this.edges(id), next: 0 });
    };
    for (const start of starts) {
      enter(start);
      while (stack.length > 0) {
        const top = stack.at(-1)!;
        const edge = top.edges[top.next++];
        if (!edge) order.push(stack.pop()!.id);
        else if (edge.kind === 'import' || edge.kind === 'require') enter(edge.target);
      }
    }
    return order;
  }

  /** The roots from which a module is reached over edges of any kind. */
  rootsAbove(id: string): string[] {
    const seen = new Set([id]);
    for (const at of seen) for (const importer of this.importers(at)) seen.add(importer);
    return [...seen].filter((at) => this.#roots.has(at));
  }

  /** A shortest path of importers from a root to `id`, both included; only `id` where no root reaches it. */
  chainTo(id: string): string[] {
    const cameFrom = new Map<string, string | undefined>([[id, undefined]]);
    for (const at of cameFrom.keys()) {
      if (this.#roots.has(at)) return chainFrom(at, cameFrom);
      for (const importer of this.importers(at)) if (!cameFrom.has(importer)) cameFrom.set(importer, at);
    }
    return [id];
  }

  #importersOf(id: string): Map<string, number> {
    const known = this.#nodes.get(id)?.importers ?? this.#awaited.get(id);
    if (known) return known;
    const importers = new Map<string, number>();
    this.#awaited.set(id, importers);
    return importers;
  }

  /** Takes edges away. Returns the targets that this importer no longer leads to. */
  #release(importer: string, edges: readonly Edge[]): string[] {
    const lost: string[] = [];
    for (const { kind, target } of edges) {
      this.#kinds.set(kind, this.#kinds.get(kind)! - 1);
      const importers = this.#importersOf(target);
      const count = (importers.get(importer) ?? 1) - 1;
      if (count > 0) importers.set(importer, count);
      else {
        importers.delete(importer);
        lost.push(target);
      }
    }
    return lost;
  }

  /** Removes those of `ids` that no root reaches, and what only they led to. */
  #removeUnreachable(ids: readonly string[]): string[] {
    const removed: string[] = [];
    const waiting = [...ids];
    for (let id = waiting.pop(); id !== undefined; id = waiting.pop()) {
      const node = this.#nodes.get(id);
      if (!node) {
        if (this.#awaited.get(id)?.size === 0) this.#awaited.delete(id);
        continue;
      }
      if (this.#reachesRoot(id)) continue;
      this.#nodes.delete(id);
      this.shape++;
      if (node.importers.size > 0) this.#awaited.set(id, node.importers);
      removed.push(id);
      waiting.push(...this.#release(id, node.edges));
    }
    return removed;
  }

  /** Whether some chain of importers ends at a root. Looks upwards only, so its cost is that of the part above `id`. */
  #reachesRoot(id: string): boolean {
    const seen = new Set([id]);
    for (const at of seen) {
      if (this.#roots.has(at)) return true;
      for (const importer of this.#nodes.get(at)?.importers.keys() ?? []) seen.add(importer);
    }
    return false;
  }
}

function areSame(a: readonly Edge[], b: readonly Edge[]): boolean {
  return a.length === b.length && a.every(({ kind, target }, at) => kind === b[at]!.kind && target === b[at]!.target);
}

/** Whether modules behind an edge of this kind wait until somebody asks for them. */
export function isLazy(kind: EdgeKind): boolean {
  return kind === 'dynamic';
}

function chainFrom(root: string, next: ReadonlyMap<string, string | undefined>): string[] {
  const chain: string[] = [];
  for (let at: string | undefined = root; at !== undefined; at = next.get(at)) chain.push(at);
  return chain;
}
