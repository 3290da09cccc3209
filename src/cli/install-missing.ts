import type { Reporter } from './report/reporter.js';

/** Installs packages with the project's own package manager, and tells what it runs. The page goes on by itself when they are there. */
export async function installMissing(root: string, packages: readonly string[], reporter: Reporter): Promise<void> {
  const { adding, managerOf, runManager } = await import('../create/manager.js');
  const manager = managerOf(root);
  const args = adding(manager, packages);
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
