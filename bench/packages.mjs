// Cold starts of real packages against reading and parsing the same files with the same parser, in the same run.
// Usage: node bench/packages.mjs [name ...]   after npm run test:packages, which installs them.
import { spawn, spawnSync } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';

const repository = join(dirname(fileURLToPath(import.meta.url)), '..');
const folder = process.env.SPARK_PACKAGES ?? join(repository, '../vine-spark-packages');
const names =
  process.argv.length > 2
    ? process.argv.slice(2)
    : ['@fluentui/react-components', 'lucide-react', 'monaco-editor', 'echarts', '@babylonjs/core', 'pdfjs-dist', 'react-admin'];
const runs = 3;
const median = (numbers) => numbers.toSorted((a, b) => a - b)[Math.floor(numbers.length / 2)];

/** Processor time of a process so far, in milliseconds. */
function cpuMs(pid) {
  const fields = readFileSync(`/proc/${pid}/stat`, 'utf8')
    .replace(/^.*\) /, '')
    .split(' ');
  return (Number(fields[11]) + Number(fields[12])) * 10;
}

async function start(page) {
  const from = performance.now();
  const child = spawn(
    process.execPath,
    [join(repository, 'dist/cli/main.js'), 'serve', page, '--port', '0', '--json', '--no-cache'],
    { cwd: folder },
  );
  const ready = await new Promise((resolve) =>
    createInterface({ input: child.stdout }).on('line', (line) => {
      const event = JSON.parse(line);
      if (event.event === 'ready') resolve(event);
    }),
  );
  const wall = performance.now() - from;
  const cpu = cpuMs(child.pid);
  const memory = Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${child.pid}/status`, 'utf8'))[1]) / 1024;
  const texts = await Promise.all(
    ['packages', 'app'].map(async (part) => (await fetch(new URL(`~spark/piece/page/${page}/${part}.js`, ready.url))).text()),
  );
  const ids = [...texts.join('').matchAll(/^vine\.add\("((?:[^"\\]|\\.)*)"/gm)].map((match) => JSON.parse(`"${match[1]}"`));
  child.kill();
  await new Promise((resolve) => child.once('exit', resolve));
  return {
    wall,
    cpu,
    memory,
    files: ids.map((id) => join(folder, id)).filter((file) => existsSync(file) && /\.[cm]?[jt]sx?$/.test(file)),
  };
}

/** The yardstick: a process that reads and parses each file. */
function parseOnly(files) {
  const script = `const { readFileSync } = require('node:fs'); const { parseSync } = require('oxc-parser'); for (const file of JSON.parse(readFileSync(0, 'utf8'))) parseSync(file, readFileSync(file, 'utf8')).program;`;
  const from = performance.now();
  const { status, stderr } = spawnSync(
    process.execPath,
    [
      '-e',
      `${script} const { userCPUTime, systemCPUTime } = process.resourceUsage(); console.error((userCPUTime + systemCPUTime) / 1000)`,
    ],
    { cwd: repository, input: JSON.stringify(files), encoding: 'utf8' },
  );
  if (status !== 0) throw new Error(stderr);
  return { wall: performance.now() - from, cpu: Number(stderr.trim()) };
}

console.log('package                          modules   wall ms (x)      cpu ms (x)    MB');
for (const name of names) {
  const page = `apps/${name.replace('/', '-')}/index.html`;
  const starts = [];
  const yards = [];
  for (let run = 0; run < runs; run++) {
    starts.push(await start(page));
    yards.push(parseOnly(starts[0].files));
  }
  const [wall, cpu, memory] = ['wall', 'cpu', 'memory'].map((key) => median(starts.map((one) => one[key])));
  const [yardWall, yardCpu] = ['wall', 'cpu'].map((key) => median(yards.map((one) => one[key])));
  console.log(
    `${name.padEnd(32)} ${String(starts[0].files.length).padStart(7)} ${wall.toFixed(0).padStart(9)} (${(wall / yardWall).toFixed(2)})  ${cpu.toFixed(0).padStart(8)} (${(cpu / yardCpu).toFixed(2)})  ${memory.toFixed(0)}`,
  );
}
