// Serves packages and applications made of them, opens each in Chromium, uses it for a moment, does the same with what is built of
// it, and writes docs/real-packages.md.
// Usage: node tests/packages/run.mjs [name ...]
// They are installed in a folder of their own, beside what a newcomer's install puts there.
import { spawn, spawnSync } from 'node:child_process';
import { createReadStream, existsSync, mkdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import { dirname, extname, join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { chromium } from 'playwright-core';
import { packages } from './list.mjs';

const repository = join(dirname(fileURLToPath(import.meta.url)), '../..');
const folder = process.env.SPARK_PACKAGES ?? join(repository, '../vine-spark-packages');
const program = join(repository, 'dist/cli/main.js');
const contentTypes = {
  '.html': 'text/html',
  '.js': 'text/javascript',
  '.css': 'text/css',
  '.svg': 'image/svg+xml',
  '.wasm': 'application/wasm',
  '.json': 'application/json',
};
const wanted = process.argv.slice(2);
const chosen = packages.filter(({ name }) => wanted.length === 0 || wanted.includes(name));

/** Installs what isn't there, a few at a time: packages may disagree about others. */
function install() {
  mkdirSync(folder, { recursive: true });
  if (!existsSync(join(folder, 'package.json')))
    writeFileSync(join(folder, 'package.json'), '{ "name": "quay", "private": true }\n');
  const names = [...new Set(['react@19', 'react-dom@19', ...chosen.flatMap(({ name, with: others = [] }) => [name, ...others])])];
  const bare = (name) => name.replace(/(?<=.)@[^/]*$/, '');
  const missing = names.filter((name) => !existsSync(join(folder, 'node_modules', bare(name), 'package.json')));
  if (missing.length === 0) return;
  const { status } = spawnSync(
    'npm',
    ['install', '--ignore-scripts', '--legacy-peer-deps', '--no-audit', '--no-fund', '--loglevel=error', ...missing],
    { cwd: folder, stdio: 'inherit' },
  );
  if (status !== 0) process.exit(1);
}

async function serve(page) {
  const child = spawn(process.execPath, [program, 'serve', page, '--port', '0', '--json', '--no-cache'], {
    cwd: folder,
    env: { ...process.env, NODE_OPTIONS: '' },
  });
  const events = [];
  const waiting = new Set();
  createInterface({ input: child.stdout }).on('line', (line) => {
    events.push(JSON.parse(line));
    for (const look of waiting) look();
  });
  const next = (name) =>
    new Promise((resolve) => {
      const look = () => {
        const found = events.find(({ event }) => event === name);
        if (!found && child.exitCode === null) return;
        waiting.delete(look);
        resolve(found);
      };
      waiting.add(look);
      child.on('exit', look);
      look();
    });
  return { child, events, next };
}

async function tryOne(browser, { name, file, text, expected, kind }) {
  const place = `apps/${name.replace('/', '-')}`;
  mkdirSync(join(folder, place), { recursive: true });
  writeFileSync(
    join(folder, place, 'index.html'),
    `<!doctype html><title>${name}</title><div id="app"></div><script type="module" src="${file}"></script>\n`,
  );
  writeFileSync(join(folder, place, file), text);
  const { child, events, next } = await serve(`${place}/index.html`);
  const row = {
    name,
    kind,
    version: JSON.parse(readFileSync(join(folder, 'node_modules', name, 'package.json'), 'utf8')).version,
    modules: 0,
    ms: 0,
    errors: [],
    buildMs: 0,
    warnings: 0,
  };
  const ready = await next('ready');
  row.modules = ready?.modules ?? 0;
  row.ms = Math.round(ready?.ms ?? 0);
  await use(browser, ready.url, expected, (error) => row.errors.push(error));
  for (const { event, problems = [], problem } of events) {
    if (event === 'problems') row.errors.push(...problems.map(({ message, file: at }) => `${at ?? ''}: ${message}`));
    if (event === 'problem') row.errors.push(problem.message);
    if (event === 'warning') row.warnings++;
  }
  child.kill();
  await tryBuilt(browser, `${place}/index.html`, row, expected);
  return row;
}

/** Opens a page, waits for what it says of itself, and tells what goes wrong in it. */
async function use(browser, url, expected, wrong) {
  const page = await (await browser.newContext()).newPage();
  page.on('console', (message) => message.type() === 'error' && wrong(message.text()));
  page.on('pageerror', (error) => wrong(String(error.message)));
  try {
    await page.goto(url);
    await page.waitForFunction('globalThis.said !== undefined', undefined, { timeout: 30_000 }).catch(() => undefined);
    const found = String(await page.evaluate('globalThis.said'));
    if (!expected.test(found)) wrong(`gave ${found.slice(0, 80)}`);
  } catch (error) {
    wrong(String(error.message));
  }
  await page.context().close();
}

/** Builds the page and opens it on a plain host. */
async function tryBuilt(browser, page, row, expected) {
  const wrong = (error) => row.errors.push(`built: ${error}`);
  const out = join(folder, 'built');
  const begin = performance.now();
  const { status, stdout, stderr } = spawnSync(process.execPath, [program, 'build', page, '--out', out, '--no-cache', '--json'], {
    cwd: folder,
    encoding: 'utf8',
    maxBuffer: 1 << 28,
  });
  row.buildMs = Math.round(performance.now() - begin);
  if (status !== 0) return wrong((stdout + stderr).slice(0, 600));
  const host = createServer((request, response) => {
    if (request.url === '/favicon.ico') return response.writeHead(204).end();
    const path = join(out, decodeURIComponent(new URL(request.url, 'http://quay').pathname));
    if (!existsSync(path) || statSync(path).isDirectory()) return response.writeHead(404).end();
    response.writeHead(200, { 'content-type': contentTypes[extname(path)] ?? 'application/octet-stream' });
    createReadStream(path).pipe(response);
  });
  await new Promise((resolve) => host.listen(0, '127.0.0.1', resolve));
  await use(browser, `http://127.0.0.1:${host.address().port}/${page}`, expected, wrong);
  host.closeAllConnections();
  host.close();
}

install();
const executablePath = [process.env.CHROMIUM, '/usr/bin/chromium', '/usr/bin/google-chrome'].find(
  (path) => path && existsSync(path),
);
const browser = await chromium.launch({
  executablePath,
  args: ['--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking'],
});
const rows = [];
for (const one of chosen) {
  const row = await tryOne(browser, one);
  rows.push(row);
  console.log(
    `${row.errors.length === 0 ? 'passed' : 'FAILED'}  ${row.name} ${row.version}  ${row.modules} modules, ${row.ms} ms, built in ${row.buildMs} ms, ${row.warnings} warnings${
      row.errors.length > 0
        ? `\n        ${row.errors
            .slice(0, 4)
            .map((error) => error.slice(0, 300))
            .join('\n        ')}`
        : ''
    }`,
  );
}
await browser.close();
const failed = rows.filter(({ errors }) => errors.length > 0);
if (wanted.length === 0) {
  const table = rows.map(
    ({ name, version, kind, modules, ms, buildMs, warnings, errors }) =>
      `| ${name} ${version} | ${kind} | ${modules} | ${(ms / 1000).toFixed(1)} s | ${(buildMs / 1000).toFixed(1)} s | ${warnings || ''} | ${errors.length || 'none'} |`,
  );
  const large = rows.filter(({ modules }) => modules > 300).length;
  writeFileSync(
    join(repository, 'docs/real-packages.md'),
    `# Real packages\n\nEach is served and built, opened in Chromium both ways and used for a moment by \`npm run test:packages\`, which wrote this table; ${large} of ${rows.length} have more than 300\nmodules. Start and build: cold ones, nothing kept, on two shared cores. Warnings: parts of Node.js that a package asks for, and imports\nthat may never run.\n\n| package | what it is | modules | start | build | warnings | console errors |\n| --- | --- | --- | --- | --- | --- | --- |\n${table.join('\n')}\n`,
  );
}
console.log(`${rows.length - failed.length} passed, ${failed.length} failed`);
process.exit(failed.length === 0 ? 0 : 1);
