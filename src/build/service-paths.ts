import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { VineError } from '../core/problem/problem.js';
import { servicePath } from '../core/urls.js';

/**
 * Where the service workers among some workers are written: below nothing but the base and without a hash, since browsers know them by
 * their names, and they are for what is below those.
 *
 * @throws VineError `output-clash`.
 */
export function servicePaths(graph: ModuleGraph<ModuleContent>, workers: readonly string[]): Record<string, string> {
  const registered = new Set<string | undefined>();
  for (const id of graph.ids()) {
    const content = graph.content(id);
    if (content?.kind === 'script') for (const { target, isService } of content.urls) if (isService) registered.add(target);
  }
  const idOf = new Map<string, string>();
  for (const id of workers) {
    if (!registered.has(id)) continue;
    const path = servicePath(id);
    const other = idOf.get(path);
    if (other !== undefined)
      throw new VineError({
        code: 'output-clash',
        message: `Both ${other} and ${id} are service workers, which would be ${path}.`,
        hint: 'Rename one of them.',
      });
    idOf.set(path, id);
  }
  return Object.fromEntries([...idOf].map(([path, id]) => [id, path]));
}
