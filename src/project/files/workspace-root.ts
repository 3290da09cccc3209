import { existsSync, readFileSync, statSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join, relative, sep } from 'node:path';
import picomatch from 'picomatch';
import { parseJson } from '../../core/text/json.js';

/**
 * The folder of the workspace that a project is a member of: the nearest one above it whose package.json (`workspaces`) or
 * pnpm-workspace.yaml lists it. `undefined` where there is none.
 */
export function workspaceRootOf(project: string): string | undefined {
  for (let at = dirname(project); ; at = dirname(at)) {
    if (isMember(relative(at, project).split(sep).join('/'), patternsIn(at))) return at;
    if (dirname(at) === at) return undefined;
  }
}

/**
 * The folder of the package that a project without a package.json of its own is part of, such as an application of a repository with one
 * package.json for all. `undefined` where they don't lie in one Git repository: a package.json above may be there by accident.
 */
export function packageAbove(project: string): string | undefined {
  if (existsSync(join(project, 'package.json'))) return undefined;
  let folder: string | undefined;
  for (let at = dirname(project); at !== homedir() && at !== dirname(at); at = dirname(at)) {
    if (folder === undefined && existsSync(join(at, 'package.json'))) folder = at;
    if (existsSync(join(at, '.git'))) return folder;
  }
  return undefined;
}

function isMember(path: string, patterns: readonly string[]): boolean {
  const clean = (pattern: string) => pattern.replace(/^\.\//, '').replace(/\/$/, '');
  const wanted = patterns.filter((pattern) => !pattern.startsWith('!')).map(clean);
  const unwanted = patterns.filter((pattern) => pattern.startsWith('!')).map((pattern) => clean(pattern.slice(1)));
  return wanted.length > 0 && picomatch(wanted, { ignore: unwanted })(path);
}

function patternsIn(folder: string): string[] {
  return [...npmPatterns(textOf(join(folder, 'package.json'))), ...yamlPatterns(textOf(join(folder, 'pnpm-workspace.yaml')))];
}

/** `workspaces`: a list, or an object whose `packages` is one. */
function npmPatterns(text: string): string[] {
  try {
    const { workspaces } = parseJson(text || '{}') as { workspaces?: unknown };
    const list = Array.isArray(workspaces) ? workspaces : (workspaces as { packages?: unknown } | undefined)?.packages;
    return Array.isArray(list) ? list.filter((pattern) => typeof pattern === 'string') : [];
  } catch {
    return []; // no JSON, so no workspace that any package manager knows
  }
}

/** The items of the list `packages`, one a line. */
function yamlPatterns(text: string): string[] {
  const [, list = ''] = /^packages:[^\S\n]*\n((?:[^\S\n]*(?:-.*|#.*)?(?:\n|$))*)/m.exec(text) ?? [];
  return [...list.matchAll(/^[^\S\n]*-\s*(['"]?)([^'"#\n]+?)\1\s*(?:#.*)?$/gm)].map((match) => match[2]!);
}

function textOf(file: string): string {
  try {
    return statSync(file).isFile() ? readFileSync(file, 'utf8') : '';
  } catch {
    return '';
  }
}
