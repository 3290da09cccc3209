import { spawn } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { dirname, join, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';

export type Manager = 'npm' | 'pnpm' | 'yarn';

const lockFiles: Record<string, Manager> = {
  'pnpm-lock.yaml': 'pnpm',
  'yarn.lock': 'yarn',
  'package-lock.json': 'npm',
};

/** The package manager of a folder: that of a lock file there or above, else the one that called us, else npm. */
export function managerOf(folder: string, agent = process.env.npm_config_user_agent ?? ''): Manager {
  for (let at = resolve(folder); ; at = dirname(at)) {
    for (const [file, manager] of Object.entries(lockFiles)) if (existsSync(join(at, file))) return manager;
    // Whatever lies above a repository is somebody else's.
    if (dirname(at) === at || existsSync(join(at, '.git'))) break;
  }
  const [, called] = /^(npm|pnpm|yarn)\//.exec(agent) ?? [];
  return (called as Manager | undefined) ?? 'npm';
}

/** Arguments with which a manager installs what package.json lists. */
export function installAll(manager: Manager): string[] {
  return manager === 'npm' ? ['install', '--no-audit', '--no-fund'] : ['install'];
}

/** Arguments with which a manager adds packages. */
export function adding(manager: Manager, packages: readonly string[]): string[] {
  return manager === 'npm' ? ['install', '--no-audit', '--no-fund', ...packages] : ['add', ...packages];
}

/** Arguments with which a manager takes packages away. */
export function removing(manager: Manager, packages: readonly string[]): string[] {
  return manager === 'npm' ? ['uninstall', '--no-audit', '--no-fund', ...packages] : ['remove', ...packages];
}

/** Runs a package manager. Settles with whether it went well, and what it said where it didn't. */
export function runManager(
  manager: Manager,
  args: readonly string[],
  folder: string,
): Promise<{ isDone: boolean; said: string }> {
  return new Promise((done) => {
    const child = spawn(manager, args, { cwd: folder, stdio: ['ignore', 'pipe', 'pipe'], shell: process.platform === 'win32' });
    let said = '';
    for (const stream of [child.stdout, child.stderr])
      stream.on('data', (data) => {
        said = `${said}${data}`.slice(-4000);
      });
    child.on('error', (error) => done({ isDone: false, said: error.message }));
    child.on('close', (code) => done({ isDone: code === 0, said }));
  });
}

/**
 * What a project's package.json says of Vine Spark so that it gets the one that runs now: a range, or, where this one came from a file
 * or a folder, that.
 */
export function ownSpecifier(version: string): string {
  const own = fileURLToPath(new URL('../..', import.meta.url)).replace(/\/$/, '');
  const modules = dirname(own);
  if (!modules.endsWith('node_modules')) return `file:${own}`;
  try {
    const { packages } = JSON.parse(readFileSync(join(modules, '.package-lock.json'), 'utf8')) as {
      packages: Record<string, { resolved?: string }>;
    };
    const from = packages['node_modules/vine-spark']?.resolved;
    if (from?.startsWith('file:')) return `file:${resolve(dirname(modules), from.slice('file:'.length))}`;
  } catch {
    // Another manager put it there.
  }
  return `^${version}`;
}
