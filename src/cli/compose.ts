import { existsSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type { Trace } from '../core/trace.js';
import type { ProjectOptions } from '../project/options.js';
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

/** What a compiler of types looks at. */
const typedFiles = ['**/*.{ts,tsx,mts,cts,vue,svelte}', '**/tsconfig*.json'];

/** Files that say what props components have. */
export const componentFiles = ['**/*.{ts,tsx,js,jsx,vue,svelte}'];

/** How the project that settings describe is to be read. */
export function projectOptions(
  settings: EffectiveSettings,
  { cacheFolder, trace }: { cacheFolder: string | undefined; trace: Trace },
): ProjectOptions {
  const { root, mode, base, alias, roots, conditions, constants, adapters, verbatim, sources } = settings;
  const { generated, insert, embed, pageFolder } = settings;
  const kept = cacheFolder === undefined ? {} : { cacheFolder };
  const pages = {
    pages: pageIds(settings),
    generated,
    insert,
    embedded: [...new Set([...embed.entries, ...Object.values(embed.urls)])],
    noticed: [
      ...embed.watch,
      ...settings.run.flatMap(({ restartOn }) => restartOn),
      ...(settings.types ? typedFiles : []),
      ...(settings.ofComponents ? componentFiles : []),
    ],
    ...(pageFolder === undefined ? {} : { pageFolder }),
  };
  const read = { root, ...pages, mode, base, alias, roots, conditions, constants, adapters, verbatim };
  return { ...read, ignored: [], poll: false, settingsFiles: sources, revision: 0, trace, ...kept };
}

/** The project that settings describe, kept alive. */
export function projectOf(
  settings: EffectiveSettings,
  { poll, revision, cacheFolder, trace }: { poll: boolean; revision: number; cacheFolder: string | undefined; trace: Trace },
): Project {
  return new Project({ ...projectOptions(settings, { cacheFolder, trace }), poll, revision });
}

/** The pages that settings name, each once. */
export function pageIds({ routes }: EffectiveSettings): string[] {
  return [...new Set(routes.map(({ page }) => page))];
}

/** What the server serves of a project under settings. */
export function servedOf(settings: EffectiveSettings, project: Project): Served {
  const { routes, forward, listen, embed } = settings;
  return { project, routes, forward, trust: { names: listen.names, origins: embed.from }, embedUrls: embed.urls };
}
