import type { RuntimeEdges } from '../../core/pieces/runtime-edges.js';

/** The function that a linked module is: a generator for ECMAScript modules, a plain function for CommonJS. */
export type Factory = (my: object, ...commonjs: unknown[]) => Iterator<unknown> | AsyncIterator<unknown> | undefined;

/** A module's code and edges as a piece registers them. */
export interface Definition {
  edges: RuntimeEdges;
  factory: Factory;
}

/** What stays of a module while its instances are replaced. */
export interface ModuleEntry {
  readonly id: string;
  definition: Definition;
  instance?: Instance;
  /** Exported name -> the variables of importers that follow it. */
  readonly followers: Map<string, Set<Follower>>;
  /** `import.meta.live.state`, handed on from instance to instance. */
  state: Record<string, unknown>;
}

/** A variable in an importer. */
export interface Follower {
  importer: Instance;
  set(value: unknown): void;
}

/** One imported name of an instance. `name` is `null` for the namespace object. */
export interface Binding {
  dependency: number;
  name: string | null;
  set(value: unknown): void;
  /** The namespace object is used as a whole, not only for its members. */
  isWhole: boolean;
  /** In the checked form: the exporter has run, so reads need no more checks. */
  isReady: boolean;
}

/**
 * The states of a Cyclic Module Record (ECMA-262, 16.2.1.6):
 *
 *   linked ──▶ evaluating ──▶ evaluated
 *                  └──▶ evaluating-async ──▶ evaluated
 */
export type Status = 'linked' | 'evaluating' | 'evaluating-async' | 'evaluated';

/** One run of a module: the fields of a Cyclic Module Record under names of our own style, and what updates need. */
export interface Instance {
  readonly entry: ModuleEntry;
  readonly definition: Definition;
  readonly isCommonJs: boolean;
  /** The module has a top-level `await`. */
  readonly isAsync: boolean;
  body?: Iterator<unknown> | AsyncIterator<unknown>;
  /** Settled when an async body has reached its pause. */
  paused?: Promise<unknown>;
  getters: Record<string, () => unknown>;
  early: readonly string[];
  /** Names among the getters that are no exports. */
  inner?: ReadonlySet<string>;
  indirect: Map<string, [dependency: number, name: string | null]>;
  stars: readonly number[];
  bindings: Binding[];
  namespaces: Map<string, object>;
  /** CommonJS only: what `require` returns. */
  module?: { exports: unknown; id: string; loaded: boolean };

  status: Status;
  error?: { value: unknown };
  dfsIndex: number;
  dfsAncestor: number;
  cycleRoot?: Instance;
  /** Order in which asynchronous evaluation began; `done` once it has ended. */
  asyncOrder?: number | 'done';
  pendingAsync: number;
  asyncParents: Instance[];
  capability?: { promise: Promise<void>; resolve(): void; reject(error: unknown): void };

  /** Place in the order in which modules finished. */
  order: number;
  /** The sets of followers in which variables of this instance are. */
  follows: [group: Set<Follower>, follower: Follower][];
  live?: LiveRecord;
}

/** What a module asked of `import.meta.live`. */
export interface LiveRecord {
  takesItself: boolean;
  onTake: ((exports: object) => void)[];
  onDependency: Map<string, ((exports: object) => void)[]>;
  onCleanup: ((state: Record<string, unknown>) => void)[];
  refused?: { reason: string };
}

/**
 * What modules meet of the runtime: it stands on everything else here, which therefore can't import it. `runtime.ts` fills it in
 * before any module is registered.
 */
export const surface: {
  /** Makes what a linked module calls `my`. */
  handleOf(instance: Instance): object;
  /** What a CommonJS module gets by `require`. */
  requireFrom(importer: Instance, specifier: string): unknown;
  /** Updates may come; in a build they don't, and `import.meta.live` is undefined. */
  isLive: boolean;
  /** In a build: the URL of a worker that a module names by its id; `undefined` for other URLs. */
  workerUrl?(name: string): string | undefined;
} = { handleOf: notYet, requireFrom: notYet, isLive: true };

function notYet(): never {
  throw new Error('The runtime is not put together yet.');
}

/** All modules of the page by id. */
export const registry = new Map<string, ModuleEntry>();

/** Modules that the page itself runs, in order. */
export const entries = new Set<string>();

/** Importer ids of every module, kept while definitions come and go. */
export const importersOf = new Map<string, Set<string>>();

/** Registers a module. A definition under a known id takes the old one's place; its instance stays until it's replaced. */
export function defineModule(id: string, definition: Definition): void {
  const entry = registry.get(id);
  if (entry) forgetImports(id, entry.definition.edges);
  for (const target of targetsOf(definition.edges)) {
    const importers = importersOf.get(target);
    if (importers) importers.add(id);
    else importersOf.set(target, new Set([id]));
  }
  if (entry) entry.definition = definition;
  else registry.set(id, { id, definition, followers: new Map(), state: {} });
}

/** Forgets a module that no page reaches any more. */
export function removeModule(id: string): void {
  const entry = registry.get(id);
  if (!entry) return;
  forgetImports(id, entry.definition.edges);
  registry.delete(id);
}

function forgetImports(id: string, edges: RuntimeEdges): void {
  for (const target of targetsOf(edges)) {
    const importers = importersOf.get(target);
    importers?.delete(id);
    if (importers?.size === 0) importersOf.delete(target);
  }
}

/** Every module that these edges lead to, of whatever kind. */
export function targetsOf(edges: RuntimeEdges): string[] {
  return [...edges.imports, ...(edges.links ?? []), ...Object.values(edges.requires ?? {}), ...dynamicTargets(edges)];
}

/** Modules behind `import()`, in the order of the text. */
export function dynamicTargets({ dynamic = {}, parts = {} }: RuntimeEdges): string[] {
  return [dynamic, ...Object.values(parts).map((part) => part.dynamic ?? {})].flatMap((of) =>
    Object.values(of).map(({ id }) => id),
  );
}

/** The instance behind the n-th static import of `importer`. */
export function dependencyOf(importer: Instance, dependency: number): Instance {
  const { imports, links } = importer.definition.edges;
  const id = imports[dependency] ?? links![dependency - imports.length]!;
  return registry.get(id)!.instance!;
}
