import type { ModuleContent } from '../core/graph/module-content.js';
import { isLazy, type ModuleGraph } from '../core/graph/module-graph.js';
import { contentHash } from '../core/text/content-hash.js';

/** Modules that are loaded together. */
export interface Chunk {
  /** Stays the same as long as the same roots need it, whatever its modules hold. */
  key: string;
  /** What its file's name begins with. */
  name: string;
  /** Ids, dependencies first. */
  modules: string[];
  /** It may come by an `import()`, to a page that doesn't hold its sheets. */
  isLate: boolean;
}

/** What is asked for as one: the modules of a page, or a module behind an `import()`. */
export interface ChunkRoot {
  /** The page's id, or the module's. */
  id: string;
  isPage: boolean;
  /** Modules that it needs statically, dependencies first. */
  modules: readonly string[];
}

/** How a program is cut into files. */
export interface ChunkPlan {
  chunks: Chunk[];
  /** Root -> keys of the chunks that it needs, in the order in which they are to be loaded. */
  needs: Map<string, string[]>;
}

/**
 * Cuts a program so that no module is sent twice to one page and none that the page can't need: modules that the same roots need
 * are a chunk. What a page has from the start is no part of what an `import()` on it brings.
 */
export function planChunks(graph: ModuleGraph<ModuleContent>, roots: readonly ChunkRoot[]): ChunkPlan {
  const pages = roots.filter(({ isPage }) => isPage);
  const inPage = new Map(pages.map(({ id, modules }) => [id, new Set(modules)]));
  const usersOf = new Map<string, string[]>();
  const needed = new Map<string, readonly string[]>();
  for (const { id, isPage, modules } of roots) {
    const around = isPage ? [] : pages.filter((page) => reachesLate(graph, page, id));
    const there = (module: string) => around.length > 0 && around.every((page) => inPage.get(page.id)!.has(module));
    const own = modules.filter((module) => !there(module));
    needed.set(id, own);
    for (const module of own) usersOf.set(module, [...(usersOf.get(module) ?? []), id]);
  }
  const pageIds = new Set(pages.map(({ id }) => id));
  const chunks = new Map<string, Chunk>();
  for (const { id } of roots) {
    for (const module of needed.get(id)!) {
      const users = usersOf.get(module)!;
      const key = users.length === 1 ? users[0]! : contentHash(...users);
      const name = users.length === 1 ? nameOf(users[0]!) : 'shared';
      const chunk = chunks.get(key) ?? { key, name, modules: [], isLate: users.some((user) => !pageIds.has(user)) };
      if (!chunk.modules.includes(module)) chunk.modules.push(module);
      chunks.set(key, chunk);
    }
  }
  const keysOf = (id: string) => [
    ...new Set(
      needed.get(id)!.map((module) => {
        const users = usersOf.get(module)!;
        return users.length === 1 ? users[0]! : contentHash(...users);
      }),
    ),
  ];
  return { chunks: [...chunks.values()], needs: new Map(roots.map(({ id }) => [id, keysOf(id)])) };
}

/** Whether a page may ever ask for a module behind an `import()`. */
function reachesLate(graph: ModuleGraph<ModuleContent>, page: ChunkRoot, target: string): boolean {
  const seen = new Set(page.modules);
  for (const id of seen) {
    if (id === target) return true;
    for (const { target: next, kind } of graph.edges(id)) if (!isLazy(kind) || kind === 'dynamic') seen.add(next);
  }
  return false;
}

function nameOf(id: string): string {
  const name = id
    .split('/')
    .at(-1)!
    .replace(/\?.*$/, '')
    .replace(/\.\w+$/, '');
  return name.replace(/[^\w-]+/g, '-') || 'chunk';
}
