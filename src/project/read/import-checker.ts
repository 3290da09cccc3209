import { type ImportCheck, missingExports } from '../../core/graph/check-imports.js';
import { missingExportProblem } from '../../core/graph/missing-export.js';
import type { ModuleContent } from '../../core/graph/module-content.js';
import type { Edge, ModuleGraph } from '../../core/graph/module-graph.js';
import { fileOfPart } from '../../core/module-id.js';
import type { Problem } from '../../core/problem/problem.js';

const typescript = /\.[mc]?tsx?$/;

/** Keeps the problems of imports whose names aren't exported, checking only what a change can concern. */
export class ImportChecker {
  /** Problems by importer. */
  readonly problems = new Map<string, Problem[]>();
  /** Changes with them. */
  version = 0;
  readonly #graph: ModuleGraph<ModuleContent>;
  readonly #check: ImportCheck;
  /** The targets of the module that was asked for last: its imports are looked at one after another. */
  #lastEdges: readonly Edge[] | undefined;
  #lastTargets: ReadonlyMap<string, string> = new Map();

  constructor(graph: ModuleGraph<ModuleContent>) {
    this.#graph = graph;
    this.#check = {
      linked: (id) => graph.content(id)?.linked,
      target: (id, request) => this.#targetOf(id, request),
    };
  }

  /** Checks modules whose imports or exports may have changed, and who imports from them. */
  check(changed: ReadonlySet<string>): void {
    const affected = new Set(changed);
    for (const id of affected) {
      // Who gets exports through `export *` may lack something too.
      const passesOn = (this.#graph.content(id)?.linked.stars.length ?? 0) > 0;
      if (changed.has(id) || passesOn) for (const importer of this.#graph.importers(id)) affected.add(importer);
    }
    for (const id of affected) {
      const problems = this.#problemsOf(id);
      if (problems.length === 0) this.forget(id);
      else {
        this.problems.set(id, problems);
        this.version++;
      }
    }
  }

  /** Forgets the problems of a module. */
  forget(id: string): void {
    if (this.problems.delete(id)) this.version++;
  }

  #problemsOf(id: string): Problem[] {
    const content = this.#graph.content(id);
    if (content?.kind !== 'script') return [];
    // What TypeScript only passes on may be a type, which a translation file by file can't know.
    const missing = missingExports(id, this.#check).filter(({ record }) => !(record.isPassedOn && typescript.test(id)));
    return missing.map(({ record, from, known }) => {
      const { specifier } = content.linked.requests[record.request]!;
      return missingExportProblem({ file: fileOfPart(id), text: content.source.text, record, specifier, from, known });
    });
  }

  #targetOf(id: string, request: number): string | undefined {
    const wanted = this.#graph.content(id)?.linked.requests[request];
    const edges = this.#graph.edges(id);
    if (this.#lastEdges !== edges) {
      this.#lastEdges = edges;
      this.#lastTargets = new Map(edges.map((edge) => [keyOf(edge), edge.target]));
    }
    return wanted && this.#lastTargets.get(keyOf(wanted));
  }
}

function keyOf({ kind, specifier, type = '' }: Pick<Edge, 'kind' | 'specifier' | 'type'>): string {
  return `${kind}\0${specifier}\0${type}`;
}
