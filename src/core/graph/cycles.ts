import type { ModuleGraph } from './module-graph.js';

interface Frame {
  id: string;
  targets: string[];
  next: number;
}

/**
 * The modules that lie on a cycle of static imports, with a number that those have in common that all lead to each other: Tarjan's
 * strongly connected components, without recursion.
 */
export function modulesOnCycles<Content>(graph: ModuleGraph<Content>): ReadonlyMap<string, number> {
  const onCycle = new Map<string, number>();
  const index = new Map<string, number>();
  const low = new Map<string, number>();
  const open: string[] = [];
  const isOpen = new Set<string>();
  const frames: Frame[] = [];
  const enter = (id: string) => {
    index.set(id, index.size);
    low.set(id, index.get(id)!);
    open.push(id);
    isOpen.add(id);
    frames.push({ id, targets: importsOf(graph, id), next: 0 });
  };
  const lower = (id: string, to: number) => low.set(id, Math.min(low.get(id)!, to));
  for (const start of graph.ids()) {
    if (index.has(start)) continue;
    enter(start);
    for (let frame = frames.at(-1); frame; frame = frames.at(-1)) {
      const target = frame.targets[frame.next++];
      if (target === undefined) {
        frames.pop();
        const below = frames.at(-1);
        if (below) lower(below.id, low.get(frame.id)!);
        if (low.get(frame.id) === index.get(frame.id)) closeComponent(frame.id);
      } else if (!graph.has(target)) {
        // Not there because of a problem, or behind a dynamic import.
      } else if (!index.has(target)) enter(target);
      else {
        if (target === frame.id) onCycle.set(target, index.get(target)!);
        if (isOpen.has(target)) lower(frame.id, index.get(target)!);
      }
    }
  }
  return onCycle;

  function closeComponent(root: string): void {
    const members = open.splice(open.lastIndexOf(root));
    for (const member of members) isOpen.delete(member);
    if (members.length > 1) for (const member of members) onCycle.set(member, index.get(root)!);
  }
}

/**
 * The modules whose code can run before something they import has: those on cycles, and those below them that export
 * hoisted functions, since a module on a cycle may be called before what it imports has run.
 */
export function modulesRunEarly<Content>(graph: ModuleGraph<Content>, isEarly: (content: Content) => boolean): Set<string> {
  const early = new Set(modulesOnCycles(graph).keys());
  const seen = new Set(early);
  for (const id of seen) {
    for (const target of importsOf(graph, id)) {
      const content = graph.content(target);
      if (content === undefined || seen.has(target)) continue;
      seen.add(target);
      if (isEarly(content)) early.add(target);
    }
  }
  return early;
}

function importsOf<Content>(graph: ModuleGraph<Content>, id: string): string[] {
  return graph
    .edges(id)
    .filter(({ kind }) => kind === 'import')
    .map(({ target }) => target);
}
