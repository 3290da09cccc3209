// What the server keeps in memory: after the start, and after many updates.
import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { updateSocket } from './program.mjs';

/** Resident memory of a process in bytes; pages of files that the system can take back any time are left out. */
export function memoryOf(pid) {
  return Number(/RssAnon:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, 'utf8'))[1]) * 1024;
}

const restMs = 4000;

/** Bytes after the start and after `updates` saves, each answered before the next. */
export async function measureMemory({ folder, app, program, updates, settleMs }) {
  await new Promise((resolve) => setTimeout(resolve, settleMs));
  const socket = await updateSocket(program.url);
  const save = async (n) => {
    const arrived = socket.changes(1);
    writeFileSync(join(folder, app.path(n % 50)), app.component(n % 50, `memory${n}`));
    await arrived;
  };
  const started = memoryOf(program.pid);
  // What the first updates need once is no growth.
  const warmUp = Math.floor(updates / 5);
  for (let n = 0; n < warmUp; n++) await save(n);
  await new Promise((resolve) => setTimeout(resolve, restMs));
  const before = memoryOf(program.pid);
  for (let n = warmUp; n < updates; n++) await save(n);
  socket.close();
  // What updates leave behind is given back in a pause.
  await new Promise((resolve) => setTimeout(resolve, restMs));
  return { started, before, after: memoryOf(program.pid) };
}
