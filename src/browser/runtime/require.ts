import { evaluateNow } from './evaluate.js';
import { linkFrom } from './link.js';
import { type Instance, registry } from './records.js';
import { namespaceOf } from './resolve-export.js';

/**
 * `require` of a CommonJS module.
 *
 * @throws Error `MODULE_NOT_FOUND`, and what the other module throws.
 */
export function requireFrom(importer: Instance, specifier: string): unknown {
  const { requires } = importer.definition.edges;
  const id = requires && Object.hasOwn(requires, specifier) ? requires[specifier]! : undefined;
  const entry = id === undefined ? undefined : registry.get(id);
  if (!entry) {
    const error = new Error(`Cannot find module '${specifier}', required by ${importer.entry.id}.`);
    throw Object.assign(error, { code: 'MODULE_NOT_FOUND' });
  }
  const instance = entry.instance ?? linkFrom(entry.id);
  if (instance.isCommonJs) {
    if (instance.status === 'linked') evaluateNow(instance);
    return instance.module?.exports;
  }
  evaluateNow(instance);
  if (instance.definition.edges.value) return (namespaceOf(instance) as { default: unknown }).default;
  return requiredModule(instance);
}

const requiredModules = new WeakMap<Instance, object>();

/** What `require` gives for an ECMAScript module, as in Node.js: its namespace, or where there is a default export one that says so. */
function requiredModule(instance: Instance): object {
  const namespace = namespaceOf(instance);
  if (!('default' in namespace) || '__esModule' in namespace) return namespace;
  const known = requiredModules.get(instance);
  if (known) return known;
  const marked: Record<string, unknown> = Object.create(null, { [Symbol.toStringTag]: { value: 'Module' } });
  for (const name of Reflect.ownKeys(namespace))
    if (typeof name === 'string')
      Object.defineProperty(marked, name, { enumerable: true, get: () => (namespace as typeof marked)[name] });
  Object.defineProperty(marked, '__esModule', { enumerable: true, value: true });
  requiredModules.set(instance, marked);
  return marked;
}
