import type { FileChange, UpdateMessage, UpdateScript } from '../../core/live/messages.js';
import { isElsewhere, ours } from '../runtime/base-path.js';
import { connect, disconnect, linkFrom } from '../runtime/link.js';
import { setLossListener, setRefusalListener } from '../runtime/live-api.js';
import { completeBelow, noteNewest } from '../runtime/load-piece.js';
import { loadScript } from '../runtime/load-script.js';
import { thrownText } from '../runtime/page-values.js';
import {
  type Definition,
  defineModule,
  dynamicTargets,
  entries,
  type Instance,
  importersOf,
  registry,
  removeModule,
  targetsOf,
} from '../runtime/records.js';
import { exportsSameKinds, refreshComponents, takeRegistered, vanishedComponents } from '../runtime/refresh.js';
import { namespaceOf } from '../runtime/resolve-export.js';
import { importModule } from '../runtime/run-modules.js';
import { collectDefinitions } from '../runtime/runtime.js';
import { arrangeSheets, ensureSheetsBelow, hasFailedSheets, isLateRoot, removeSheet, swapSheets } from '../runtime/sheets.js';
import { NeedsReload, type Plan, planAbove, planUpdate, takesAsComponents } from './plan-update.js';
import { replaceFile } from './replace-file.js';

/** What an update did to the page. */
export interface Applied {
  /** Modules that took the update. */
  boundaries: string[];
  /** Modules that ran again. */
  ran: string[];
  /** Paths of files that were replaced. */
  files: string[];
  /** Components whose state starts anew. */
  reset: string[];
  /** Modules among those that ran again whose own variables start anew: they hold more than components. */
  anew: string[];
  /** Components failed while they rendered, so that their library has thrown their state away. */
  isBroken: boolean;
  /** Sheets that were replaced. */
  restyled: string[];
  /** What the user should know. */
  notes: string[];
  /** What it was doing how long, one after another, in milliseconds. */
  stages: [name: string, ms: number][];
}

/**
 * Applies an update in place: finds the modules that take it, runs cleanups, runs the changed modules and what lies
 * between them and the takers, and lets React render.
 *
 * @throws NeedsReload where nobody takes it or something fails on the way.
 */
export async function applyUpdate(update: UpdateMessage): Promise<Applied> {
  const stages: Applied['stages'] = [];
  const ended = stopwatch(stages);
  const incoming = await receive(update.scripts);
  const changed: string[] = [];
  let mayMoveSheets = update.removed.length > 0 || hasFailedSheets();
  for (const [id, definition] of incoming) {
    noteNewest(id, definition);
    const entry = registry.get(id);
    if (!entry || !leadsToSame(entry.definition, definition)) mayMoveSheets = true;
    if (entry?.definition.edges.version === definition.edges.version) incoming.delete(id);
    else if (entry?.instance) changed.push(id);
    else if (entry) defineModule(id, definition);
  }
  await defineNeeded(incoming);
  ended('receive');
  const applied: Applied = {
    boundaries: [],
    ran: [],
    files: [],
    reset: [],
    anew: [],
    isBroken: false,
    restyled: [],
    notes: [],
    stages,
  };
  let refusal: NeedsReload | undefined;
  setRefusalListener((instance, reason) => {
    refusal = new NeedsReload(reason, [instance.entry.id]);
  });
  setLossListener((names) => applied.reset.push(...names));
  const sheets = swapSheets(update.styles);
  let plan = planUpdate(changed, applied.notes);
  ended('plan');
  while (plan.rerun.size > 0) plan = await carryOut(plan, { incoming, applied, mayMoveSheets });
  await forgetAll(update.removed);
  ended('run');
  applied.reset.push(...refreshComponents());
  // What frameworks put off until the page is drawn says later whose state starts anew.
  if (applied.ran.some((id) => registry.get(id)?.instance?.live)) await workDone();
  applied.reset = [...new Set(applied.reset)];
  applied.anew = applied.ran.filter((id) => keepsNothing(id));
  ended('render');
  applied.files = await replaceFiles(update.files);
  applied.restyled = await sheets;
  // Walks all modules of the page, which most saves have no reason for.
  if (mayMoveSheets) await arrangeSheets();
  ended('styles and files');
  if (refusal) throw refusal;
  return applied;
}

/** Waits until work is done that was put off to the end of the current task. No timer: those of hidden pages wait. */
function workDone(): Promise<void> {
  return new Promise((resolve) => {
    const { port1, port2 } = new MessageChannel();
    port1.onmessage = () => {
      port1.close();
      resolve();
    };
    port2.postMessage(undefined);
  });
}

/** Whether a module that ran again has lost what it held: it isn't only components, and hands nothing on to its next run. */
function keepsNothing(id: string): boolean {
  const entry = registry.get(id);
  const instance = entry?.instance;
  if (instance?.definition.edges.stateless || instance?.definition.edges.style !== undefined) return false;
  return instance !== undefined && !takesAsComponents(instance) && Object.keys(entry!.state ?? {}).length === 0;
}

/** Takes down how long it is since the last stage ended. */
function stopwatch(stages: Applied['stages']): (name: string) => void {
  let from = performance.now();
  return (name) => {
    const now = performance.now();
    stages.push([name, now - from]);
    from = now;
  };
}

/** Whether two versions of a module need the same modules, in the same order, and as late as before. */
function leadsToSame({ edges: before }: Definition, { edges: after }: Definition): boolean {
  return (
    targetsOf(before).join('\0') === targetsOf(after).join('\0') && dynamicTargets(before).length === dynamicTargets(after).length
  );
}

/** Whether the page may evaluate strings, as far as is known. Trying again would only print another refusal. */
let mayEvaluate = true;

/** Registers the new modules that this page needs, and gets those that were new to it only. */
async function defineNeeded(incoming: ReadonlyMap<string, Definition>): Promise<void> {
  const needed = new Set([...incoming.keys()].filter((id) => registry.has(id)));
  for (const id of needed) {
    const definition = incoming.get(id);
    if (definition && !registry.has(id)) defineModule(id, definition);
    const { imports, requires = {} } = (definition ?? registry.get(id)?.definition)?.edges ?? { imports: [] };
    for (const target of [...imports, ...Object.values(requires)]) if (!registry.has(target)) needed.add(target);
  }
  await completeBelow([...needed].filter((id) => !incoming.has(id)));
}

/** Gets the update's definitions. Where a security policy forbids to evaluate strings, they come as script files. */
async function receive(scripts: readonly UpdateScript[]): Promise<Map<string, Definition>> {
  const incoming = collectDefinitions();
  try {
    for (const script of scripts) await runScript(script);
  } finally {
    collectDefinitions(null);
  }
  return incoming;
}

async function runScript({ code, url }: UpdateScript): Promise<void> {
  // Of what a script of another origin evaluates, browsers hide the errors.
  if (!mayEvaluate || isElsewhere()) return loadScript(ours(url));
  try {
    // Called indirectly, so that the code runs in the global scope.
    // biome-ignore lint/security/noGlobalEval: the server of this page sends its own modules
    const run = globalThis.eval;
    run(code);
  } catch (error) {
    if (!(error instanceof EvalError)) throw error;
    mayEvaluate = false;
    await loadScript(ours(url));
  }
}

/** Shows new versions of files that are no modules. One that the page got by other means than elements needs a reload. */
async function replaceFiles(changes: readonly FileChange[]): Promise<string[]> {
  const replaced: string[] = [];
  for (const change of changes) {
    const use = replaceFile(change);
    if (use === 'loaded') throw new NeedsReload('the page loaded this file, which changed', [change.path]);
    if (use === 'shown') replaced.push(change.path);
  }
  return replaced;
}

/** What an update brings, and what becomes of it. */
interface Work {
  incoming: Map<string, Definition>;
  applied: Applied;
  mayMoveSheets: boolean;
}

async function sheetsBelow(roots: string[], plan: Plan): Promise<void> {
  try {
    await ensureSheetsBelow(roots);
  } catch (error) {
    const [first = ''] = roots;
    throw new NeedsReload(`the styles of ${first} could not be loaded: ${thrownText(error)}`, plan.rerun.get(first) ?? [first]);
  }
}

/** Replaces the planned modules and runs them. Returns what has to follow, where a module no longer takes its own update. */
async function carryOut(plan: Plan, { incoming, applied, mayMoveSheets }: Work): Promise<Plan> {
  const old = new Map<string, Instance>();
  const components = new Map<string, ReadonlySet<string>>();
  for (const id of plan.rerun.keys()) {
    const instance = registry.get(id)?.instance;
    if (instance) old.set(id, instance);
  }
  // Dependents clean up before what they depend on.
  for (const instance of [...old.values()].sort((a, b) => b.order - a.order)) cleanUp(instance);
  for (const [id, instance] of old) {
    disconnect(instance);
    const definition = incoming.get(id);
    if (definition) defineModule(id, definition);
    delete registry.get(id)!.instance;
    components.set(id, takeRegistered(id));
  }
  const inOrder = (ids: Iterable<string>) => [...ids].sort((a, b) => (old.get(a)?.order ?? 0) - (old.get(b)?.order ?? 0));
  const roots = inOrder(new Set([...plan.takers, ...plan.takenBy.keys()]));
  // Looks through everything below, where most saves bring no sheet.
  if (mayMoveSheets) await sheetsBelow(roots, plan);
  await runAgain(roots, old, plan);
  for (const [id, names] of components) applied.reset.push(...vanishedComponents(id, names));
  applied.ran.push(...[...old.keys()].filter((id) => registry.get(id)?.instance));
  runCallbacks(plan, old, inOrder);
  const next: string[] = [];
  for (const id of plan.takers) {
    const instance = registry.get(id)?.instance;
    if (!instance || tookUpdate(old.get(id), instance)) applied.boundaries.push(id);
    else next.push(id);
  }
  for (const importers of plan.takenBy.values()) applied.boundaries.push(...importers);
  return planAbove(next, applied.notes);
}

/** Whether a module that took its own updates still does, now that it has run: its exports may be others. */
function tookUpdate(before: Instance | undefined, after: Instance): boolean {
  if (!before || before.live?.takesItself || after.live?.takesItself) return true;
  return takesAsComponents(after) && exportsSameKinds(before, after);
}

async function runAgain(roots: string[], old: ReadonlyMap<string, Instance>, plan: Plan): Promise<void> {
  let current = roots[0] ?? '';
  try {
    for (const id of roots) linkFrom(id);
    reconnectAbove(old.keys());
    for (const id of roots) {
      current = id;
      await importModule(id);
    }
    // Whoever got a module by `import()` may hold on to what it got: React.lazy never asks again.
    for (const id of old.keys()) {
      if (registry.get(id)?.instance || !isLateRoot(id)) continue;
      current = id;
      await importModule(id);
    }
  } catch (error) {
    throw new NeedsReload(`${current} failed while it ran again: ${thrownText(error)}`, plan.rerun.get(current) ?? [current]);
  }
}

/** Importers that didn't run again now follow the variables of the new instances, through re-exports too. */
function reconnectAbove(ids: Iterable<string>): void {
  const replaced = new Set(ids);
  for (const id of replaced) {
    for (const importerId of importersOf.get(id) ?? []) {
      const importer = registry.get(importerId)?.instance;
      if (!importer || importer.isCommonJs || importer.order === -1) continue;
      importer.namespaces.clear();
      if (importer.stars.length > 0 || importer.indirect.size > 0) replaced.add(importerId);
      disconnect(importer);
      connect(importer);
    }
  }
}

function runCallbacks(plan: Plan, old: ReadonlyMap<string, Instance>, inOrder: (ids: Iterable<string>) => string[]): void {
  for (const id of inOrder(plan.takers)) {
    for (const callback of old.get(id)?.live?.onTake ?? []) call(id, callback);
  }
  for (const id of inOrder(plan.takenBy.keys())) {
    for (const importerId of plan.takenBy.get(id)!) {
      // An importer that ran again by another way has seen the new exports already.
      if (old.has(importerId)) continue;
      for (const callback of registry.get(importerId)?.instance?.live?.onDependency.get(id) ?? []) call(id, callback);
    }
  }
}

function call(id: string, callback: (exports: object) => void): void {
  const instance = registry.get(id)?.instance;
  if (!instance) return;
  try {
    callback(freshExports(instance));
  } catch (error) {
    throw new NeedsReload(`the callback that takes ${id} failed: ${thrownText(error)}`, [id]);
  }
}

function freshExports(instance: Instance): object {
  return instance.isCommonJs ? (instance.module!.exports as object) : namespaceOf(instance);
}

function cleanUp(instance: Instance): void {
  for (const callback of instance.live?.onCleanup ?? []) {
    try {
      callback(instance.entry.state);
    } catch (error) {
      throw new NeedsReload(`a cleanup of ${instance.entry.id} failed: ${thrownText(error)}`, [instance.entry.id]);
    }
  }
}

/** Forgets modules that the server dropped, unless this page came to need them again since, by an `import()` of its own. */
async function forgetAll(removed: readonly string[]): Promise<void> {
  if (removed.length === 0) return;
  const needed = new Set(entries);
  for (const id of needed) {
    const edges = registry.get(id)?.definition.edges;
    if (edges) for (const target of targetsOf(edges)) needed.add(target);
  }
  for (const id of removed) if (!needed.has(id)) await forget(id);
}

async function forget(id: string): Promise<void> {
  const instance = registry.get(id)?.instance;
  if (instance) {
    cleanUp(instance);
    disconnect(instance);
  }
  await removeSheet(id);
  removeModule(id);
}
