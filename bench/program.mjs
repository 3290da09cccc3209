import { spawn } from 'node:child_process';
import { createServer } from 'node:net';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { WebSocket } from 'ws';
import { liveProtocol } from '../dist/core/live/messages.js';

/** The built program. */
export const mainFile = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url));

/** A port that nobody listens on now. */
export function freePort() {
  return new Promise((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address();
      server.close(() => resolve(port));
    });
  });
}

/** Ends a process and settles when it has. */
export function stopped(child) {
  return new Promise((resolve) => {
    child.once('exit', resolve);
    child.kill();
  });
}

/** The built program serving a folder; `next` waits for an event that comes from now on. */
export async function serve(folder, args = [], page = 'index.html') {
  const child = spawn(process.execPath, [mainFile, 'serve', page, '--port', '0', '--json', ...args], { cwd: folder });
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
  return { url, next, stop: () => stopped(child), pid: child.pid };
}

/** A page's end of the live channel that only listens. */
export async function updateSocket(url) {
  const { key, session } = await (await fetch(`${url}~spark/session`)).json();
  const query = new URLSearchParams({ key, session, page: 'index.html', revision: '0' });
  const socket = new WebSocket(`${url.replace('http', 'ws')}~spark/live?${query}`, liveProtocol);
  await new Promise((resolve) => socket.once('open', resolve));
  /** Settles when updates have brought this many modules, counted from now. */
  const changes = (count) =>
    new Promise((resolve) => {
      let seen = 0;
      const listen = (data) => {
        const message = JSON.parse(String(data));
        if (message.type !== 'update') return;
        seen += message.changed.length;
        if (seen < count) return;
        socket.off('message', listen);
        resolve();
      };
      socket.on('message', listen);
    });
  return { changes, close: () => socket.close() };
}
