#!/usr/bin/env node
import { existsSync, readFileSync } from 'node:fs';
import { Command, CommanderError } from 'commander';
import { VineError } from '../core/problem/problem.js';
import { buildCommand } from './commands/build.js';
import { checkCommand } from './commands/check.js';
import { demoCommand } from './commands/demo.js';
import { graphCommand } from './commands/graph.js';
import { needsCommand } from './commands/needs.js';
import { newCommand } from './commands/new.js';
import { serveCommand } from './commands/serve.js';
import { settingsCommand } from './commands/settings.js';
import { parseForward } from './options.js';
import { printProblem } from './report/problem-text.js';
import { endWithOutput } from './staying-alive.js';
import { systemProblem } from './system-problem.js';

/** Exit codes: 0 all right, 1 something failed, 2 the command line or the settings are wrong. */
const usageCodes = new Set([
  'unknown-option',
  'unknown-setting',
  'settings-unreadable',
  'page-missing',
  'recording-unusable',
  'certificate-unusable',
  'trace-unwritable',
  'output-refused',
]);

async function main(): Promise<void> {
  endWithOutput();
  const { version } = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as { version: string };
  const program = new Command('vine-spark')
    .description(
      'For front-end applications: bundles in memory, updates in place, forwards API paths to your backend, and builds the same for production.',
    )
    .version(version, '--version', 'print the version')
    .helpOption('-h, --help', 'print this help')
    .helpCommand(false)
    .showSuggestionAfterError(true);
  program.addCommand(serveCommand(version));
  program.addCommand(buildCommand());
  program.addCommand(demoCommand(version));
  program.addCommand(checkCommand(parseForward));
  program.addCommand(newCommand(version));
  program.addCommand(needsCommand());
  program.addCommand(graphCommand());
  program.addCommand(settingsCommand());
  for (const command of [program, ...program.commands])
    command
      .exitOverride()
      .configureOutput({ writeErr: () => {} })
      .helpOption('-h, --help', 'print this help');
  try {
    await program.parseAsync();
  } catch (error) {
    process.exitCode = report(error, program);
  }
}

/** What was meant where a page or a folder stands in the place of a command. */
function pageHint({ code }: CommanderError): string | undefined {
  const [word] = process.argv.slice(2).filter((part) => !part.startsWith('-'));
  if (code !== 'commander.unknownCommand' || word === undefined) return undefined;
  return /\.html?$/i.test(word) || existsSync(word) ? `To serve it: vine-spark serve ${word}` : undefined;
}

function report(error: unknown, program: Command): number {
  if (error instanceof CommanderError) {
    if (error.exitCode === 0) return 0;
    if (error.code === 'commander.help') {
      process.stdout.write(program.helpInformation());
      return 2;
    }
    const [message = '', suggestion] = error.message.replace(/^error: /, '').split('\n');
    const hint = pageHint(error) ?? suggestion?.replace(/^\((.*)\)$/, '$1') ?? 'vine-spark --help lists what there is.';
    printProblem({
      code: 'unknown-option',
      severity: 'error',
      message: `${message[0]?.toUpperCase()}${message.slice(1)}.`.replace(/\.\.$/, '.'),
      hint,
    });
    return 2;
  }
  if (error instanceof VineError) {
    for (const problem of error.problems) printProblem(problem);
    return usageCodes.has(error.code) ? 2 : 1;
  }
  const failure = error instanceof Error ? error : new Error(String(error));
  const system = systemProblem(failure);
  if (system) {
    printProblem(system);
    return 1;
  }
  printProblem({
    code: 'internal-error',
    severity: 'error',
    message: `Vine Spark failed: ${failure.message}`,
    hint: failure.stack ?? '',
  });
  return 1;
}

await main();
