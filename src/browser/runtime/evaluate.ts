import { pushExports } from './link.js';
import { dependencyOf, type Instance, surface } from './records.js';
import { isComponentExport, registerComponent } from './refresh.js';

import { readTarget } from './resolve-export.js';

let nextAsyncOrder = 0;
let nextOrder = 0;

/** Evaluate (ECMA-262, 16.2.1.6.1.3): runs a linked module after everything it needs. */
export function evaluate(root: Instance): Promise<void> {
  if (root.isCommonJs) return new Promise((resolve) => resolve(ensureRun(root)));
  const module = root.status === 'evaluating-async' || root.status === 'evaluated' ? (root.cycleRoot ?? root) : root;
  if (module.capability) return module.capability.promise;
  const capability = deferred();
  module.capability = capability;
  // Whoever asked gets the rejection; a second one, unhandled, would only repeat it.
  capability.promise.catch(() => {});
  try {
    evaluateGraph(module);
    if (typeof module.asyncOrder !== 'number') capability.resolve();
  } catch (error) {
    capability.reject(error);
  }
  return capability.promise;
}

/** Runs a module to its end at once, as `require` of an ECMAScript module does. */
export function evaluateNow(root: Instance): void {
  if (root.isCommonJs) {
    // One that has thrown runs again; who imports it gets the same error each time (ECMA-262, 16.2.1.6.1.3).
    delete root.error;
    return ensureRun(root);
  }
  evaluateGraph(root);
  if (root.status === 'evaluating-async')
    throw new Error(`${root.entry.id} uses top-level await and can't be had with require().`);
}

interface Frame {
  module: Instance;
  next: number;
}

/** InnerModuleEvaluation (16.2.1.6.1.3.1) with a stack of its own. */
function evaluateGraph(root: Instance): void {
  const stack: Instance[] = [];
  const frames: Frame[] = [];
  let index = 0;
  /** Starts on a module. Returns whether it is finished already. */
  const enter = (module: Instance): boolean => {
    if (module.isCommonJs) {
      ensureRun(module);
      return true;
    }
    if (module.status === 'evaluated' || module.status === 'evaluating-async') {
      if (module.error) throw module.error.value;
      return true;
    }
    if (module.status === 'evaluating') return true;
    module.status = 'evaluating';
    module.dfsIndex = module.dfsAncestor = index++;
    module.pendingAsync = 0;
    stack.push(module);
    frames.push({ module, next: 0 });
    return false;
  };
  try {
    enter(root);
    while (frames.length > 0) {
      const frame = frames.at(-1)!;
      const { module } = frame;
      if (frame.next < module.definition.edges.imports.length) {
        const required = dependencyOf(module, frame.next);
        if (!enter(required)) continue;
        afterDependency(module, required);
        frame.next++;
        continue;
      }
      finishFrame(module, stack);
      frames.pop();
    }
  } catch (error) {
    for (const module of stack) {
      module.status = 'evaluated';
      module.error = { value: error };
      module.cycleRoot ??= module;
    }
    throw error;
  }
}

function afterDependency(module: Instance, dependency: Instance): void {
  if (dependency.isCommonJs) return;
  let required = dependency;
  if (required.status === 'evaluating') module.dfsAncestor = Math.min(module.dfsAncestor, required.dfsAncestor);
  else {
    required = required.cycleRoot ?? required;
    if (required.error) throw required.error.value;
  }
  if (typeof required.asyncOrder === 'number') {
    module.pendingAsync++;
    required.asyncParents.push(module);
  }
}

function finishFrame(module: Instance, stack: Instance[]): void {
  if (module.pendingAsync > 0 || module.isAsync) {
    module.asyncOrder = nextAsyncOrder++;
    if (module.pendingAsync === 0) executeAsync(module);
  } else runBody(module);
  if (module.dfsAncestor !== module.dfsIndex) return;
  for (let done: Instance | undefined; done !== module; ) {
    done = stack.pop()!;
    done.status = done.asyncOrder === undefined ? 'evaluated' : 'evaluating-async';
    done.cycleRoot = module;
  }
}

/** The second step of a synchronous module is its body. */
function runBody(module: Instance): void {
  (module.body as Iterator<unknown>).next();
  delete module.body;
  completed(module);
}

/** Gives a module its place in the order in which modules finished. */
function markCompleted(module: Instance): void {
  module.order = nextOrder++;
}

function completed(module: Instance): void {
  markCompleted(module);
  if (Object.hasOwn(module.getters, 'default')) readTarget({ instance: module, name: 'default' }); // which names it
  registerExports(module);
  pushExports(module);
}

/** Components get their identity from the name under which they are exported, where the translation gave them none. */
function registerExports(module: Instance): void {
  if (!surface.isLive || module.entry.id.includes('node_modules/')) return;
  for (const name of Object.keys(module.getters)) {
    if (isComponentExport(module, name)) registerComponent(module.getters[name]!(), `export ${name}`, module);
  }
}

function ensureRun(module: Instance): void {
  if (module.error) throw module.error.value;
  if (module.status !== 'linked') return;
  try {
    runCommonJs(module);
  } catch (error) {
    module.error = { value: error };
    throw error;
  }
}

/** ExecuteAsyncModule (16.2.1.6.1.3.2). The body says itself when it has ended, one tick earlier than its generator would. */
function executeAsync(module: Instance): void {
  const run =
    module.definition.edges.async === 'steps'
      ? runSteps(module.body as Iterator<unknown>)
      : (module.body as AsyncIterator<unknown>).next();
  run.catch((error: unknown) => asyncRejected(module, error));
}

/** Runs a body that gives what it has to wait for. */
function runSteps(body: Iterator<unknown>): Promise<unknown> {
  return new Promise((resolve, reject) => {
    const step = (next: () => IteratorResult<unknown>) => {
      try {
        const { done, value } = next();
        if (done) return resolve(value);
        Promise.resolve(value).then(
          (result) => step(() => body.next(result)),
          (error) => step(() => body.throw!(error)),
        );
      } catch (error) {
        reject(error);
      }
    };
    step(() => body.next());
  });
}

/** The end of an async body. */
export function asyncBodyDone(module: Instance): void {
  Promise.resolve().then(() => asyncFulfilled(module));
}

/** AsyncModuleExecutionFulfilled (16.2.1.6.1.3.4). */
function asyncFulfilled(module: Instance): void {
  if (module.status === 'evaluated') return;
  settle(module);
  const ready: Instance[] = [];
  gatherReady(module, ready);
  ready.sort((a, b) => (a.asyncOrder as number) - (b.asyncOrder as number));
  for (const ancestor of ready) {
    if (ancestor.status === 'evaluated') continue;
    if (ancestor.isAsync) {
      executeAsync(ancestor);
      continue;
    }
    try {
      (ancestor.body as Iterator<unknown>).next();
    } catch (error) {
      asyncRejected(ancestor, error);
      continue;
    }
    settle(ancestor);
  }
}

function settle(module: Instance): void {
  delete module.body;
  module.asyncOrder = 'done';
  module.status = 'evaluated';
  completed(module);
  module.capability?.resolve();
}

/** GatherAvailableAncestors (16.2.1.6.1.3.3). */
function gatherReady(module: Instance, ready: Instance[]): void {
  for (const parent of module.asyncParents) {
    if (ready.includes(parent) || parent.cycleRoot?.error) continue;
    parent.pendingAsync--;
    if (parent.pendingAsync > 0) continue;
    ready.push(parent);
    if (!parent.isAsync) gatherReady(parent, ready);
  }
}

/** AsyncModuleExecutionRejected (16.2.1.6.1.3.5). */
function asyncRejected(module: Instance, error: unknown): void {
  if (module.status === 'evaluated') return;
  module.error = { value: error };
  module.status = 'evaluated';
  module.asyncOrder = 'done';
  for (const parent of module.asyncParents) asyncRejected(parent, error);
  module.capability?.reject(error);
}

function deferred(): NonNullable<Instance['capability']> {
  let resolve!: () => void;
  let reject!: (error: unknown) => void;
  const promise = new Promise<void>((onResolve, onReject) => {
    resolve = onResolve;
    reject = onReject;
  });
  return { promise, resolve, reject };
}

/** Runs a CommonJS module; what it exports so far is visible to cycles. */
function runCommonJs(instance: Instance): void {
  const { entry, definition } = instance;
  const module = { exports: {}, id: entry.id, loaded: false };
  instance.module = module;
  instance.status = 'evaluating';
  const require = (specifier: string) => surface.requireFrom(instance, specifier);
  try {
    definition.factory.call(module.exports, surface.handleOf(instance), module, module.exports, require, globalThis);
  } catch (error) {
    // As in Node.js: whoever asks for it next runs it again.
    delete instance.module;
    instance.status = 'linked';
    throw error;
  }
  module.loaded = true;
  instance.status = 'evaluated';
  markCompleted(instance);
  pushExports(instance);
}
