import { join } from 'node:path';
import { packageOf } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import type { ProjectGraph } from '../project/project-graph.js';
import { findNeeds } from './needs.js';
import {
  type Description,
  finding,
  readDescription as read,
  unfitInstalls,
  unfitNode,
  unfitPeers,
  unreadableDescription,
} from './versions.js';

/** Packages of which a page can hold only one. */
const onlyOne = new Set(['react', 'react-dom', 'vue', 'svelte', 'preact', 'scheduler']);

/** Versions that don't fit, installs that don't agree with package.json, packages there twice or for nothing. */
export function checkPackages(project: ProjectGraph): Problem[] {
  const { root } = project.options;
  const own = read(join(root, 'package.json'));
  if (!own) {
    const problem = unreadableDescription(root);
    return problem ? [problem] : [];
  }
  return [
    ...unfitNode(own, 'package.json', process.versions.node),
    ...unfitInstalls(root, own, project.installCommand),
    ...unfitPeers(root, own, project.installCommand),
    ...differingLock(root, own),
    ...twice(project),
    ...unused(project, own),
  ];
}

/** Whether the lock file is of another package.json. */
function differingLock(root: string, own: Description): Problem[] {
  const file = join(root, 'package-lock.json');
  const locked = read(file) as { packages?: Record<string, Description> } | undefined;
  const top = locked?.packages?.[''];
  if (!top) return [];
  const kinds = ['dependencies', 'devDependencies', 'optionalDependencies'] as const;
  const names = kinds.flatMap((kind) =>
    [...new Set([...Object.keys(own[kind] ?? {}), ...Object.keys(top[kind] ?? {})])].filter(
      (name) => own[kind]?.[name] !== top[kind]?.[name],
    ),
  );
  if (names.length === 0) return [];
  const message = `package-lock.json disagrees with package.json about ${names.slice(0, 3).join(', ')}${names.length > 3 ? ` and ${names.length - 3} more` : ''}.`;
  return [finding('lock-differs', message, 'Run npm install, and keep both files together.', 'package-lock.json')];
}

/** Frameworks of which modules of two copies are in use. */
function twice({ modules, paths }: ProjectGraph): Problem[] {
  const copies = new Map<string, Map<string, string>>();
  for (const id of modules.ids()) {
    const folder = /^.*node_modules\/(?:@[^/]+\/)?[^/]+/.exec(id)?.[0];
    const name = packageOf(id);
    if (folder === undefined || name === undefined || !onlyOne.has(name)) continue;
    const found = copies.get(name) ?? new Map<string, string>();
    copies.set(name, found);
    const [importer] = modules.importers(id).filter((by) => !by.startsWith(`${folder}/`));
    if (!found.has(folder)) found.set(folder, importer ?? '');
  }
  return [...copies].flatMap(([name, found]) => {
    if (found.size < 2) return [];
    const who = [...found].map(
      ([folder, importer]) => `${read(join(paths.fileOf(folder), 'package.json'))?.version ?? '?'} for ${importer || 'a page'}`,
    );
    const message = `${name} is there ${found.size} times: ${who.join(', ')}. A page that holds both breaks where they meet.`;
    return [
      finding(
        'package-twice',
        message,
        'Let all of them use one: ask the package manager why it is there twice, and align the versions.',
        'package.json',
      ),
    ];
  });
}

/** Packages among the dependencies that nothing uses. */
function unused(project: ProjectGraph, own: Description): Problem[] {
  const names = findNeeds(project).unused.filter((name) => own.dependencies?.[name] !== undefined);
  return names.map((name) => {
    const message = `${name} stands in package.json, and nothing uses it.`;
    const hint = `If that is so: ${project.installCommand.split(' ')[0]} remove ${name}`;
    return { ...finding('package-unused', message, hint, 'package.json'), severity: 'warning' as const };
  });
}
