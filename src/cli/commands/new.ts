import { copyFileSync, existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { basename, dirname, join, relative, resolve } from 'node:path';
import { Command, Option } from 'commander';
import { VineError } from '../../core/problem/problem.js';
import { parseJson } from '../../core/text/json.js';
import { shownText } from '../../core/text/shown-text.js';
import type { GrowOptions } from '../../create/from.js';
import { type Kind, kinds } from '../../create/kinds.js';
import { installAll, type Manager, managerOf, ownSpecifier, runManager } from '../../create/manager.js';
import type { Files, Wishes } from '../../create/plan.js';
import { makeFolder } from '../../project/files/disk-files.js';
import { askWhich, askYes } from '../ask.js';
import { examples } from '../examples.js';
import { colours as pc } from '../report/colours.js';

interface NewOptions {
  kind?: Kind;
  typescript?: boolean;
  utilityCss?: boolean;
  backend?: boolean;
  exact?: boolean;
  from?: string;
  as?: string;
  manager?: Manager;
  install: boolean;
  serve: boolean;
  port?: number;
  intoFull?: boolean;
  yes?: boolean;
  adopt?: boolean;
  undo?: boolean;
}

/** `vine-spark new <folder>`. */
export function newCommand(version: string): Command {
  return new Command('new')
    .description(
      'make a project that runs at once: a fresh one, one grown around a file of yours, or what is needed in one that is there',
    )
    .argument('<folder>', 'where to; . for this folder')
    .addOption(new Option('--kind <kind>', 'what its page is made with').choices([...kinds]))
    .option('--typescript', 'with TypeScript')
    .option('--no-typescript', 'without')
    .option('--utility-css', 'with classes such as mt-4, made by a PostCSS plugin')
    .option('--no-utility-css', 'without')
    .option('--backend', 'with a small server that runs alongside and answers /api')
    .option('--no-backend', 'without')
    .option('--exact', 'versions without ranges')
    .option('--from <file>', 'grow it around a component, a page or a folder of a few files; - reads one from standard input')
    .option('--as <name>', 'with --from -: the name of what is read, e.g. berth-card.tsx')
    .addOption(
      new Option('--manager <name>', 'package manager (default: that of a lock file, or the one that calls)').choices([
        'npm',
        'pnpm',
        'yarn',
      ]),
    )
    .option('--no-install', 'only write the files')
    .option('--no-serve', 'with --from: do not serve it')
    .option('--port <n>', 'with --from: port of the dev server', Number)
    .option('--into-full', 'write into a folder that is not empty; files that are there stay')
    .option('--adopt', 'in a project that is there: propose the settings and scripts that it needs, and write them after a yes')
    .option('--undo', 'with --adopt: take back what it wrote')
    .option('--yes', 'ask nothing')
    .addHelpText(
      'after',
      examples(
        ['new board', 'asks what it is to be'],
        ['new board --kind vue --typescript --backend --yes', 'asks nothing'],
        ['new card --from berth-card.tsx', 'a project around a component, served'],
        ['new . --adopt', 'in a project that is there'],
      ),
    )
    .action(async (folder: string, options: NewOptions, command: Command) => {
      // An option that nobody gave is a question.
      const given = Object.fromEntries(
        Object.entries(options).filter(([name]) => command.getOptionValueSource(name) !== 'default'),
      ) as Partial<NewOptions>;
      const target = resolve(folder);
      if (options.adopt || options.undo) {
        const { adopt, undoAdoption } = await import('./adopt.js');
        return options.undo ? undoAdoption(target) : adopt(target, { version, yes: options.yes === true });
      }
      if (options.from !== undefined) return grow(target, { ...options, version });
      return fresh(target, { ...given, install: options.install }, version);
    });
}

async function fresh(target: string, given: Partial<NewOptions> & { install: boolean }, version: string): Promise<void> {
  refuseFull(target, given.intoFull === true);
  const manager = given.manager ?? managerOf(dirname(target));
  const answers = given.yes || !process.stdin.isTTY ? {} : await asked(given);
  const wishes: Wishes = {
    name: basename(target),
    kind: 'page',
    typescript: true,
    utilityCss: false,
    backend: false,
    ...answers,
    ...Object.fromEntries(
      ['kind', 'typescript', 'utilityCss', 'backend'].flatMap((name) =>
        name in given ? [[name, given[name as keyof NewOptions]]] : [],
      ),
    ),
    exact: given.exact === true,
    tool: ownSpecifier(version),
    manager,
  };
  const { projectFiles } = await import('../../create/plan.js');
  const written = writeFiles(target, projectFiles(wishes));
  process.stdout.write(
    `\n  ${pc.bold(shownText(relative(process.cwd(), target) || '.'))}  ${pc.dim(`${written.length} files`)}\n${written.map((path) => `    ${pc.dim(shownText(path))}\n`).join('')}`,
  );
  const isInstalled = given.install && (await install(target, manager));
  sayHowToGoOn(target, manager, isInstalled);
}

async function asked(given: Partial<NewOptions>): Promise<Partial<Wishes>> {
  const names: Record<Kind, string> = { page: 'the page alone', react: 'React', preact: 'Preact', vue: 'Vue', svelte: 'Svelte' };
  const choices = kinds.map((value) => ({ value, title: names[value] }));
  const yes = async (name: 'typescript' | 'utilityCss' | 'backend', message: string, initial: boolean) =>
    given[name] ?? (await askYes(message, initial));
  return {
    kind: given.kind ?? (await askWhich('What is the page made with?', choices)),
    typescript: await yes('typescript', 'With TypeScript?', true),
    utilityCss: await yes('utilityCss', 'With utility classes, such as mt-4?', false),
    backend: await yes('backend', 'With a small backend in Node.js?', false),
  };
}

async function grow(target: string, options: NewOptions & { version: string }): Promise<void> {
  refuseFull(target, options.intoFull === true);
  const { growProject, nameForText } = await import('../../create/from.js');
  const { fittingVersions } = await import('../../create/fitting.js');
  const base: Omit<GrowOptions, 'from' | 'given'> = {
    name: basename(target),
    exact: options.exact === true,
    tool: ownSpecifier(options.version),
  };
  const source = await sourceOf(options, nameForText);
  let grown = growProject({ ...base, ...source });
  const manager = options.manager ?? managerOf(dirname(target));
  // Which versions fit is known when it's known which packages there are.
  if (options.install && grown.packages.length > 0)
    grown = growProject({ ...base, ...source, versions: await fittingVersions(grown.packages, base.exact) });
  const written = writeFiles(target, grown.files);
  for (const [path, from] of Object.entries(grown.copies)) {
    makeFolder(dirname(join(target, path)));
    copyFileSync(from, join(target, path));
    written.push(path);
  }
  const packages = grown.packages.length > 0 ? `; imports ${grown.packages.join(', ')}` : '';
  process.stdout.write(
    `\n  ${pc.bold(shownText(relative(process.cwd(), target) || '.'))}  ${pc.dim(shownText(`${written.length} files${packages}`))}\n`,
  );
  if (grown.standIns.length > 0) {
    process.stdout.write(`  ${pc.yellow('What was not there, and what stands in for it:')}\n`);
    for (const { what, by } of grown.standIns) process.stdout.write(`    ${shownText(what)}  ${pc.dim(`→ ${shownText(by)}`)}\n`);
  }
  const isInstalled = options.install && (await install(target, manager));
  if (!isInstalled || !options.serve) return sayHowToGoOn(target, manager, isInstalled);
  process.chdir(target);
  const { serve } = await import('./serve.js');
  await serve({
    version: options.version,
    page: 'index.html',
    options: { hot: true, ...(options.port === undefined ? {} : { port: options.port }) },
  });
}

async function sourceOf(
  { from, as }: NewOptions,
  nameForText: (text: string) => string,
): Promise<Pick<GrowOptions, 'from' | 'given'>> {
  if (from !== '-') {
    const path = resolve(from!);
    if (!existsSync(path))
      throw new VineError({
        code: 'file-missing',
        message: `There is no ${from}.`,
        hint: 'Name a component, a page or a folder.',
      });
    return { from: path };
  }
  const parts: Buffer[] = [];
  for await (const part of process.stdin) parts.push(part as Buffer);
  const text = Buffer.concat(parts).toString();
  if (text.trim() === '')
    throw new VineError({
      code: 'file-missing',
      message: 'Standard input held nothing.',
      hint: 'Pipe a component or a page into it.',
    });
  return { given: { name: as ?? nameForText(text), text } };
}

/** Nothing is written over. Returns what was written. */
function writeFiles(target: string, files: Files): string[] {
  const written: string[] = [];
  for (const [path, text] of Object.entries(files)) {
    const file = join(target, path);
    if (existsSync(file)) continue;
    makeFolder(dirname(file));
    writeFileSync(file, text.startsWith('base64:') ? Buffer.from(text.slice('base64:'.length), 'base64') : text);
    written.push(path);
  }
  return written;
}

function refuseFull(target: string, mayBeFull: boolean): void {
  if (!existsSync(target)) return;
  if (!statSync(target).isDirectory())
    throw new VineError({ code: 'unknown-option', message: `${target} is a file.`, hint: 'Give the name of a new folder.' });
  const names = readdirSync(target).filter((name) => !/^\.(?:git|gitignore|DS_Store)$/.test(name));
  if (names.length === 0 || mayBeFull) return;
  throw new VineError({
    code: 'unknown-option',
    message: `The folder ${target} is not empty: it holds ${names.slice(0, 3).join(', ')}${names.length > 3 ? ` and ${names.length - 3} more` : ''}.`,
    hint: 'Give the name of a new folder. To write into it all the same, where nothing that is there is touched: --into-full. For a project that is there: --adopt.',
  });
}

/** Whether the packages are there now. Without a network, the files stay and it's said how to go on. */
async function install(target: string, manager: Manager): Promise<boolean> {
  process.stdout.write(`  ${pc.dim(`${manager} install …`)}\n`);
  const { isDone, said } = await runManager(manager, installAll(manager), target);
  if (isDone) return true;
  const rows = said.split('\n').filter((row) => row.trim() !== '' && !/npm warn/.test(row));
  const why = rows.filter((row) => /ERR|error/i.test(row));
  process.stdout.write(`  ${pc.yellow('The packages could not be installed; the files are there.')}\n`);
  for (const row of (why.length > 0 ? why : rows.slice(-4)).slice(0, 4)) process.stdout.write(`    ${shownText(row.trim())}\n`);
  process.exitCode = 1;
  return false;
}

function sayHowToGoOn(target: string, manager: Manager, isInstalled: boolean): void {
  const folder = relative(process.cwd(), target);
  const rows = [
    ...(folder === '' ? [] : [`cd ${folder}`]),
    ...(isInstalled ? [] : [`${manager} install`]),
    `${manager === 'npm' ? 'npm run' : manager} serve`,
  ];
  process.stdout.write(`\n${rows.map((row) => `  ${pc.bold(shownText(row))}`).join('\n')}\n\n`);
}

/** The description of a project; `undefined` where there is none. */
export function describedAt(folder: string): Record<string, unknown> | undefined {
  try {
    return parseJson(readFileSync(join(folder, 'package.json'), 'utf8')) as Record<string, unknown>;
  } catch {
    return undefined;
  }
}
