import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import type { GraphBuilder } from '../read/graph-builder.js';
import type { Page } from './page.js';

interface Known {
  shape: number;
  order: readonly string[];
  /** For which state of the imports it was looked whether the page is complete. */
  importProblems?: number;
  isComplete?: boolean;
}

/** The modules of pages, found anew only when the graph has another shape: a page is asked for much oftener than that. */
export class PageModules {
  readonly #graph: ModuleGraph<ModuleContent>;
  readonly #builder: GraphBuilder;
  readonly #known = new WeakMap<Page, Known>();

  constructor(graph: ModuleGraph<ModuleContent>, builder: GraphBuilder) {
    this.#graph = graph;
    this.#builder = builder;
  }

  /** Every module that runs when a page loads, dependencies first. Style sheets that scripts import are among them. */
  order(page: Page): readonly string[] {
    return this.#of(page).order;
  }

  /** Whether everything that a page's modules statically need is there. */
  isComplete(page: Page): boolean {
    if (page.problems.length > 0) return false;
    const known = this.#of(page);
    const { importProblems } = this.#builder;
    if (known.importProblems !== importProblems || known.isComplete === undefined) {
      known.importProblems = importProblems;
      known.isComplete = page.runs.every(({ entry }) => this.#graph.has(entry)) && this.#builder.isWhole(known.order);
    }
    return known.isComplete;
  }

  #of(page: Page): Known {
    const { shape } = this.#graph;
    const known = this.#known.get(page);
    if (known?.shape === shape) return known;
    const made = { shape, order: this.#graph.reachable(page.runs.map(({ entry }) => entry)) };
    this.#known.set(page, made);
    return made;
  }
}
