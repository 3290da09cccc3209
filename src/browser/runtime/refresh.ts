import type { Instance } from './records.js';

/** The part of React's refresh runtime that is used here. */
export interface RefreshRuntime {
  register(type: unknown, id: string): void;
  createSignatureFunctionForTransform(): unknown;
  isLikelyComponentType(value: unknown): boolean;
  injectIntoGlobalHook(target: object): void;
  performReactRefresh(): { updatedFamilies: Set<unknown>; staleFamilies: Set<unknown> } | null;
}

let refreshRuntime: RefreshRuntime | undefined;

/** Installs React's refresh runtime; must happen before React itself runs. */
export function installRefresh(runtime: RefreshRuntime): void {
  runtime.injectIntoGlobalHook(globalThis);
  refreshRuntime = runtime;
}

/** Gives a component the identity by which its next version is recognised. */
export function registerComponent(component: unknown, id: string): void {
  refreshRuntime?.register(component, id);
}

/** A function with which a component says which hooks it uses. */
export function signatureFunction(): unknown {
  return refreshRuntime?.createSignatureFunctionForTransform() ?? ((type: unknown) => type);
}

/** Whether all that a module exports are React components, so that React itself can take its updates. */
export function exportsComponents(instance: Instance): boolean {
  const names = Object.keys(instance.getters);
  return names.length > 0 && names.every((name) => isComponentExport(instance, name));
}

/** Whether an export is a component. Functions and classes count by their capital letter, a default without a name by its source. */
export function isComponentExport(instance: Instance, name: string): boolean {
  if (!refreshRuntime) return false;
  const value = instance.getters[name]!();
  const isAnonymous = name === 'default' && typeof value === 'function' && (value.name === '' || value.name === 'default');
  if (isAnonymous) return instance.definition.edges.anonymousComponent === true;
  return refreshRuntime.isLikelyComponentType(value);
}

/** Lets React render with the new versions. Returns how many components lost their state because their hooks changed. */
export function refreshComponents(): { kept: number; reset: number } {
  const result = refreshRuntime?.performReactRefresh();
  return { kept: result?.updatedFamilies.size ?? 0, reset: result?.staleFamilies.size ?? 0 };
}
