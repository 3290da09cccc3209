import type { ReloadReason } from '../../core/live/messages.js';
import { type Instance, importersOf, registry } from '../runtime/records.js';
import { exportsComponents, isComponentExport } from '../runtime/refresh.js';
import { isEntry } from '../runtime/runtime.js';

/** Thrown where an update can't be taken in place: the page has to reload, for this reason. */
export class NeedsReload extends Error {
  readonly why: ReloadReason;

  constructor(reason: string, chain: string[] = []) {
    super(reason);
    this.why = { reason, chain };
  }
}

/** What an update asks for. */
export interface Plan {
  /** Modules to run again, with the chain from the changed module to them. */
  rerun: Map<string, string[]>;
  /** Modules of those that take the update themselves. */
  takers: Set<string>;
  /** Dependency -> importers that take its update without running again. */
  takenBy: Map<string, Set<string>>;
}

export function emptyPlan(): Plan {
  return { rerun: new Map(), takers: new Set(), takenBy: new Map() };
}

/** Walks from the changed modules up through the importers that really ran, to the modules that take the update. */
export function planUpdate(changed: Iterable<string>, notes: string[]): Plan {
  const plan = emptyPlan();
  for (const id of changed) plan.rerun.set(id, [id]);
  // A Map can grow while it's iterated: importers that have to run too join at its end.
  for (const [id, chain] of plan.rerun) {
    const instance = registry.get(id)?.instance;
    if (!instance) continue;
    if (instance.live?.refused) throw new NeedsReload(instance.live.refused.reason, chain);
    if (takesItself(instance)) {
      plan.takers.add(id);
      if (!takesAsComponents(instance)) climbToHolders(plan, id, chain);
    } else climb(plan, id, chain, notes);
  }
  return plan;
}

/** CommonJS modules go on with what `require` gave them; the variables of others follow a module that takes its own updates. */
function climbToHolders(plan: Plan, id: string, chain: string[]): void {
  for (const importer of importersOf.get(id) ?? [])
    if (registry.get(importer)?.instance?.isCommonJs && !plan.rerun.has(importer)) plan.rerun.set(importer, [...chain, importer]);
}

/** Hands an update on to the importers of a module that doesn't take it. */
export function climb(plan: Plan, id: string, chain: string[], notes: string[]): void {
  if (isEntry(id)) throw new NeedsReload('no module on the way to the page takes the update', chain);
  const instance = registry.get(id)?.instance;
  if (instance) noteMixedExports(instance, notes);
  const importers = [...(importersOf.get(id) ?? [])].filter((importer) => registry.get(importer)?.instance);
  if (importers.length === 0) throw new NeedsReload('nothing in the page imports it any more', chain);
  for (const importer of importers) {
    if (registry.get(importer)!.instance!.live?.onDependency.has(id)) {
      plan.takenBy.set(id, (plan.takenBy.get(id) ?? new Set()).add(importer));
    } else if (!plan.rerun.has(importer)) plan.rerun.set(importer, [...chain, importer]);
  }
}

export function takesItself(instance: Instance): boolean {
  return instance.live?.takesItself === true || takesAsComponents(instance);
}

/** A module that exports only React components needs no `take`: React replaces them where they are. */
export function takesAsComponents(instance: Instance): boolean {
  if (instance.isCommonJs || instance.error || instance.stars.length > 0 || instance.indirect.size > 0) return false;
  return !instance.entry.id.includes('node_modules/') && exportsComponents(instance);
}

export function noteMixedExports(instance: Instance, notes: string[]): void {
  if (instance.isCommonJs || instance.error || instance.status !== 'evaluated') return;
  const names = Object.keys(instance.getters);
  const others = names.filter((name) => !isComponentExport(instance, name));
  if (others.length === 0 || others.length === names.length) return;
  const note = `${instance.entry.id} exports ${others.join(', ')} beside components, so its importers run again`;
  if (!notes.includes(note)) notes.push(note);
}

/** A plan for the importers of modules that ran but turned out not to take their own update any more. */
export function planAbove(ids: string[], notes: string[]): Plan {
  const above = emptyPlan();
  for (const id of ids) climb(above, id, [id], notes);
  const rest = planUpdate(above.rerun.keys(), notes);
  for (const [id, importers] of above.takenBy) rest.takenBy.set(id, importers);
  return rest;
}
