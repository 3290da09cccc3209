import type { Bundle } from '../core/bundle/bundle.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { contentHash } from '../core/text/content-hash.js';
import { nameOf } from './assets.js';
import { assetFolder, type LaterMapped } from './built-files.js';
import { usedBelow } from './chunks.js';
import { idsFor, type Scripts } from './scripts.js';
import { servicePaths } from './service-paths.js';

export interface WorkersInput {
  /** Modules that run in workers. */
  ids: readonly string[];
  graph: ModuleGraph<ModuleContent>;
  bundle: Bundle;
  scripts: Scripts;
  base: string;
  /** Text of the runtime. */
  runtime: string;
  /** What scripts run in: worklets have no `self`. */
  scope: 'self' | 'globalThis';
  /** Module behind an `import()` -> paths of the files that bring it. */
  late: Readonly<Record<string, readonly string[]>>;
  /** Path of a file -> modules that it brings. */
  modulesIn: ReadonlyMap<string, readonly string[]>;
}

/**
 * Makes the scripts of workers, each with the runtime and all that it needs from the start, by the modules that run there. Their settings
 * name other workers, which may name them: names are made of all the texts that they lead to.
 */
export async function workerScripts(input: WorkersInput): Promise<Map<string, { path: string; script: LaterMapped }>> {
  const { ids, graph, bundle, scripts, base, runtime, scope } = input;
  const standIn = (id: string) => `${assetFolder}/${nameOf(id)}-${contentHash('worker', id).slice(0, 10)}.js`;
  const texts = new Map<string, LaterMapped>();
  const started = new Map<string, string[]>();
  for (const id of ids) {
    const reached = graph.reachable([id]);
    const edges = reached.flatMap((at) => graph.edges(at));
    const later = edges.flatMap(({ kind, target }) => (kind === 'dynamic' || kind === 'worker' ? [target] : []));
    const below = usedBelow(graph, later);
    const others = ids.filter((other) => below.has(other));
    started.set(id, others);
    const settings = {
      base,
      late: lateFiles(input, below, new Set(reached)),
      workers: Object.fromEntries(others.map((other) => [other, standIn(other)])),
    };
    const before = `var sparkBuilt = ${JSON.stringify(settings)};\n${runtime}\n`;
    const after = `vine.start(${JSON.stringify(bundle.idOf(id))});`;
    texts.set(id, await scripts.script(nameOf(id), idsFor(bundle, reached), { before, after, scope }));
  }
  const paths = servicePaths(graph, ids);
  const hashes = new Map([...texts].map(([id, { text }]) => [id, contentHash(text)]));
  for (const id of ids) {
    if (paths[id] !== undefined) continue;
    const reached = new Set([id]);
    for (const at of reached) for (const other of started.get(at)!) reached.add(other);
    const hash = contentHash(...[...reached].sort().map((at) => hashes.get(at)!)).slice(0, 10);
    paths[id] = `${assetFolder}/${nameOf(id)}-${hash}.js`;
  }
  const named = (id: string, text: string) =>
    started.get(id)!.reduce((out, other) => out.replaceAll(standIn(other), paths[other]!), text);
  return new Map(
    [...texts].map(([id, { text, ...map }]) => [id, { path: paths[id]!, script: { text: named(id, text), ...map } }]),
  );
}

/** What brings the modules behind the `import()`s that a worker reaches, less what it has from the start. */
function lateFiles({ late, modulesIn }: WorkersInput, below: ReadonlySet<string>, own: ReadonlySet<string>) {
  const bringsMore = (path: string) => modulesIn.get(path)!.some((id) => !own.has(id));
  const asked = Object.entries(late).filter(([id]) => below.has(id));
  return Object.fromEntries(asked.map(([id, paths]) => [id, paths.filter(bringsMore)]));
}
