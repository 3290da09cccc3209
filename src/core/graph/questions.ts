/** An edge of a graph as it's asked about. */
export interface AskedEdge {
  target: string;
  /** `import`, `require`, `dynamic`, `style`, `url` or `worker`. */
  kind: string;
  specifier: string;
}

/** A graph as it's asked about: pages, and what leads where. */
export interface AskedGraph {
  roots: readonly string[];
  edges: ReadonlyMap<string, readonly AskedEdge[]>;
}

/** All shortest chains from the roots to some node, at most so many. */
export function shortestChains({ roots, edges }: AskedGraph, wanted: ReadonlySet<string>, most = 20): string[][] {
  const distance = new Map<string, number>(roots.map((root) => [root, 0]));
  const before = new Map<string, string[]>();
  let nearest = roots.some((root) => wanted.has(root)) ? 0 : Number.POSITIVE_INFINITY;
  for (const [id, at] of distance) {
    if (at >= nearest) continue;
    for (const target of new Set(edges.get(id)?.map((edge) => edge.target))) {
      const known = distance.get(target);
      if (known === undefined) {
        distance.set(target, at + 1);
        before.set(target, [id]);
        if (wanted.has(target)) nearest = at + 1;
      } else if (known === at + 1) before.get(target)!.push(id);
    }
  }
  const chains: string[][] = [];
  const walk = (chain: string[]) => {
    if (chains.length >= most) return;
    const above = before.get(chain[0]!);
    if (!above) chains.push(chain);
    else for (const id of above) walk([id, ...chain]);
  };
  for (const id of wanted) if (distance.get(id) === nearest) walk([id]);
  return chains;
}

/** Who needs a node: directly, and in all. */
export function dependentsOf({ edges }: AskedGraph, id: string): { direct: string[]; all: string[] } {
  const importers = new Map<string, string[]>();
  for (const [from, list] of edges)
    for (const { target } of list) importers.set(target, [...(importers.get(target) ?? []), from]);
  const direct = [...new Set(importers.get(id) ?? [])].filter((from) => from !== id).sort();
  const all = new Set([id]);
  for (const at of all) for (const from of importers.get(at) ?? []) all.add(from);
  all.delete(id);
  return { direct, all: [...all].sort() };
}

/** Everything that the roots lead to, them too. */
export function reachedFrom({ roots, edges }: AskedGraph): Set<string> {
  const reached = new Set(roots);
  for (const id of reached) for (const { target } of edges.get(id) ?? []) reached.add(target);
  return reached;
}

/** Modules that need each other. */
export interface Circle {
  members: string[];
  /** A shortest way round, back to its beginning. */
  way: string[];
  /** The import without which most of the circle is gone. */
  cut: { from: string; to: string };
  /** How many of the members still are in circles then. */
  left: number;
}

/** More edges than these are not tried one by one. */
const mostTried = 400;

/** The circles among static imports and requires: what runs in an order that nobody can read off. */
export function circlesOf({ edges }: AskedGraph): Circle[] {
  const direct = new Map(
    [...edges].map(([id, list]) => [
      id,
      [...new Set(list.filter(({ kind }) => kind === 'import' || kind === 'require').map(({ target }) => target))],
    ]),
  );
  return components(direct).map((members) => {
    const inside = within(direct, members);
    const all = [...inside].flatMap(([from, targets]) => targets.map((to) => ({ from, to })));
    let best = { cut: all[0]!, left: members.length };
    for (const cut of all.slice(0, mostTried)) {
      const without = new Map(
        [...inside].map(([from, targets]) => [from, from === cut.from ? targets.filter((to) => to !== cut.to) : targets]),
      );
      const left = components(without).reduce((sum, rest) => sum + rest.length, 0);
      if (left < best.left) best = { cut, left };
    }
    return { members: members.sort(), way: shortestWay(inside, best.cut), ...best };
  });
}

/** The way round through an edge: from its end back to its start. */
function shortestWay(inside: ReadonlyMap<string, readonly string[]>, { from, to }: { from: string; to: string }): string[] {
  const before = new Map<string, string | undefined>([[to, undefined]]);
  for (const id of before.keys()) for (const target of inside.get(id) ?? []) if (!before.has(target)) before.set(target, id);
  const way: string[] = [];
  for (let at: string | undefined = from; at !== undefined; at = before.get(at)) way.unshift(at);
  return [from, ...way];
}

function within(edges: ReadonlyMap<string, readonly string[]>, members: readonly string[]): Map<string, string[]> {
  const set = new Set(members);
  return new Map(members.map((id) => [id, (edges.get(id) ?? []).filter((target) => set.has(target))]));
}

/** Strongly connected components of more than one node, or with an edge to itself (Tarjan's algorithm, without recursion). */
function components(edges: ReadonlyMap<string, readonly string[]>): string[][] {
  const index = new Map<string, number>();
  const low = new Map<string, number>();
  const onStack = new Set<string>();
  const stack: string[] = [];
  const found: string[][] = [];
  for (const start of edges.keys()) {
    if (index.has(start)) continue;
    const open: { id: string; next: number }[] = [];
    const enter = (id: string) => {
      index.set(id, index.size);
      low.set(id, index.get(id)!);
      stack.push(id);
      onStack.add(id);
      open.push({ id, next: 0 });
    };
    enter(start);
    while (open.length > 0) {
      const top = open.at(-1)!;
      const target = edges.get(top.id)?.[top.next++];
      if (target !== undefined) {
        if (!edges.has(target)) continue;
        if (!index.has(target)) enter(target);
        else if (onStack.has(target)) low.set(top.id, Math.min(low.get(top.id)!, index.get(target)!));
        continue;
      }
      open.pop();
      const above = open.at(-1);
      if (above) low.set(above.id, Math.min(low.get(above.id)!, low.get(top.id)!));
      if (low.get(top.id) !== index.get(top.id)) continue;
      const members: string[] = [];
      for (let id = stack.pop()!; ; id = stack.pop()!) {
        onStack.delete(id);
        members.push(id);
        if (id === top.id) break;
      }
      if (members.length > 1 || edges.get(top.id)!.includes(top.id)) found.push(members);
    }
  }
  return found;
}
