import type { ModuleContent } from '../../core/graph/module-content.js';

/** Which modules depend on more than their own file and their imports. */
export class MadeOf {
  /** File -> modules that it went into, beside its own. */
  readonly #dependents = new Map<string, Set<string>>();
  /** Style sheet, or component with styles -> folders (absolute) any of whose files may change it. */
  readonly #folders = new Map<string, readonly string[]>();
  /** Modules with `import()` of patterns, which a new or vanished file may match. */
  readonly withPatterns = new Set<string>();

  note(id: string, content: ModuleContent): void {
    const folders = content.kind === 'asset' ? [] : (content.folders ?? []);
    if (folders.length > 0) this.#folders.set(id, folders);
    else this.#folders.delete(id);
    if (content.linked.requests.some(({ isPattern }) => isPattern)) this.withPatterns.add(id);
    else this.withPatterns.delete(id);
    this.#dependOn(id, content.kind === 'asset' ? [] : (content.dependencies ?? []));
  }

  /** Notes what a module that could not be made depends on. */
  noteFailed(id: string, dependencies: readonly string[]): void {
    this.#dependOn(id, dependencies);
  }

  #dependOn(id: string, dependencies: readonly string[]): void {
    for (const dependency of dependencies)
      this.#dependents.set(dependency, (this.#dependents.get(dependency) ?? new Set()).add(id));
  }

  drop(id: string): void {
    this.#folders.delete(id);
    this.withPatterns.delete(id);
  }

  /** Ids of the files that are no modules themselves and went into some. */
  files(): Iterable<string> {
    return this.#dependents.keys();
  }

  /** Whether a file that is no module itself went into one. */
  isUsed(id: string): boolean {
    return this.#dependents.has(id);
  }

  /** The modules that a written file may change. A module that has gone meanwhile may be among them. */
  affectedBy(id: string, file: string): string[] {
    const looking = [...this.#folders].filter(([, folders]) => folders.some((folder) => file.startsWith(`${folder}/`)));
    return [...looking.map(([module]) => module), ...(this.#dependents.get(id) ?? [])];
  }
}
