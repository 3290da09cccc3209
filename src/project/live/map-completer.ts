import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import { completeMap } from '../../core/maps/module-map.js';

/** How long the work goes on at a time, so that requests and saves never wait for it. */
const sliceMs = 4;

/** Completes the maps of modules while nothing else is going on: a debugger then gets them as they are. */
export class MapCompleter {
  readonly #graph: ModuleGraph<ModuleContent>;
  #isStopped = false;

  constructor(graph: ModuleGraph<ModuleContent>) {
    this.#graph = graph;
  }

  /** Settles when the maps of all modules that are there now are complete. */
  async run(): Promise<void> {
    let until = performance.now() + sliceMs;
    for (const id of [...this.#graph.ids()]) {
      const content = this.#graph.content(id);
      if (content?.kind !== 'script' || !content.map) continue;
      const { source, map, linked } = content;
      completeMap(map, { source, shifts: linked.shifts, code: linked.code });
      source.keepAsJson();
      if (performance.now() < until) continue;
      await new Promise((resolve) => setTimeout(resolve, 1));
      if (this.#isStopped) return;
      until = performance.now() + sliceMs;
    }
  }

  stop(): void {
    this.#isStopped = true;
  }
}
