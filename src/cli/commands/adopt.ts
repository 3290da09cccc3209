import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { unreadableDescription } from '../../check/versions.js';
import { VineError } from '../../core/problem/problem.js';
import { parseJson } from '../../core/text/json.js';
import { shownText } from '../../core/text/shown-text.js';
import { proposeAdoption } from '../../create/adoption.js';
import { askYes } from '../ask.js';
import { colours as pc } from '../report/colours.js';

/** What was written, so that it can be taken back: texts before (`null` where there was no file) and after. */
type Written = Record<string, { before: string | null; after: string }>;

const memoryOf = (root: string) => join(root, 'node_modules/.cache/vine-spark/adopted.json');

/** Proposes what a project needs, and writes it after a yes. */
export async function adopt(root: string, { yes }: { version: string; yes: boolean }): Promise<void> {
  const file = join(root, 'package.json');
  if (!existsSync(file))
    throw new VineError({
      code: 'file-missing',
      message: `There is no package.json in ${root}.`,
      hint: 'For a fresh project: vine-spark new <folder>.',
    });
  const problem = unreadableDescription(root);
  if (problem) throw new VineError(problem);
  const { settings, scripts, findings } = proposeAdoption(root);
  for (const finding of findings) process.stdout.write(`  ${pc.dim('·')} ${shownText(finding)}\n`);
  const before = readFileSync(file, 'utf8');
  const written: Written = {};
  if (Object.keys(scripts).length > 0) written['package.json'] = { before, after: withScripts(before, scripts) };
  if (settings) written[settings.file] = { before: null, after: settings.text };
  if (Object.keys(written).length === 0) {
    process.stdout.write(`\n  ${pc.green('Nothing needs to be written.')}\n`);
    return;
  }
  if (settings) process.stdout.write(`\n  ${pc.bold(settings.file)}\n${settings.text.replace(/^/gm, '    ')}`);
  else process.stdout.write(`\n  ${pc.green('No settings are needed.')}\n`);
  for (const [name, command] of Object.entries(scripts))
    process.stdout.write(`\n  ${pc.bold('package.json')}  ${pc.dim('scripts')}  "${shownText(name)}": "${shownText(command)}"`);
  process.stdout.write('\n\n');
  if (!yes) {
    if (!process.stdin.isTTY)
      throw new VineError({
        code: 'unknown-option',
        message: 'Nothing was written.',
        hint: 'To write it without a question: --yes',
      });
    if (!(await askYes('Write that?', true))) return;
  }
  for (const [path, { after }] of Object.entries(written)) writeFileSync(join(root, path), after);
  mkdirSync(dirname(memoryOf(root)), { recursive: true });
  writeFileSync(memoryOf(root), JSON.stringify(written));
  process.stdout.write(`  ${pc.green('written')}; to take it back: ${pc.bold('vine-spark new . --adopt --undo')}\n`);
}

/** Takes back what `adopt` wrote, where nobody has changed it since. */
export function undoAdoption(root: string): void {
  const memory = memoryOf(root);
  if (!existsSync(memory))
    throw new VineError({
      code: 'file-missing',
      message: 'Nothing was written here that could be taken back.',
      hint: 'What --adopt wrote is remembered in node_modules/.cache/vine-spark.',
    });
  const written = JSON.parse(readFileSync(memory, 'utf8')) as Written;
  const changed = Object.entries(written).filter(
    ([path, { after }]) => !existsSync(join(root, path)) || readFileSync(join(root, path), 'utf8') !== after,
  );
  if (changed.length > 0)
    throw new VineError({
      code: 'unknown-option',
      message: `${changed.map(([path]) => path).join(' and ')} changed since, so nothing is taken back.`,
      hint: 'Take the lines away by hand.',
    });
  for (const [path, { before }] of Object.entries(written)) {
    if (before === null) rmSync(join(root, path));
    else writeFileSync(join(root, path), before);
    process.stdout.write(`  ${shownText(path)}  ${pc.dim(before === null ? 'taken away' : 'as it was')}\n`);
  }
  rmSync(memory);
}

/** package.json with more scripts, in the form that it has. */
function withScripts(text: string, scripts: Record<string, string>): string {
  const description = parseJson(text) as { scripts?: Record<string, string> };
  const indent = /^[ \t]+/m.exec(text)?.[0] ?? '  ';
  const end = text.endsWith('\n') ? '\n' : '';
  return `${JSON.stringify({ ...description, scripts: { ...description.scripts, ...scripts } }, null, indent)}${end}`;
}
