import { type ChildProcess, spawnSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { setTimeout as delay } from 'node:timers/promises';

/** A process that was asked to end gets so long. */
const graceMs = 120;
const lookEveryMs = 10;

/** Ends a process with everything that it started, kindly first. It leads a group of its own, see `spawnOptions`. */
export async function endTree(child: ChildProcess): Promise<void> {
  const { pid } = child;
  if (pid === undefined) return;
  if (process.platform === 'win32') {
    spawnSync('taskkill', ['/pid', String(pid), '/t', '/f'], { stdio: 'ignore' });
    return;
  }
  // Those that made a group of their own are found by who started them.
  const strays = descendantsOf(pid);
  signal(-pid, 'SIGTERM');
  for (const stray of strays) signal(stray, 'SIGTERM');
  const until = performance.now() + graceMs;
  while (performance.now() < until && (isThere(-pid) || strays.some(isThere))) await delay(lookEveryMs);
  signal(-pid, 'SIGKILL');
  for (const stray of strays) signal(stray, 'SIGKILL');
}

/** The same at once, for an exit that waits for nobody. */
export function killTree({ pid }: ChildProcess): void {
  if (pid === undefined) return;
  if (process.platform === 'win32') spawnSync('taskkill', ['/pid', String(pid), '/t', '/f'], { stdio: 'ignore' });
  else for (const id of [...descendantsOf(pid), -pid]) signal(id, 'SIGKILL');
}

/** A group of its own, so that it can be ended as a whole and a terminal's Ctrl-C comes to us alone. */
export const spawnOptions = { detached: process.platform !== 'win32' } as const;

function signal(pid: number, name: NodeJS.Signals): void {
  try {
    process.kill(pid, name);
  } catch {
    // It has ended.
  }
}

function isThere(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}

/** Processes that a process started, and those that they started. */
function descendantsOf(root: number): number[] {
  const children = new Map<number, number[]>();
  for (const [pid, parent] of processes()) children.set(parent, [...(children.get(parent) ?? []), pid]);
  const found: number[] = [];
  for (const pids = [root]; pids.length > 0; ) {
    const below = children.get(pids.pop()!) ?? [];
    found.push(...below);
    pids.push(...below);
  }
  return found;
}

/** Every process with that which started it. Small systems have no `ps`. */
function processes(): [pid: number, parent: number][] {
  if (process.platform === 'linux') return fromProc();
  const { stdout } = spawnSync('ps', ['-A', '-o', 'pid=,ppid='], { encoding: 'utf8' });
  return (stdout ?? '').split('\n').flatMap((line) => {
    const [pid, parent] = line.trim().split(/\s+/).map(Number);
    return pid && parent ? [[pid, parent] as [number, number]] : [];
  });
}

function fromProc(): [number, number][] {
  return readdirSync('/proc').flatMap((name) => {
    if (!/^\d+$/.test(name)) return [];
    try {
      // The name in brackets may hold anything; the state and the parent stand behind it.
      const stat = readFileSync(`/proc/${name}/stat`, 'latin1');
      return [[Number(name), Number(stat.slice(stat.lastIndexOf(')') + 2).split(' ')[1])] as [number, number]];
    } catch {
      return []; // it has ended
    }
  });
}
