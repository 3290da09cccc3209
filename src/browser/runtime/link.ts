import { dependencyOf, type Follower, type Instance, type ModuleEntry, registry, surface } from './records.js';
import { type NamespaceTarget, readTarget, resolveImport, type Target } from './resolve-export.js';

/** Thrown where an import can't be satisfied; natively a SyntaxError at link time. */
export class LinkError extends SyntaxError {}

/**
 * Makes an instance of `id` and of everything it statically needs that has none, and connects imports with exports.
 * Works without recursion, so that chains of imports may be of any length.
 *
 * @throws LinkError for a name that isn't exported; no new instance is kept then.
 */
export function linkFrom(id: string): Instance {
  const fresh: Instance[] = [];
  try {
    const root = instantiate(id, fresh);
    for (const instance of fresh) connect(instance);
    return root;
  } catch (error) {
    for (const { entry } of fresh) delete entry.instance;
    throw error;
  }
}

function instantiate(rootId: string, fresh: Instance[]): Instance {
  const waiting = [rootId];
  for (let id = waiting.pop(); id !== undefined; id = waiting.pop()) {
    const entry = registry.get(id);
    if (!entry) throw new LinkError(`The module ${id} has not been loaded.`);
    if (entry.instance) continue;
    const instance = newInstance(entry);
    fresh.push(instance);
    const { imports, links = [] } = instance.definition.edges;
    waiting.push(...[...imports, ...links].filter((target) => !registry.get(target)?.instance));
  }
  return registry.get(rootId)!.instance!;
}

const asyncGenerator = Object.getPrototypeOf(async function* () {}).constructor as unknown;

function newInstance(entry: ModuleEntry): Instance {
  const { definition } = entry;
  const instance: Instance = {
    entry,
    definition,
    isCommonJs: definition.edges.commonjs === true,
    isAsync: definition.edges.async !== undefined || (surface.isLive && definition.factory.constructor === asyncGenerator),
    getters: {},
    early: [],
    indirect: new Map(),
    stars: [],
    bindings: [],
    namespaces: new Map(),
    status: 'linked',
    dfsIndex: -1,
    dfsAncestor: -1,
    pendingAsync: 0,
    asyncParents: [],
    order: -1,
    follows: [],
  };
  entry.instance = instance;
  if (instance.isCommonJs) return instance;
  // The first step declares: functions are hoisted, imports and exports are announced, nothing of the body runs.
  instance.body = definition.factory.call(undefined, surface.handleOf(instance)) as Iterator<unknown>;
  const paused: unknown = instance.body.next();
  if (instance.isAsync && definition.edges.async !== 'steps') instance.paused = paused as Promise<unknown>;
  return instance;
}

/** Lets the variables of an importer follow what they import. Also used again when what they import was replaced. */
export function connect(importer: Instance): void {
  for (const binding of importer.bindings) {
    const { dependency, name, set } = binding;
    const target = resolveImport(importer, binding);
    // What TypeScript only passes on may be a type, of which nothing is left. Others were checked by the build.
    if (target === null && isPassedOn(importer, dependency, name)) continue;
    if (target === null || target === 'ambiguous') throw missingExport(importer, dependency, name!, target);
    follow(target, { importer, set });
  }
}

function isPassedOn(importer: Instance, dependency: number, name: string | null): boolean {
  if (!/\.[mc]?tsx?$/.test(importer.entry.id)) return false;
  return [...importer.indirect.values()].some(([at, imported]) => at === dependency && imported === name);
}

function follow(target: Target, follower: Follower): void {
  if ('namespace' in target) {
    addFollower(target.namespace, followedNamespace(target), follower);
    if (hasRun(target.namespace)) follower.set(readTarget(target));
    return;
  }
  const { instance, name } = target;
  addFollower(instance, name, follower);
  if (hasRun(instance)) follower.set(readTarget(target));
  else if (instance.early.includes(name)) setEarly(follower, target);
}

/** The name under which followers of a namespace object are kept; no export is called so. */
function followedNamespace({ nodeDefault, isWhole }: NamespaceTarget): string {
  return `* ${nodeDefault ? 'node ' : ''}${isWhole ? 'whole' : ''}`;
}

function addFollower(instance: Instance, name: string, follower: Follower): void {
  const { followers } = instance.entry;
  const group = followers.get(name) ?? new Set();
  followers.set(name, group.add(follower));
  follower.importer.follows.push([group, follower]);
}

/** Sets a variable to a function that is hoisted. The linker goes by the text: what looks like one may stand in another scope. */
function setEarly(follower: Follower, target: Target): void {
  try {
    follower.set(readTarget(target));
  } catch (error) {
    if (!(error instanceof ReferenceError)) throw error;
  }
}

function hasRun(instance: Instance): boolean {
  return instance.order !== -1;
}

/** Passes the values of an instance's exports on to the importers' variables. */
export function pushExports(instance: Instance, names: Iterable<string> = instance.entry.followers.keys()): void {
  for (const name of names) {
    const group = instance.entry.followers.get(name);
    if (!group) continue;
    const target: Target = name.startsWith('*')
      ? { namespace: instance, nodeDefault: name.includes('node'), isWhole: name.includes('whole') }
      : { instance, name };
    if ('instance' in target && !instance.isCommonJs && !Object.hasOwn(instance.getters, name)) continue;
    const value = readTarget(target);
    for (const follower of group) follower.set(value);
  }
}

/** Takes the variables of `importer` off everything they follow. */
export function disconnect(importer: Instance): void {
  for (const [group, follower] of importer.follows) group.delete(follower);
  importer.follows = [];
}

function missingExport(importer: Instance, dependency: number, name: string, found: null | 'ambiguous'): LinkError {
  const from = dependencyOf(importer, dependency).entry.id;
  const importing = `${importer.entry.id} imports '${name}' from ${from}`;
  return new LinkError(
    found === null ? `${importing}, which does not export it.` : `${importing}, which gets different ones from several modules.`,
  );
}
