import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { Trace } from '../core/trace.js';
import { Project } from '../project/project.js';
import type { Served } from '../server/server.js';
import type { EffectiveSettings } from '../settings/effective.js';

/** Where results are kept for the next start: beside the installed packages; `undefined` where there are none. */
export function cacheFolderOf(root: string): string | undefined {
  for (let at = root; ; at = dirname(at)) {
    const packages = join(at, 'node_modules');
    if (existsSync(packages)) return join(packages, '.cache/vine-spark');
    if (dirname(at) === at) return undefined;
  }
}

/** The project that settings describe. */
export function projectOf(
  settings: EffectiveSettings,
  { poll, revision, cacheFolder, trace }: { poll: boolean; revision: number; cacheFolder: string | undefined; trace: Trace },
): Project {
  const { root, mode, base, alias, roots, conditions, constants, adapters, verbatim, sources } = settings;
  const pages = [...new Set(settings.routes.map(({ page }) => page))];
  return new Project({
    root,
    pages,
    mode,
    base,
    alias,
    roots,
    conditions,
    constants,
    adapters,
    verbatim,
    ignored: [],
    poll,
    settingsFiles: sources,
    revision,
    trace,
    ...(cacheFolder === undefined ? {} : { cacheFolder }),
  });
}

/** What the server serves of a project under settings. */
export function servedOf(settings: EffectiveSettings, project: Project): Served {
  const { routes, forward, listen, embedFrom } = settings;
  return { project, routes, forward, trust: { names: listen.names, origins: embedFrom } };
}
