// From the start of the process to the first byte of the page and to the last byte of the application's piece, with nothing
// kept and with what an earlier start kept, against reading and translating the same files, and against an empty process.
import { spawn } from 'node:child_process';
import { existsSync, rmSync } from 'node:fs';
import { get } from 'node:http';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { median } from './figures.mjs';
import { freePort, mainFile, stopped } from './program.mjs';

const translator = fileURLToPath(new URL('translate-only.mjs', import.meta.url));

/** Answers of a server: when the first and the last byte came, and how many there were. */
export function ask(port, path, headers = {}) {
  return new Promise((resolve, reject) => {
    const request = get({ host: '127.0.0.1', port, path, headers }, (response) => {
      let first;
      let bytes = 0;
      response.on('data', (chunk) => {
        first ??= performance.now();
        bytes += chunk.length;
      });
      response.on('end', () =>
        resolve({ first, last: performance.now(), bytes, status: response.statusCode, tag: response.headers.etag }),
      );
    });
    request.on('error', reject);
  });
}

async function answer(port, path) {
  for (;;) {
    try {
      return await ask(port, path);
    } catch {
      await new Promise((resolve) => setTimeout(resolve, 2));
    }
  }
}

/** Where the program keeps what it made of a project. */
function cacheOf(folder) {
  for (let at = folder; ; at = dirname(at))
    if (existsSync(join(at, 'node_modules')) || dirname(at) === at) return join(at, 'node_modules/.cache/vine-spark');
}

/** How long a process takes from its start to its end. */
function lifeOf(args) {
  const from = performance.now();
  return new Promise((resolve) =>
    spawn(process.execPath, args, { stdio: 'ignore' }).once('exit', () => resolve(performance.now() - from)),
  );
}

/** One start. `settleMs`: how long it is left alone afterwards, so that it can keep what it made. */
async function startOnce({ folder, page }, settleMs) {
  const port = await freePort();
  const from = performance.now();
  const child = spawn(
    process.execPath,
    [mainFile, 'serve', page, '--port', String(port), '--exact-port', '--host', '127.0.0.1', '--quiet'],
    {
      cwd: folder,
      stdio: 'ignore',
    },
  );
  const html = await answer(port, '/');
  await ask(port, `/~spark/piece/page/${page}/packages.js`);
  const piece = await ask(port, `/~spark/piece/page/${page}/app.js`);
  const again = await ask(port, `/~spark/piece/page/${page}/app.js`, { 'if-none-match': piece.tag });
  await new Promise((resolve) => setTimeout(resolve, settleMs));
  await stopped(child);
  return { html: html.first - from, piece: piece.last - from, bytes: piece.bytes, againBytes: again.bytes };
}

/** Medians of some rounds, in milliseconds; everything in one round runs one after another. */
export async function measureStart(app, rounds) {
  const times = { empty: [], translate: [], cold: [], warm: [], html: [] };
  let bytes = 0;
  let againBytes = 0;
  for (let round = 0; round < rounds; round++) {
    times.empty.push(await lifeOf(['-e', '0']));
    times.translate.push(await lifeOf([translator, app.folder, ...app.sources]));
    rmSync(cacheOf(app.folder), { recursive: true, force: true });
    const cold = await startOnce(app, app.settleMs);
    const warm = await startOnce(app, 0);
    times.cold.push(cold.piece);
    times.warm.push(warm.piece);
    times.html.push(cold.html, warm.html);
    bytes = cold.bytes;
    againBytes = cold.againBytes;
  }
  return { ...Object.fromEntries(Object.entries(times).map(([name, list]) => [name, median(list)])), bytes, againBytes };
}
