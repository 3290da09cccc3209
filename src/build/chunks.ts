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
  /** A worker's script brings all of its modules itself: none of them is in a chunk for its sake. */
  kind: 'page' | 'late' | 'worker';
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
 * are a chunk, and small ones a part of another one. What a page has from the start is no part of what an `import()` on it brings,
 * unless a worker asks for the same, which has nothing of the page.
 */
export function planChunks(graph: ModuleGraph<ModuleContent>, roots: readonly ChunkRoot[]): ChunkPlan {
  const places = roots
    .filter(({ kind }) => kind !== 'late')
    .map(({ id, kind, modules }) => ({ id, kind, modules: new Set(modules), ever: reachableEver(graph, modules) }));
  const pages = places.filter(({ kind }) => kind === 'page');
  const needed = new Map<string, string[]>();
  const usersOf = new Map<string, string[]>();
  for (const { id, kind, modules } of roots) {
    if (kind === 'worker') continue;
    const around = kind === 'page' ? [] : places.filter((place) => place.ever.has(id));
    const own = modules.filter((module) => around.length === 0 || !around.every((place) => place.modules.has(module)));
    needed.set(id, own);
    for (const module of own) {
      const users = usersOf.get(module);
      if (users) users.push(id);
      else usersOf.set(module, [id]);
    }
  }
  const pageIds = new Set(pages.map(({ id }) => id));
  const chunks = new Map<string, Chunk>();
  const keyOf = new Map<string, string>();
  // Roots come in a fixed order, and with them modules and their users.
  for (const [module, users] of usersOf) {
    const isAlone = users.length === 1;
    const key = isAlone ? users[0]! : contentHash(...users);
    keyOf.set(module, key);
    const isLate = users.some((user) => !pageIds.has(user));
    const chunk = chunks.get(key) ?? { key, name: isAlone ? nameOf(users[0]!) : 'shared', modules: [], isLate };
    chunk.modules.push(module);
    chunks.set(key, chunk);
  }
  joinSmall(graph, { chunks, keyOf, usersOf, pages, pageIds });
  const keysOf = (id: string) => [...new Set(needed.get(id)!.map((module) => keyOf.get(module)!))];
  return { chunks: [...chunks.values()], needs: new Map([...needed.keys()].map((id) => [id, keysOf(id)])) };
}

/** What is shared and no larger than this, in characters of the source, is no file of its own if it can be a part of another one. */
const smallest = 2000;

interface Plan {
  chunks: Map<string, Chunk>;
  /** Module -> key of its chunk. */
  keyOf: Map<string, string>;
  usersOf: ReadonlyMap<string, readonly string[]>;
  pages: readonly { ever: ReadonlySet<string> }[];
  pageIds: ReadonlySet<string>;
}

/**
 * Puts what only some late modules share into what these and more share, where that is small: one request less for them, and a
 * few bytes more for the others, on pages that may need it anyway. Nothing of it runs before it's asked for. Sheets count as
 * soon as they are there, so that theirs stay where they are.
 */
function joinSmall(graph: ModuleGraph<ModuleContent>, { chunks, keyOf, usersOf, pages, pageIds }: Plan): void {
  const shared = [...chunks.values()]
    .map((chunk) => ({ chunk, users: new Set(usersOf.get(chunk.modules[0]!)) }))
    .filter(({ users }) => users.size > 1 && [...users].every((user) => !pageIds.has(user)));
  const pagesOf = (users: ReadonlySet<string>) => pages.filter(({ ever }) => [...users].some((user) => ever.has(user)));
  const sizeOf = ({ modules }: Chunk) =>
    modules.reduce((sum, id) => {
      const content = graph.content(id);
      return sum + (content?.kind === 'script' ? content.source.text.length : Number.POSITIVE_INFINITY);
    }, 0);
  // The smallest set of users first, so that what is joined may be joined again.
  shared.sort((a, b) => a.users.size - b.users.size || (a.chunk.key < b.chunk.key ? -1 : 1));
  for (const [at, { chunk, users }] of shared.entries()) {
    if (sizeOf(chunk) > smallest) continue;
    const ofPages = pagesOf(users).length;
    // What only workers ask for is needed on no page.
    if (ofPages === 0) continue;
    const host = shared
      .slice(at + 1)
      .find((other) => [...users].every((user) => other.users.has(user)) && pagesOf(other.users).length === ofPages);
    if (!host) continue;
    host.chunk.modules.push(...chunk.modules);
    for (const id of chunk.modules) keyOf.set(id, host.chunk.key);
    chunks.delete(chunk.key);
  }
}

/** Everything that a page may ever ask for, by `import()` too. */
function reachableEver(graph: ModuleGraph<ModuleContent>, modules: readonly string[]): ReadonlySet<string> {
  const seen = new Set(modules);
  for (const id of seen)
    for (const { target, kind } of graph.edges(id)) if (!isLazy(kind) || kind === 'dynamic') seen.add(target);
  return seen;
}

/** Everything that modules lead to, later and in workers too. */
export function usedBelow(graph: ModuleGraph<ModuleContent>, from: Iterable<string>): ReadonlySet<string> {
  const seen = new Set(from);
  for (const id of seen) for (const { target } of graph.edges(id)) seen.add(target);
  return seen;
}

function nameOf(id: string): string {
  const name = id
    .split('/')
    .at(-1)!
    .replace(/\?.*$/, '')
    .replace(/\.\w+$/, '');
  return name.replace(/[^\w-]+/g, '-') || 'chunk';
}
