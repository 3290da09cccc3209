import { type ImportCheck, missingExports, passesOn } from '../../core/graph/check-imports.js';
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
  /** Where the requests of modules lead that were asked for in this check, in their order. */
  readonly #targets = new Map<string, readonly (string | undefined)[]>();

  /** Of modules that can't be made (`isFailed`) nothing is known: what the graph has of them is older. */
  constructor(graph: ModuleGraph<ModuleContent>, isFailed: (id: string) => boolean) {
    this.#graph = graph;
    this.#check = {
      linked: (id) => (isFailed(id) ? undefined : graph.content(id)?.linked),
      target: (id, request) => this.#targetOf(id, request),
      mayPassTypes: (id) => typescript.test(id),
      answers: new Map(),
      made: new Map(),
      wide: new Map(),
    };
  }

  /** Checks modules that were made anew, and who imports from those of which others may lack something (`true`). */
  check(changed: ReadonlyMap<string, boolean>): void {
    // What is wrong may be mended by modules further away, where names are passed on.
    const affected = new Set([...changed.keys(), ...[...this.problems.keys()].filter((id) => this.#graph.has(id))]);
    // Who gets exports through others may lack something too.
    const givers = new Set([...changed].filter(([, gives]) => gives).map(([id]) => id));
    for (const id of givers) {
      for (const importer of this.#graph.importers(id)) {
        affected.add(importer);
        const linked = this.#graph.content(importer)?.linked;
        if (linked && passesOn(linked)) givers.add(importer);
      }
    }
    for (const id of affected) {
      const problems = this.#problemsOf(id, affected);
      if (problems.length === 0) this.forget(id);
      else {
        this.problems.set(id, problems);
        this.version++;
      }
    }
    this.#targets.clear();
    this.#check.answers.clear();
    this.#check.made.clear();
    this.#check.wide.clear();
  }

  /** Forgets the problems of a module. */
  forget(id: string): void {
    if (this.problems.delete(id)) this.version++;
  }

  /** Others that have part in a problem of the module are added to `affected`. */
  #problemsOf(id: string, affected: Set<string>): Problem[] {
    const content = this.#graph.content(id);
    if (content?.kind !== 'script') return [];
    return missingExports(id, this.#check).map((missing) => {
      for (const other of missing.circle ?? []) affected.add(other);
      const { specifier } = content.linked.requests[missing.record.request]!;
      return missingExportProblem({ ...missing, file: fileOfPart(id), text: content.source.text, specifier });
    });
  }

  #targetOf(id: string, request: number): string | undefined {
    const known = this.#targets.get(id) ?? this.#targetsOf(id);
    this.#targets.set(id, known);
    return known[request];
  }

  #targetsOf(id: string): (string | undefined)[] {
    const targets = new Map(this.#graph.edges(id).map((edge) => [keyOf(edge), edge.target]));
    return this.#graph.content(id)?.linked.requests.map((request) => targets.get(keyOf(request))) ?? [];
  }
}

function keyOf({ kind, specifier, type = '' }: Pick<Edge, 'kind' | 'specifier' | 'type'>): string {
  return `${kind}\0${specifier}\0${type}`;
}
