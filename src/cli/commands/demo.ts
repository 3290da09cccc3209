import { spawnSync } from 'node:child_process';
import { cpSync, existsSync, readdirSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { createServer } from 'node:net';
import { join, relative, resolve } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Command, Option } from 'commander';
import { VineError } from '../../core/problem/problem.js';
import { examples } from '../examples.js';
import { colours as pc } from '../report/colours.js';
import { serve } from './serve.js';
import type { ServeOptions } from './serve-request.js';

const backendPort = 8464;
const source = fileURLToPath(new URL('../../../demo', import.meta.url));
const panels = fileURLToPath(new URL('../../../panels', import.meta.url));

/** What a demo is written in, with a package without which it can't be served and the file to try first. */
const writtenIn = {
  react: { needs: 'react-dom/client', file: 'src/components/departure-row.tsx', what: 'what you picked' },
  vue: { needs: 'vue/compiler-sfc', file: 'src/tide-panel.vue', what: 'the hour you chose' },
  svelte: { needs: 'svelte/compiler', file: 'src/tide-panel.svelte', what: 'the hour you chose' },
} as const;
type Framework = keyof typeof writtenIn;
/** What of the whole demo the panels use too. */
const shared = ['backend', 'src/model', 'src/styles', 'src/assets'];

/** `vine-spark demo [folder]`. */
export function demoCommand(version: string): Command {
  return new Command('demo')
    .description('copy the demo application, a ferry departure board, to a folder, start its backend and serve it')
    .argument('[folder]', 'where to copy it', 'saltmarsh-ferries')
    .addOption(
      new Option('--with <framework>', 'what it is written in; with vue and svelte it is the tide panel alone')
        .choices(Object.keys(writtenIn))
        .default('react'),
    )
    .option('--port <n>', 'port of the dev server (default: 8463)', Number)
    .option('--open', 'open the page in a browser')
    .option('--json', 'print events as NDJSON')
    .addHelpText(
      'after',
      examples(
        ['demo', 'to saltmarsh-ferries in this folder'],
        ['demo board --open', 'to a folder of another name, and open the page'],
        ['demo tide --with vue', 'its tide panel as components of Vue'],
      ),
    )
    .action(
      async (
        folder: string,
        { with: framework, ...options }: Pick<ServeOptions, 'port' | 'open' | 'json'> & { with: Framework },
      ) => {
        const start = process.cwd();
        const target = resolve(folder);
        copyDemo(target, framework);
        const port = await freePort(backendPort);
        process.chdir(target);
        const to = `http://127.0.0.1:${port}`;
        const backend = {
          name: 'backend',
          command: ['node', 'backend/server.mjs'],
          env: { PORT: String(port) },
          ready: `${to}/health`,
        };
        await serve({
          version,
          page: 'index.html',
          options: { ...options, hot: true, given: { run: [backend] }, forward: [{ path: '/api', to }] },
        });
        if (!options.json) process.stdout.write(tour(relative(start, target) || '.', framework));
      },
    );
}

/** Copies the demo unless the folder holds it already; installs its packages where they can't be found. */
function copyDemo(target: string, framework: Framework): void {
  if (!existsSync(target) || readdirSync(target).length === 0) {
    // By the path inside of it: the demo of an installed package lies in `node_modules` itself.
    copyWithoutPackages(source, target, framework === 'react' ? [''] : shared);
    if (framework !== 'react') copyWithoutPackages(join(panels, framework), target, ['']);
  } else if (!isDemo(target, framework)) {
    throw new VineError({
      code: 'unknown-option',
      message: `The folder ${target} is not empty.`,
      hint: 'Give the name of a new folder: vine-spark demo <folder>',
    });
  }
  try {
    createRequire(join(target, 'package.json')).resolve(writtenIn[framework].needs);
  } catch {
    process.stdout.write('  Installing the packages of the demo …\n');
    const { status } = spawnSync('npm', ['install', '--no-audit', '--no-fund'], {
      cwd: target,
      stdio: ['ignore', 'ignore', 'inherit'],
    });
    if (status !== 0)
      throw new VineError({
        code: 'package-missing',
        message: "The demo's packages could not be installed.",
        hint: `Run npm install in ${target} and look at what it says.`,
      });
  }
}

function copyWithoutPackages(from: string, target: string, parts: readonly string[]): void {
  const filter = (path: string) => !relative(from, path).includes('node_modules');
  for (const part of parts) cpSync(join(from, part), join(target, part), { recursive: true, filter });
}

/** Whether a folder holds the demo, written in that. */
function isDemo(folder: string, framework: Framework): boolean {
  const file = join(folder, 'package.json');
  const isOurs = existsSync(file) && readFileSync(file, 'utf8').includes('"saltmarsh-ferries"');
  return isOurs && existsSync(join(folder, writtenIn[framework].file));
}

/** What to try first. */
function tour(folder: string, framework: Framework): string {
  const { file: first, what } = writtenIn[framework];
  const file = (path: string) => pc.bold(join(folder, path));
  const steps = [
    `Change a word in ${file(first)}: the page follows and keeps ${what}.`,
    `Break a line there: the page says where, and goes on when it's mended.`,
    `Press ${pc.bold('t')} to see what goes to the backend, ${pc.bold('?')} for more.`,
    `Run ${pc.bold('npm run build')} in ${folder} for production.`,
  ];
  return `\n${steps.map((step, index) => `  ${pc.dim(String(index + 1))}  ${step}`).join('\n')}\n\n`;
}

async function freePort(from: number): Promise<number> {
  for (let port = from + 0; port < from + 50; port++) if (await isFree(port)) return port;
  throw new VineError({
    code: 'port-taken',
    message: `Ports ${from} to ${from + 49} are all in use.`,
    hint: 'End one of the programs that use them.',
  });
}

function isFree(port: number): Promise<boolean> {
  return new Promise((done) => {
    const probe = createServer();
    probe.once('error', () => done(false));
    probe.listen(port, '127.0.0.1', () => probe.close(() => done(true)));
  });
}
