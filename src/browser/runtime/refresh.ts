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

/** Whether every one of these exports is a React component, so that React itself can take the update. */
export function areComponents(exports: object): boolean {
  const names = Object.keys(exports);
  return (
    names.length > 0 &&
    refreshRuntime !== undefined &&
    names.every((name) => isComponent((exports as Record<string, unknown>)[name]))
  );
}

/** Whether a value is a component; classes and functions count by their capital letter where they have a name. */
export function isComponent(value: unknown): boolean {
  if (!refreshRuntime?.isLikelyComponentType(value)) return false;
  return typeof value !== 'function' || value.name === '' || value.name === 'default' || /^[A-Z]/.test(value.name);
}

/** Lets React render with the new versions. Returns how many components lost their state because their hooks changed. */
export function refreshComponents(): { kept: number; reset: number } {
  const result = refreshRuntime?.performReactRefresh();
  return { kept: result?.updatedFamilies.size ?? 0, reset: result?.staleFamilies.size ?? 0 };
}
