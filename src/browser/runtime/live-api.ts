import type { Instance, LiveRecord } from './records.js';

/** `import.meta.live` of one instance. `docs/updates.md` holds the contract. */
export interface Live {
  readonly state: Record<string, unknown>;
  take(callback?: (exports: object) => void): void;
  take(dependency: string | string[], callback: (exports: object) => void): void;
  cleanup(callback: (state: Record<string, unknown>) => void): void;
  refuse(reason?: string): void;
  anew(...names: string[]): void;
}

/** Told whose state starts anew in the update that is under way. */
let onLoss: ((names: string[]) => void) | undefined;

/** Sets who is told of state that starts anew. */
export function setLossListener(listener: NonNullable<typeof onLoss>): void {
  onLoss = listener;
}

/** Called when a module refuses an update that is under way. */
let onRefusal: ((instance: Instance, reason: string) => void) | undefined;

/** Sets what a `refuse()` in a `take` callback does. */
export function setRefusalListener(listener: NonNullable<typeof onRefusal>): void {
  onRefusal = listener;
}

/** Makes the object behind `import.meta.live`. */
export function liveOf(instance: Instance): Live {
  return {
    state: instance.entry.state,
    take(first?: string | string[] | ((exports: object) => void), callback?: (exports: object) => void) {
      const record = recordOf(instance);
      if (typeof first !== 'string' && !Array.isArray(first)) {
        record.takesItself = true;
        if (first) record.onTake.push(first);
        return;
      }
      for (const specifier of typeof first === 'string' ? [first] : first) {
        const id = targetOf(instance, specifier);
        record.onDependency.set(id, [...(record.onDependency.get(id) ?? []), callback ?? (() => {})]);
      }
    },
    cleanup(callback) {
      recordOf(instance).onCleanup.push(callback);
    },
    anew(...names) {
      onLoss?.(names);
    },
    refuse(reason = 'it refused the update') {
      if (instance.status === 'evaluated') onRefusal?.(instance, reason);
      else recordOf(instance).refused = { reason };
    },
  };
}

function recordOf(instance: Instance): LiveRecord {
  instance.live ??= { takesItself: false, onTake: [], onDependency: new Map(), onCleanup: [] };
  return instance.live;
}

/** The id behind a specifier in `take('./tide', …)`, which the server put beside the module's edges. */
function targetOf(instance: Instance, specifier: string): string {
  const { specifiers } = instance.definition.edges;
  const id = specifiers && Object.hasOwn(specifiers, specifier) ? specifiers[specifier] : undefined;
  if (id === undefined)
    throw new TypeError(
      `import.meta.live.take('${specifier}', …) in ${instance.entry.id}: the module does not import '${specifier}'.`,
    );
  return id;
}
