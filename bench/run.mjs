// Measures everything that docs/performance.md speaks of, each figure beside its yardstick in the same run.
//
//   node bench/run.mjs              the whole table; the exit code says whether every aim was met
//   node bench/run.mjs --quick      small sizes, for continuous integration: prints and does not judge
//   node bench/run.mjs --project <folder> --page <page>   a project of yours: what can be measured without changing files
//   --out <file>                    where the figures go as JSON (bench/results.json)
import { existsSync, mkdtempSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { cpus, tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { parseArgs } from 'node:util';
import { measureBuild } from './build.mjs';
import { figure, line } from './figures.mjs';
import { measureForward } from './forward.mjs';
import { measureFirstMap, measureLoad, measureShown } from './load.mjs';
import { makeApp } from './make-app.mjs';
import { measureMany } from './many.mjs';
import { measureMap } from './map.mjs';
import { measureMemory, memoryOf } from './memory.mjs';
import { serve } from './program.mjs';
import { bareSave, measureSaves } from './save.mjs';
import { measureStart } from './start.mjs';

const { values: options } = parseArgs({
  options: {
    quick: { type: 'boolean', default: false },
    project: { type: 'string' },
    page: { type: 'string', default: 'index.html' },
    out: { type: 'string', default: 'bench/results.json' },
  },
});
const { quick } = options;
const figures = [];
const growth = [];

function add(row) {
  const made = figure(quick ? { ...row, aim: undefined } : row);
  figures.push(made);
  console.log(line(made));
}

const megabyte = 1 << 20;
/** Time in which what was made is kept on disk. */
const settleMs = (modules) => 700 + modules * 0.4;

async function withApp(size, work) {
  const folder = mkdtempSync(join(tmpdir(), 'vine-bench-'));
  const app = makeApp(folder, size);
  try {
    await work({ folder, app, page: 'index.html', sources: ['src'], settleMs: settleMs(size) });
  } finally {
    rmSync(folder, { recursive: true });
  }
}

/** Adds a time in milliseconds beside another. `most`: what their ratio may be. */
function time(name, value, [against, yardstick], most) {
  add({ figure: name, value, unit: 'ms', yardstick: `ms ${yardstick}`, against, ...(most ? { aim: ['at most', most] } : {}) });
}

function memory(name, bytes, [against, yardstick], most) {
  const aim = ['at most', most];
  add({ figure: name, value: bytes / megabyte, unit: 'MB', yardstick: `MB ${yardstick}`, against: against / megabyte, aim });
}

/** `isLarge`: so large that the cold start has an aim; `isLargest`: that the warm one has. */
async function addStarts(project, name, { rounds, isLarge, isLargest }) {
  const start = await measureStart(project, rounds);
  time(`${name}: cold start to the application piece`, start.cold, [start.translate, 'reading and translating'], isLarge && 2);
  time(`${name}: warm start to the application piece`, start.warm, [start.cold, 'cold start'], isLargest && 0.35);
  time(`${name}: start to the first byte of the page`, start.html, [start.empty, 'node -e 0'], 3);
  add({
    figure: `${name}: bytes of pieces at a reload`,
    value: start.againBytes,
    unit: 'bytes',
    yardstick: 'bytes of the piece',
    against: start.bytes,
    aim: ['at most', 0],
  });
  return start;
}

async function addMaps(program, page, name) {
  const map = await measureMap({ program, page, rounds: 5 });
  const yardstick = [map.joined, 'joining and sending the same text'];
  time(`${name}: first map of the application piece`, map.first, yardstick, 2);
  time(`${name}: later maps`, map.later, yardstick, 2);
}

/** A page's load, its first map, and what a save takes to be seen, each beside the same without a tool. */
async function addPage({ folder, app, page }, name) {
  const rounds = quick ? 1 : 5;
  const load = await measureLoad({ folder, rounds });
  const yardstick = 'the same code as one script and one sheet';
  time(`${name}: page load, empty cache`, load.ours.empty, [load.joined.empty, yardstick], 1.5);
  time(`${name}: page load, again`, load.ours.reload, [load.joined.reload, yardstick], 1.5);
  const map = await measureFirstMap({ folder, page, rounds });
  time(`${name}: first map, right after a cold start`, map.ours, [map.ready, 'the same map ready-made'], 5);
  const shown = await measureShown({ folder, app, saves: quick ? 8 : 30 });
  const chain = 'watch, read, translate, send, apply';
  time(`${name}: style save to applied in Chromium`, shown.ours.style, [shown.bare.style, chain], 2);
  time(`${name}: save to applied in Chromium`, shown.ours.module, [shown.bare.module, chain], 1.5);
}

/** Builds beside what they can't do without: reading, translating and making the same files smaller, in as many threads. */
async function addBuild({ folder, app }, name, most) {
  const { yardstick, cold, warm, edited, watched, bytes } = await measureBuild({ folder, app, runs: quick ? 1 : 3 });
  const against = [yardstick, 'reading, translating, making smaller'];
  time(`${name}: build`, cold, against, most);
  time(`${name}: build of which nothing has changed`, warm, against, 1.2);
  time(`${name}: build with one change since the last one`, edited, against);
  time(`${name}: build after a save, watching`, watched, [cold, 'the whole build'], 0.1);
  memory(`${name}: most memory of a build`, bytes, [150 * megabyte + 12 * app.sourceBytes, '150 and 12 times the source'], 1);
}

/** Every figure of an application of one size. `smallest` holds the saves of the smallest one, to compare with. */
async function addApp(project, size, { isLargest, smallest }) {
  const { folder, app } = project;
  const name = `${size} modules`;
  const isEnd = isLargest || !smallest;
  const start = await addStarts(project, name, { rounds: quick ? 1 : 3, isLarge: size >= 1000, isLargest });
  if (quick || size === 1000 || isLargest) await addPage(project, name);
  if (quick || size === 1000 || isLargest) await addBuild(project, name, isLargest ? 1.8 : 1.6);
  const saves = quick ? 8 : isEnd ? 40 : 20;
  const bare = await bareSave({ folder, app, saves });
  const program = await serve(folder);
  const saved = await measureSaves({ folder, app, program, saves });
  time(`${name}: save to update message`, saved.message, [bare, 'watch, read, translate, send'], isEnd && 1.5);
  if (isLargest) {
    // Minutes have passed since the smallest one was measured, and machines are busy at different times.
    await withApp(sizes[0], async (small) => {
      const beside = await serve(small.folder);
      smallest = await measureSaves({ folder: small.folder, app: small.app, program: beside, saves });
      await beside.stop();
    });
    const at = `at ${sizes[0]} modules`;
    time(`${name}: save to update message`, saved.message, [smallest.message, at], 1.15);
    time(`${name}: save to applied in Chromium`, saved.applied, [smallest.applied, at], 1.2);
    time(`${name}: style save to applied in Chromium`, saved.styled, [smallest.styled, at]);
    await addMaps(program, project.page, name);
  }
  await program.stop();
  // Afresh, since maps and pages that somebody asked for are kept.
  const other = await serve(folder);
  await (await fetch(`${other.url}~spark/piece/page/${project.page}/app.js`)).text();
  const updates = quick ? 20 : isEnd ? 500 : 50;
  const kept = await measureMemory({ folder, app, program: other, updates, settleMs: project.settleMs });
  if (isLargest) {
    const allowed = [120 * megabyte + 8 * app.sourceBytes, '120 and 8 times the source'];
    memory(`${name}: memory after a warm start`, kept.started, allowed, 1);
    memory(`${name}: memory after ${updates} updates`, kept.after, allowed, 1);
    memory(`${name}: memory after ${updates} updates`, kept.after, [kept.before, `after ${updates / 5}`], 1.05);
  }
  await other.stop();
  const { cold, warm, translate, html } = start;
  const inMegabytes = { memory: kept.started / megabyte, source: app.sourceBytes / megabyte };
  growth.push({ size, cold, warm, translate, html, bare, message: saved.message, applied: saved.applied, ...inMegabytes });
  return saved;
}

const sizes = quick ? [100, 300] : [100, 300, 1000, 3000, 10_000];

async function generated() {
  let smallest;
  for (const size of sizes) {
    await withApp(size, async (project) => {
      const saved = await addApp(project, size, { isLargest: size === sizes.at(-1), smallest });
      smallest ??= saved;
    });
  }
  const count = quick ? 50 : 500;
  await withApp(quick ? 100 : 1000, async ({ folder, app }) => {
    const program = await serve(folder);
    const many = await measureMany({ folder, app, program, count, rounds: quick ? 2 : 5 });
    const yardstick = [many.translate, `reading and translating ${count}`];
    time(`${count} files saved at once, last write to update message`, many.update, yardstick, 2);
    await program.stop();
  });
}

/** Folders of a project that hold its source. */
function sourcesOf(folder) {
  return readdirSync(folder).filter(
    (name) => !/^(?:node_modules|dist|\.)/.test(name) && statSync(join(folder, name)).isDirectory(),
  );
}

async function ofProject(folder, page) {
  const sources = sourcesOf(folder);
  await addStarts({ folder, page, sources, settleMs: 4000 }, 'this project', { rounds: 3, isLarge: true, isLargest: true });
  const program = await serve(folder, [], page);
  await addMaps(program, page, 'this project');
  console.log(`memory ${(memoryOf(program.pid) / megabyte).toFixed(0)} MB`);
  await program.stop();
}

console.log(
  `${cpus().length} x ${cpus()[0]?.model}, Node.js ${process.version}; medians, each beside its yardstick of the same run\n`,
);
if (options.project) {
  const folder = resolve(options.project);
  if (!existsSync(join(folder, options.page)))
    throw new Error(`There is no page ${options.page} in ${folder}; name it with --page.`);
  await ofProject(folder, options.page);
} else {
  await generated();
  const forward = await measureForward({ requests: quick ? 1000 : 6000, rounds: quick ? 1 : 5 });
  add({
    figure: 'forwarding: requests per second',
    value: forward.program.perSecond,
    unit: '/s',
    yardstick: '/s a bare pipe of node:http',
    against: forward.pipe.perSecond,
    aim: ['at least', 0.9],
  });
  add({
    figure: 'forwarding: 99th percentile',
    value: forward.program.p99,
    unit: 'ms',
    yardstick: 'ms a bare pipe of node:http',
    against: forward.pipe.p99,
    aim: ['at most', 1.2],
  });
}
writeFileSync(options.out, `${JSON.stringify({ node: process.version, figures, growth }, null, 2)}\n`);
const missed = figures.filter(({ isMet }) => isMet === false).length;
console.log(
  quick
    ? '\nquick: nothing is judged'
    : `\n${missed === 0 ? 'every aim is met' : `${missed} of ${figures.length} figures miss their aim`}`,
);
if (!quick) process.exitCode = missed > 0 ? 1 : 0;
