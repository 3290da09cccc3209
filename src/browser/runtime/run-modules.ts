import { evaluate } from './evaluate.js';
import { linkFrom } from './link.js';
import { dependencyOf, type Instance, registry } from './records.js';
import { namespaceOf } from './resolve-export.js';

/** Links and evaluates a module and everything below it, and returns its namespace. */
export async function importModule(id: string, nodeDefault = false): Promise<object> {
  const instance = registry.get(id)?.instance ?? linkFrom(id);
  await pausesBelow(instance);
  await evaluate(instance);
  return namespaceOf(instance, { nodeDefault });
}

/** Errors that modules of the page threw while they ran. */
export const startErrors = new WeakSet<object>();

function reportStart(error: unknown): void {
  if (typeof error === 'object' && error !== null) startErrors.add(error);
  reportError(error);
}

const entryRuns = new Set<Promise<unknown>>();

/** Settles when the page's own modules have run, whether they failed or not. */
export async function entriesSettled(): Promise<void> {
  await Promise.allSettled(entryRuns);
}

/** Runs a module of the page itself. What it throws is reported as that of a module script is: at once. */
export function runEntry(id: string): void {
  try {
    const instance = registry.get(id)?.instance ?? linkFrom(id);
    const run = () => {
      const done = evaluate(instance);
      const atOnce = instance.error;
      if (atOnce) reportStart(atOnce.value);
      // What was reported is no rejection that nobody handles, too.
      const settled = done.catch((error) => (atOnce ? undefined : reportStart(error)));
      entryRuns.add(settled);
      return settled;
    };
    const pauses = pausesBelow(instance);
    if (pauses) entryRuns.add(pauses.then(run));
    else run();
  } catch (error) {
    reportStart(error);
  }
}

/** Settles when every async body below has reached its pause, so that evaluation can start them all in order. */
function pausesBelow(root: Instance): Promise<unknown> | undefined {
  const seen = new Set([root]);
  const pauses: Promise<unknown>[] = [];
  for (const instance of seen) {
    if (instance.isCommonJs) continue;
    if (instance.status === 'linked' && instance.paused) pauses.push(instance.paused);
    if (instance.status === 'evaluated') continue;
    instance.definition.edges.imports.forEach((_, place) => {
      seen.add(dependencyOf(instance, place));
    });
  }
  return pauses.length > 0 ? Promise.all(pauses) : undefined;
}
