// How long builds take beside what they can't do without, and how much memory.
import { spawn, spawnSync } from 'node:child_process';
import { readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

const repository = fileURLToPath(new URL('..', import.meta.url));
const main = join(repository, 'dist/cli/main.js');
/** Says at the end how much memory the process had at most. */
const peak = `data:text/javascript,${encodeURIComponent("import { isMainThread } from 'node:worker_threads'; if (isMainThread) process.on('exit', () => process.stderr.write('peak ' + process.resourceUsage().maxRSS + '\\n'));")}`;
const packages = [
  'react/cjs/react.production.js',
  'react/cjs/react-jsx-runtime.production.js',
  'react-dom/cjs/react-dom.production.js',
  'react-dom/cjs/react-dom-client.production.js',
  'scheduler/cjs/scheduler.production.js',
];

const median = (values) => values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)];

/** Runs a program to its end. Returns the milliseconds that took and the most memory it had, in bytes. */
function run(cwd, args) {
  const from = performance.now();
  const { status, stderr, stdout } = spawnSync(process.execPath, ['--import', peak, ...args], {
    cwd,
    encoding: 'utf8',
    maxBuffer: 1 << 28,
  });
  const ms = performance.now() - from;
  if (status !== 0) throw new Error(stderr + stdout);
  return { ms, bytes: Number(/peak (\d+)/.exec(stderr)?.[1] ?? 0) * 1024 };
}

/** Measures builds of an application, each in turn with its yardstick. */
export async function measureBuild({ folder, app, runs = 3 }) {
  const yardstick = [];
  const cold = [];
  const warm = [];
  let memory = 0;
  const cache = join(folder, 'node_modules/.cache/vine-spark');
  for (let index = 0; index < runs; index++) {
    yardstick.push(
      run(folder, [join(repository, 'bench/minify-only.mjs'), folder, 'src', ...packages.map((path) => `node_modules/${path}`)])
        .ms,
    );
    const built = run(folder, [main, 'build', '--no-cache']);
    cold.push(built.ms);
    memory = Math.max(memory, built.bytes);
  }
  rmSync(cache, { recursive: true, force: true });
  run(folder, [main, 'build']);
  const edited = [];
  for (let index = 0; index < runs; index++) {
    warm.push(run(folder, [main, 'build']).ms);
    const file = join(folder, app.path(5));
    writeFileSync(file, `${readFileSync(file, 'utf8').trimEnd()}\nglobalThis.ebb${index} = ${index};\n`);
    edited.push(run(folder, [main, 'build']).ms);
  }
  const watched = await measureWatch(folder, app, runs);
  return { yardstick: median(yardstick), cold: median(cold), warm: median(warm), edited: median(edited), watched, bytes: memory };
}

/** The time from a save to the build with it. */
async function measureWatch(folder, app, runs) {
  const child = spawn(process.execPath, [main, 'build', '--watch', '--json', '--no-cache'], { cwd: folder });
  const lines = createInterface({ input: child.stdout });
  const next = () => new Promise((resolve) => lines.once('line', (line) => resolve(JSON.parse(line))));
  await next();
  const times = [];
  for (let index = 0; index <= runs; index++) {
    const built = next();
    const file = join(folder, app.path(7));
    writeFileSync(file, readFileSync(file, 'utf8').replace(/\n*$/, `\nglobalThis.tide${index} = ${index};\n`));
    times.push((await built).ms);
  }
  child.kill();
  // The first one after a start finds everything cold.
  return median(times.slice(1));
}
