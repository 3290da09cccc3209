import { existsSync, writeFileSync } from 'node:fs';
import { basename, resolve } from 'node:path';
import { Command } from 'commander';
import { VineError } from '../../core/problem/problem.js';
import { shownText } from '../../core/text/shown-text.js';
import type { CommandLineSettings } from '../../settings/effective.js';
import { examples } from '../examples.js';
import { parseBase, parseForward, parsePort } from '../options.js';
import { colours as pc } from '../report/colours.js';

interface SettingsOptions extends Omit<CommandLineSettings, 'page'> {
  write?: string | true;
  schema?: boolean;
  json?: boolean;
}

/** `vine-spark settings [page]`. */
export function settingsCommand(): Command {
  return new Command('settings')
    .description('print the settings in force and where each comes from, or write them to a file')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .option('--write [file]', 'write them to a settings file with explanations (default: vine-spark.config.ts)')
    .option('--schema', 'print a JSON Schema of the settings, for the .json form')
    .option('--json', 'print them as JSON')
    .option('--settings <file>', 'settings file (default: vine-spark.config.ts, .js, .mjs or .json)')
    .option('--port <n>', 'as for serve', parsePort)
    .option('--host <address>', 'as for serve')
    .option('--base <path>', 'as for serve', parseBase)
    .option('--forward <path=origin>', 'as for serve (repeatable)', parseForward)
    .addHelpText(
      'after',
      examples(
        ['settings', 'what is in force, and where each comes from'],
        ['settings --write', 'the same as a commented file; delete it to undo that'],
        ['settings --schema > settings.schema.json', 'for editors'],
      ),
    )
    .action(async (page: string | undefined, { write, schema, json, ...options }: SettingsOptions) => {
      if (schema) {
        const { settingsJsonSchema } = await import('../../settings/json-schema.js');
        return void process.stdout.write(`${JSON.stringify(settingsJsonSchema(), null, 2)}\n`);
      }
      const { settingsFile, settingsInForce } = await import('../../settings/sources.js');
      const { settings, inForce } = await settingsInForce(process.cwd(), { ...options, ...(page === undefined ? {} : { page }) });
      if (json) return void process.stdout.write(`${JSON.stringify(inForce, null, 2)}\n`);
      if (write !== undefined) {
        const file = resolve(settings.root, write === true ? 'vine-spark.config.ts' : write);
        const taken = existsSync(file) ? file : settings.file;
        if (taken !== undefined)
          throw new VineError({
            code: 'output-clash',
            message: `There is a settings file already: ${basename(taken)}.`,
            hint: 'Rename or delete it first; what it says is then written anew from the command line alone.',
          });
        writeFileSync(file, settingsFile(inForce));
        return void process.stdout.write(`  ${pc.bold(basename(file))} was written. Delete it to undo that.\n`);
      }
      process.stdout.write(settingRows(inForce, process.stdout.columns ?? 100));
    });
}

/** Rows of name, value and source; long values are cut. Those that somebody set come out, the others stand back. */
function settingRows(
  inForce: readonly { name: string; value: string; from: string; isDefault: boolean }[],
  width: number,
): string {
  const nameWidth = Math.max(...inForce.map(({ name }) => name.length)) + 2;
  const fromWidth = Math.max(...inForce.map(({ from }) => from.length)) + 2;
  const valueWidth = Math.max(16, width - nameWidth - fromWidth - 4);
  const rows = inForce.map(({ name, value, from, isDefault }) => {
    const text = shownText(value || 'none');
    const cut = text.length > valueWidth - 2 ? `${text.slice(0, valueWidth - 3)}…` : text;
    const line = `  ${name.padEnd(nameWidth)}${cut.padEnd(valueWidth)}${shownText(from)}`;
    return isDefault ? pc.dim(line) : line;
  });
  return `\n${rows.join('\n')}\n\n`;
}
