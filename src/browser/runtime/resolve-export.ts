import { dependencyOf, type Instance } from './records.js';

/** What an exported name comes down to: a binding of some module, or a module's namespace object. */
export type Target = { instance: Instance; name: string } | NamespaceTarget;

/** `isWhole`: it may be looked at as a whole, so it must be what the standard says to the last detail. */
export interface NamespaceTarget {
  namespace: Instance;
  nodeDefault: boolean;
  isWhole: boolean;
}

/** ResolveExport (ECMA-262, 16.2.1.7.2.2): `null` where there is no such export. */
export function resolveExport(instance: Instance, name: string, seen: Set<string> = new Set()): Target | 'ambiguous' | null {
  if (instance.isCommonJs) return { instance, name };
  const key = `${instance.entry.id}\0${name}`;
  if (seen.has(key)) return null;
  seen.add(key);
  if (Object.hasOwn(instance.getters, name)) return { instance, name };
  const indirect = instance.indirect.get(name);
  if (indirect) return resolveImport(instance, { dependency: indirect[0], name: indirect[1], isWhole: true }, seen);
  if (name === 'default') return null;
  return resolveStar(instance, name, seen);
}

/** What `importer` gets for one of its imported names. */
export function resolveImport(
  importer: Instance,
  { dependency, name, isWhole }: { dependency: number; name: string | null; isWhole: boolean },
  seen?: Set<string>,
): Target | 'ambiguous' | null {
  const target = dependencyOf(importer, dependency);
  const nodeDefault = importer.definition.edges.nodeDefault === true;
  if (name === null) return { namespace: target, nodeDefault, isWhole };
  // Under Node's convention the default of a CommonJS module is all of `module.exports`.
  return resolveExport(target, target.isCommonJs && nodeDefault && name === 'default' ? 'module.exports' : name, seen);
}

function resolveStar(instance: Instance, name: string, seen: Set<string>): Target | 'ambiguous' | null {
  let found: Target | null = null;
  let dynamic: Target | null = null;
  for (const dependency of instance.stars) {
    const target = dependencyOf(instance, dependency);
    const resolved = resolveExport(target, name, seen);
    if (resolved === 'ambiguous') return resolved;
    if (resolved === null) continue;
    if (target.isCommonJs) {
      // Only a run tells which names a CommonJS module has; ECMAScript modules come first.
      if (!target.module?.loaded || hasName(target.module.exports, name)) dynamic ??= resolved;
    } else if (found === null) found = resolved;
    else if (!isSameTarget(found, resolved)) return 'ambiguous';
  }
  return found ?? dynamic;
}

function hasName(exports: unknown, name: string): boolean {
  return exports !== null && (typeof exports === 'object' || typeof exports === 'function') && name in exports;
}

function isSameTarget(a: Target, b: Target): boolean {
  if ('namespace' in a || 'namespace' in b) return 'namespace' in a && 'namespace' in b && a.namespace === b.namespace;
  return a.instance === b.instance && a.name === b.name;
}

/** GetExportedNames (ECMA-262, 16.2.1.7.2.1). */
export function exportedNames(instance: Instance, seen: Set<Instance> = new Set()): Set<string> {
  const names = new Set<string>();
  if (seen.has(instance)) return names;
  seen.add(instance);
  if (instance.isCommonJs) {
    const exports = instance.module?.exports;
    if (exports !== null && (typeof exports === 'object' || typeof exports === 'function')) {
      for (const name of Object.keys(exports)) names.add(name);
    }
    names.add('default');
    return names;
  }
  for (const name of Object.keys(instance.getters)) if (!instance.inner?.has(name)) names.add(name);
  for (const name of instance.indirect.keys()) names.add(name);
  for (const dependency of instance.stars) {
    for (const name of exportedNames(dependencyOf(instance, dependency), seen)) if (name !== 'default') names.add(name);
  }
  return names;
}

/** The value of an export; throws a ReferenceError where the standard does. */
export function readTarget(target: Target): unknown {
  if ('namespace' in target) return namespaceOf(target.namespace, target);
  const { instance, name } = target;
  if (instance.isCommonJs) return readCommonJs(instance, name);
  const value = instance.getters[name]!();
  if (name === 'default') nameDefault(value);
  return value;
}

/** An anonymous default export is called `default` (ECMA-262, 16.2.3.7); in the linked form it has a variable's name. */
function nameDefault(value: unknown): void {
  if (typeof value === 'function' && /^my\d*_d$/.test(value.name))
    Object.defineProperty(value, 'name', { value: 'default', configurable: true });
}

function readCommonJs(instance: Instance, name: string): unknown {
  const exports = instance.module?.exports as Record<string, unknown> | null | undefined;
  if (name === 'module.exports') return exports;
  if (name === 'default') return exports?.__esModule ? exports.default : exports;
  return exports === null || exports === undefined ? undefined : exports[name];
}

/** The module namespace object (ECMA-262, 10.4.6): sorted names that read through to the variables. */
export function namespaceOf(
  instance: Instance,
  { nodeDefault = false, isWhole = true }: { nodeDefault?: boolean; isWhole?: boolean } = {},
): object {
  const key = `${nodeDefault} ${isWhole}`;
  const known = instance.namespaces.get(key);
  if (known) return known;
  const names: [string, Target][] = [];
  for (const name of [...exportedNames(instance)].sort()) {
    const resolved = resolveExport(instance, instance.isCommonJs && nodeDefault && name === 'default' ? 'module.exports' : name);
    if (resolved && resolved !== 'ambiguous') names.push([name, resolved]);
  }
  const hasRun = instance.isCommonJs
    ? instance.module?.loaded === true
    : names.every(([, target]) => !('instance' in target) || target.instance.order !== -1);
  const namespace = instance.isCommonJs || (!isWhole && hasRun) ? fastNamespace(names) : exactNamespace(new Map(names));
  // What is added or becomes readable later must not be missed.
  if (hasRun || (isWhole && !instance.isCommonJs)) instance.namespaces.set(key, namespace);
  return namespace;
}

/** A namespace object for reading members only, of a module that has run: getters, which engines make as fast as variables. */
function fastNamespace(names: readonly [string, Target][]): object {
  const namespace = Object.create(null) as object;
  for (const [name, target] of names) Object.defineProperty(namespace, name, { enumerable: true, get: () => readTarget(target) });
  Object.defineProperty(namespace, Symbol.toStringTag, { value: 'Module' });
  return Object.preventExtensions(namespace);
}

/**
 * A module namespace exotic object (ECMA-262, 10.4.6). Its properties look like writable values, and even looking at one
 * throws until its variable is initialised, which only a proxy can do.
 */
function exactNamespace(names: ReadonlyMap<string | symbol, Target>): object {
  const shape = Object.create(null) as object;
  for (const name of names.keys()) Object.defineProperty(shape, name, { value: undefined, writable: true, enumerable: true });
  Object.defineProperty(shape, Symbol.toStringTag, { value: 'Module' });
  const read = (name: string | symbol) => readTarget(names.get(name)!);
  return new Proxy(Object.preventExtensions(shape), {
    get: (target, name) => (names.has(name) ? read(name) : Reflect.get(target, name)),
    set: () => false,
    // Succeeds where it would change nothing (10.4.6.6).
    defineProperty: (target, name, wanted) => {
      const current = names.has(name)
        ? { value: read(name), writable: true, enumerable: true, configurable: false }
        : Reflect.getOwnPropertyDescriptor(target, name);
      if (!current) return false;
      const same = (['configurable', 'enumerable', 'writable'] as const).every(
        (key) => wanted[key] === undefined || wanted[key] === current[key],
      );
      return same && !wanted.get && !wanted.set && (!('value' in wanted) || Object.is(wanted.value, current.value));
    },
    deleteProperty: (target, name) => !Object.hasOwn(target, name),
    getOwnPropertyDescriptor: (target, name) =>
      names.has(name)
        ? { value: read(name), writable: true, enumerable: true, configurable: false }
        : Reflect.getOwnPropertyDescriptor(target, name),
  });
}
