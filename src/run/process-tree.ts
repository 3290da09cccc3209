import { type ChildProcess, spawnSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { setTimeout as delay } from 'node:timers/promises';

/** A process that was asked to end gets so long. */
const graceMs = 120;
const lookEveryMs = 10;
/** Nothing outlives being killed, but a busy machine needs a while for it. */
const longestEndMs = 5000;

/**
 * Ends a process with everything that it started, kindly first. It leads a group of its own, see `spawnOptions`. Settles when all of
 * it is gone: until then it may hold its port.
 */
export async function endTree(child: ChildProcess): Promise<void> {
  const { pid } = child;
  if (pid === undefined) return;
  if (process.platform === 'win32') {
    spawnSync('taskkill', ['/pid', String(pid), '/t', '/f'], { stdio: 'ignore' });
    return;
  }
  // Those that made a group of their own are found by who started them.
  const strays = descendantsOf(pid);
  ending.set(child, strays);
  signal(-pid, 'SIGTERM');
  for (const stray of strays) signal(stray, 'SIGTERM');
  const areThere = () => livingOf(pid, strays).length > 0;
  await untilGone(areThere, graceMs);
  // Some may have started more meanwhile.
  for (const id of [-pid, ...strays, ...livingOf(pid, strays)]) signal(id, 'SIGKILL');
  await untilGone(areThere, longestEndMs);
  ending.delete(child);
}

/** Processes that are being ended, with what made groups of their own: who started that may be gone by now. */
const ending = new Map<ChildProcess, number[]>();

async function untilGone(areThere: () => boolean, ms: number): Promise<void> {
  const until = performance.now() + ms;
  while (areThere() && performance.now() < until) await delay(lookEveryMs);
}

/** What still runs of a group and of some processes. One that has ended, and that nobody asked how, doesn't. */
function livingOf(group: number, others: readonly number[]): number[] {
  if (process.platform !== 'linux') return [-group, ...others].filter(isThere);
  if (!isThere(-group) && !others.some(isThere)) return [];
  return fromProc()
    .filter(({ pid, group: its, hasEnded }) => !hasEnded && (its === group || others.includes(pid)))
    .map(({ pid }) => pid);
}

/** The same at once, for an exit that waits for nobody. */
export function killTree(child: ChildProcess): void {
  const { pid } = child;
  if (pid === undefined) return;
  if (process.platform === 'win32') spawnSync('taskkill', ['/pid', String(pid), '/t', '/f'], { stdio: 'ignore' });
  else for (const id of [...descendantsOf(pid), ...(ending.get(child) ?? []), -pid]) signal(id, 'SIGKILL');
}

/** The same for everything that is being ended just then. */
export function killEnding(): void {
  for (const child of ending.keys()) killTree(child);
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
  for (const { pid, parent } of processes()) children.set(parent, [...(children.get(parent) ?? []), pid]);
  const found: number[] = [];
  for (const pids = [root]; pids.length > 0; ) {
    const below = children.get(pids.pop()!) ?? [];
    found.push(...below);
    pids.push(...below);
  }
  return found;
}

/** Every process with that which started it. Small systems have no `ps`. */
function processes(): { pid: number; parent: number }[] {
  if (process.platform === 'linux') return fromProc();
  const { stdout } = spawnSync('ps', ['-A', '-o', 'pid=,ppid='], { encoding: 'utf8' });
  return (stdout ?? '').split('\n').flatMap((line) => {
    const [pid, parent] = line.trim().split(/\s+/).map(Number);
    return pid && parent ? [{ pid, parent }] : [];
  });
}

function fromProc(): { pid: number; parent: number; group: number; hasEnded: boolean }[] {
  return readdirSync('/proc').flatMap((name) => {
    if (!/^\d+$/.test(name)) return [];
    try {
      // The name in brackets may hold anything; the state, the parent and the group stand behind it.
      const stat = readFileSync(`/proc/${name}/stat`, 'latin1');
      const [state = '', parent, group] = stat.slice(stat.lastIndexOf(')') + 2).split(' ');
      return [{ pid: Number(name), parent: Number(parent), group: Number(group), hasEnded: /[ZXx]/.test(state) }];
    } catch {
      return []; // it has ended
    }
  });
}
