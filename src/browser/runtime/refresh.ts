import { asked } from './page-values.js';
import { type ReactHook, redoPending, watchRoots } from './react-roots.js';
import type { Instance } from './records.js';

/** The part of React's refresh runtime that is used here. */
export interface RefreshRuntime {
  register(type: unknown, id: string): void;
  createSignatureFunctionForTransform(): SignatureFunction;
  isLikelyComponentType(value: unknown): boolean;
  injectIntoGlobalHook(target: object): void;
  performReactRefresh(): { staleFamilies: Set<{ current: unknown }> } | null;
}

/** Called by a component with nothing, and after its declaration with the component and a key of the hooks it uses. */
type SignatureFunction = (type?: unknown, key?: string, forceReset?: boolean, customHooks?: () => unknown[]) => unknown;

interface PreactSignature {
  key?: string;
  forceReset?: boolean;
}

/** Preact's refresh runtime, which is a module of the page and leaves itself in a global variable. */
interface PreactRefresh {
  register(type: unknown, id: string): void;
  sign(type: unknown, key: unknown, forceReset: unknown, customHooks: unknown, status: string): string | undefined;
  getPendingUpdates(): [before: unknown, after: unknown][];
  flush(): void;
  getSignature(type: unknown): PreactSignature | undefined;
  computeKey(signature: PreactSignature): string;
  replaceComponent(before: unknown, after: unknown, resetHooks: boolean): void;
}

let refreshRuntime: RefreshRuntime | undefined;

/** Installs React's refresh runtime; must happen before React itself runs. */
export function installRefresh(runtime: RefreshRuntime): void {
  runtime.injectIntoGlobalHook(globalThis);
  watchRoots((globalThis as { __REACT_DEVTOOLS_GLOBAL_HOOK__?: ReactHook }).__REACT_DEVTOOLS_GLOBAL_HOOK__);
  refreshRuntime = runtime;
}

function preactRefresh(): PreactRefresh | undefined {
  return (globalThis as { __PREFRESH__?: PreactRefresh }).__PREFRESH__;
}

/** Names under which a module's components were registered in its last run. */
const registeredNames = new Map<string, Set<string>>();

/** Forgets which components a module registered, since it runs again. Returns their names. */
export function takeRegistered(id: string): ReadonlySet<string> {
  const names = registeredNames.get(id);
  registeredNames.delete(id);
  return names ?? new Set();
}

/** Those of some components that a module registers no more: whatever stands in their places has a state of its own. */
export function vanishedComponents(id: string, before: ReadonlySet<string>): string[] {
  const now = registeredNames.get(id);
  return [...before].filter((name) => /^[A-Z]\w*$/.test(name) && !now?.has(name));
}

/** Gives a component of a module the identity by which its next version is recognised. */
export function registerComponent(component: unknown, name: string, { entry, definition }: Instance): void {
  // React takes for granted that a lazy component stays what it once loaded and never asks again. If the module imports
  // other modules now, what was lazy is another component.
  const targets = isLazyComponent(component) ? Object.values(definition.edges.dynamic ?? {}).map(({ id }) => id) : [];
  const identity = [entry.id, name, ...targets].join(' ');
  const names = registeredNames.get(entry.id);
  if (names) names.add(name);
  else registeredNames.set(entry.id, new Set([name]));
  refreshRuntime?.register(component, identity);
  preactRefresh()?.register(component, identity);
}

function isLazyComponent(component: unknown): boolean {
  return asked(() => (component as { $$typeof?: unknown } | null | undefined)?.$$typeof === Symbol.for('react.lazy'), false);
}

/** A function with which a component says which hooks it uses. */
export function signatureFunction(): SignatureFunction {
  const sign = refreshRuntime?.createSignatureFunctionForTransform();
  const preact = preactRefresh();
  if (!preact) return sign ?? ((type) => type);
  let status: string | undefined = 'begin';
  let signed: unknown;
  return (type, key, forceReset, customHooks) => {
    signed ??= type;
    status = preact.sign(type ?? signed, key, forceReset, customHooks, status ?? '');
    // Called by the component itself, while Preact renders it, it concerns Preact only.
    return type === undefined ? undefined : sign?.(type, key, forceReset, customHooks);
  };
}

/** Whether all that a module exports are components, so that their library itself can take its updates. */
export function exportsComponents(instance: Instance): boolean {
  const names = Object.keys(instance.getters);
  return names.length > 0 && names.every((name) => isComponentExport(instance, name));
}

/** Whether an export is a component. Functions and classes count by their capital letter, a default without a name by its source. */
export function isComponentExport(instance: Instance, name: string): boolean {
  const runtime = refreshRuntime;
  if (!runtime) return false;
  const value = instance.getters[name]!();
  const isComponent = () => {
    const isAnonymous = name === 'default' && typeof value === 'function' && (value.name === '' || value.name === 'default');
    if (isAnonymous) return instance.definition.edges.anonymousComponent === true;
    return runtime.isLikelyComponentType(value) || isPreactClass(value);
  };
  return asked(isComponent, false);
}

/**
 * Whether React can put the components of a module's new instance in the places of the old ones. What was a function and
 * is a class or in `memo` now is another element for it, which only those who render it can give it.
 */
export function exportsSameKinds(before: Instance, after: Instance): boolean {
  const names = Object.keys(before.getters);
  if (names.length !== Object.keys(after.getters).length) return false;
  return names.every(
    (name) =>
      Object.hasOwn(after.getters, name) &&
      asked(() => kindOf(before.getters[name]!()) === kindOf(after.getters[name]!()), false),
  );
}

function kindOf(component: unknown): string {
  if (typeof component === 'function') return isClass(component) ? 'class' : 'function';
  const { $$typeof, type, render } = (component ?? {}) as { $$typeof?: symbol; type?: unknown; render?: unknown };
  return `${String($$typeof)} ${type || render ? kindOf(type ?? render) : ''}`;
}

function isClass({ prototype }: { prototype?: { isReactComponent?: unknown; render?: unknown } }): boolean {
  return prototype?.isReactComponent !== undefined || typeof prototype?.render === 'function';
}

function isPreactClass(value: unknown): boolean {
  if (!preactRefresh() || typeof value !== 'function') return false;
  return /^[A-Z]/.test(value.name) && typeof (value.prototype as { render?: unknown } | undefined)?.render === 'function';
}

/** Lets components render in their new versions. Returns the names of those that lost their state, e.g. because their hooks changed. */
export function refreshComponents(): string[] {
  const reset = refreshPreact();
  try {
    const result = refreshRuntime?.performReactRefresh();
    reset.push(...[...(result?.staleFamilies ?? [])].map(({ current }) => componentName(current)));
    if (result) redoPending();
  } catch (error) {
    // A component failed while it rendered. React 19 reports that itself, React 18 throws it at whoever asked.
    reportError(error);
  }
  return [...new Set(reset)];
}

function refreshPreact(): string[] {
  const preact = preactRefresh();
  if (!preact) return [];
  const reset: string[] = [];
  // A component is known under several names.
  const updates = new Map(preact.getPendingUpdates());
  preact.flush();
  for (const [before, after] of updates) {
    const [old, fresh] = [preact.getSignature(before) ?? {}, preact.getSignature(after) ?? {}];
    const hasOtherHooks = old.key !== fresh.key || preact.computeKey(old) !== preact.computeKey(fresh) || !!fresh.forceReset;
    if (hasOtherHooks) reset.push(componentName(after));
    preact.replaceComponent(before, after, hasOtherHooks);
  }
  return reset;
}

interface Wrapped {
  displayName?: string;
  name?: string;
  type?: Wrapped;
  render?: Wrapped;
}

/** The name of a component; that of one in `memo` or `forwardRef` is inside. */
function componentName(component: unknown): string {
  return asked(() => nameIn(component), undefined) ?? 'a component without a name';
}

function nameIn(component: unknown): string | undefined {
  for (let at = component as Wrapped | undefined; at; at = at.type ?? at.render) {
    const name = at.displayName ?? at.name;
    if (name) return name;
  }
  return undefined;
}
