import { spawn } from 'node:child_process';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

const main = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url));

/** The built program serving a folder; `next` waits for an event that comes from now on. */
export async function serve(folder, args = []) {
  const child = spawn(process.execPath, [main, 'serve', 'index.html', '--port', '0', '--json', ...args], { cwd: folder });
  const waiting = new Set();
  createInterface({ input: child.stdout }).on('line', (line) => {
    const event = JSON.parse(line);
    for (const wait of waiting) {
      if (wait.name !== event.event) continue;
      waiting.delete(wait);
      wait.resolve(event);
    }
  });
  const next = (name) => new Promise((resolve) => waiting.add({ name, resolve }));
  const { url } = await next('ready');
  const stop = () =>
    new Promise((resolve) => {
      child.once('exit', resolve);
      child.kill();
    });
  return { url, next, stop, pid: child.pid };
}
