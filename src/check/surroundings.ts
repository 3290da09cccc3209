import { readdirSync, readFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { basename, dirname } from 'node:path';
import { fileOfId } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import type { ProjectGraph } from '../project/project-graph.js';

/** Folders are watched, and editors watch as well. */
const fewWatches = 4096;

/** Names that differ from their files in upper and lower case: they are found here, and not on other systems. */
export function checkCase({ modules, paths, options }: ProjectGraph): Problem[] {
  const names = new Map<string, ReadonlySet<string>>();
  const namesIn = (folder: string) => {
    const known = names.get(folder) ?? new Set(listed(folder));
    names.set(folder, known);
    return known;
  };
  const found: Problem[] = [];
  for (const id of modules.ids()) {
    if (id.startsWith('/') || id.includes('node_modules/') || id.startsWith('../')) continue;
    for (let at = paths.fileOf(fileOfId(id)); at.length > options.root.length; at = dirname(at)) {
      const there = namesIn(dirname(at));
      const same = [...there].find((name) => name.toLowerCase() === basename(at).toLowerCase());
      if (there.has(basename(at)) || same === undefined) continue;
      const message = `'${basename(at)}' is asked for, but the file is called '${same}'.`;
      found.push({
        code: 'case-differs',
        severity: 'error',
        message,
        hint: 'Write the same letters: other systems tell them apart.',
        file: id,
      });
      break;
    }
  }
  return found;
}

function listed(folder: string): string[] {
  try {
    return readdirSync(folder);
  } catch {
    return [];
  }
}

/** Whether the system lets enough be watched. `file` says how many. */
export function checkWatchLimit(file = '/proc/sys/fs/inotify/max_user_watches'): Problem[] {
  let limit: number;
  try {
    limit = Number(readFileSync(file, 'utf8'));
  } catch {
    return []; // another system
  }
  if (!(limit < fewWatches)) return [];
  const message = `The system lets ${limit} folders be watched, for all programs together.`;
  const hint = 'Raise it: sudo sysctl fs.inotify.max_user_watches=524288';
  return [{ code: 'watch-limit', severity: 'warning', message, hint }];
}

/** Whether the port is free that the settings want. */
export function checkPort(host: string, port: number, exact: boolean): Promise<Problem[]> {
  if (port === 0) return Promise.resolve([]);
  return new Promise((resolve) => {
    const probe = createServer();
    probe.on('error', (error: NodeJS.ErrnoException) => {
      const message = error.code === 'EADDRINUSE' ? `Port ${port} is in use.` : `Port ${port} cannot be used (${error.code}).`;
      const hint = exact
        ? 'End the program that uses it, or choose another with listen.port.'
        : 'The next free one will be taken; choose another with listen.port to know which.';
      resolve([{ code: 'port-taken', severity: exact ? 'error' : 'warning', message, hint }]);
    });
    probe.listen(port, host, () => probe.close(() => resolve([])));
  });
}
