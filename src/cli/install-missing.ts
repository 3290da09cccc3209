import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { listsPackage, type PackageJson } from '../core/resolve/package-json.js';
import { parseJson } from '../core/text/json.js';
import type { Reporter } from './report/reporter.js';

/** Installs packages with the project's own package manager, and tells what it runs. The page goes on by itself when they are there. */
export async function installMissing(root: string, packages: readonly string[], reporter: Reporter): Promise<void> {
  const { adding, installAll, managerOf, runManager } = await import('../create/manager.js');
  const manager = managerOf(root);
  // What is listed comes in the version that is asked for there.
  const others = packages.filter((name) => !listsPackage(descriptionIn(root), name));
  const args = others.length === 0 ? installAll(manager) : adding(manager, others);
  reporter.tell({ event: 'note', text: `${manager} ${args.join(' ')}` });
  const { isDone, said } = await runManager(manager, args, root);
  const why = said
    .trim()
    .split('\n')
    .filter((row) => !/npm warn/.test(row))
    .slice(-2)
    .join(' ');
  reporter.tell({ event: 'note', text: isDone ? `${packages.join(', ')} installed` : `${manager} failed: ${why}` });
}

function descriptionIn(root: string): Omit<PackageJson, 'folder'> {
  try {
    return parseJson(readFileSync(join(root, 'package.json'), 'utf8')) as PackageJson;
  } catch {
    return {}; // there is none, or none that can be read
  }
}
