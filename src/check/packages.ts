import { readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import semver from 'semver';
import { packageOf } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import type { ProjectGraph } from '../project/project-graph.js';
import { findNeeds } from './needs.js';

/** What of package.json counts here. */
interface Description {
  name?: string;
  version?: string;
  engines?: Record<string, string>;
  dependencies?: Record<string, string>;
  devDependencies?: Record<string, string>;
  optionalDependencies?: Record<string, string>;
  peerDependencies?: Record<string, string>;
  peerDependenciesMeta?: Record<string, { optional?: boolean }>;
  scripts?: Record<string, string>;
}

/** Packages of which a page can hold only one. */
const onlyOne = new Set(['react', 'react-dom', 'vue', 'svelte', 'preact', 'scheduler']);

/** Versions that don't fit, installs that don't agree with package.json, packages there twice or for nothing. */
export function checkPackages(project: ProjectGraph): Problem[] {
  const { root } = project.options;
  const own = read(join(root, 'package.json'));
  if (!own) return [];
  return [
    ...unfitNode(own, 'package.json', process.versions.node),
    ...unfitInstalls(root, own, project.installCommand),
    ...unfitPeers(root, own, project.installCommand),
    ...differingLock(root, own),
    ...twice(project),
    ...unused(project, own),
  ];
}

/** Whether Node.js is the one that is wanted. */
function unfitNode({ engines, name }: Description, file: string, version: string): Problem[] {
  const wanted = engines?.node;
  if (wanted === undefined || !semver.validRange(wanted) || semver.satisfies(version, wanted)) return [];
  const message = `${name ?? 'The project'} wants Node.js ${wanted}, and this is ${version}.`;
  return [finding('version-unfit', message, `Install a Node.js that fits ${wanted}.`, file)];
}

/** What package.json asks for, against what is installed. */
function unfitInstalls(root: string, own: Description, installCommand: string): Problem[] {
  return Object.entries({ ...own.devDependencies, ...own.dependencies }).flatMap(([name, wanted]) => {
    const installed = installedAt(root, name);
    const install = installCommand.replace(/ (?:add|install)\b.*$/, ' install');
    if (!installed) {
      const message = `${name} stands in package.json and is not installed.`;
      return [finding('package-missing', message, `Run ${install}.`, 'package.json')];
    }
    if (
      !semver.validRange(wanted) ||
      !installed.version ||
      semver.satisfies(installed.version, wanted, { includePrerelease: true })
    )
      return unfitNode(installed, `node_modules/${name}/package.json`, process.versions.node);
    const message = `package.json wants ${name} ${wanted}, and ${installed.version} is installed.`;
    return [finding('version-unfit', message, `Run ${install}.`, 'package.json')];
  });
}

/** What the project's own packages want of each other. */
function unfitPeers(root: string, own: Description, installCommand: string): Problem[] {
  return Object.keys({ ...own.devDependencies, ...own.dependencies }).flatMap((name) => {
    const { peerDependencies = {}, peerDependenciesMeta = {} } = installedAt(root, name) ?? {};
    return Object.entries(peerDependencies).flatMap(([peer, wanted]) => {
      const there = installedAt(root, peer);
      if (!there?.version) {
        if (peerDependenciesMeta[peer]?.optional) return [];
        const message = `${name} wants ${peer} ${wanted} beside it, and there is none.`;
        return [finding('version-unfit', message, `${installCommand} ${peer}`, 'package.json')];
      }
      if (!semver.validRange(wanted) || semver.satisfies(there.version, wanted, { includePrerelease: true })) return [];
      const message = `${name} wants ${peer} ${wanted} beside it, and ${there.version} is installed.`;
      return [
        finding(
          'version-unfit',
          message,
          `Take versions that fit together: ${installCommand} ${peer}@"${wanted}", or another ${name}.`,
          'package.json',
        ),
      ];
    });
  });
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

function installedAt(root: string, name: string): Description | undefined {
  for (let at = root; ; at = dirname(at)) {
    const found = read(join(at, 'node_modules', name, 'package.json'));
    if (found || dirname(at) === at) return found;
  }
}

function read(file: string): Description | undefined {
  try {
    return JSON.parse(readFileSync(file, 'utf8')) as Description;
  } catch {
    return undefined; // it isn't there, or somebody else tells what is wrong with it
  }
}

function finding(code: Problem['code'], message: string, hint: string, file: string): Problem {
  return { code, severity: 'error', message, hint, file };
}
