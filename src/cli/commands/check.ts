import { Command } from 'commander';
import { noTrace } from '../../core/trace.js';
import { tryToConnect } from '../../forward/backend-states.js';
import { normalPath } from '../../forward/request-path.js';
import { type CompiledRule, compileRule, findRule, targetPath } from '../../forward/rule.js';
import { ProjectGraph, type ReadingListener } from '../../project/project-graph.js';
import { whoAnswers } from '../../server/who-answers.js';
import { type EffectiveSettings, effectiveSettings } from '../../settings/effective.js';
import { cacheFolderOf, projectOptions } from '../compose.js';
import { colours as pc } from '../report/colours.js';
import { problemText } from '../report/problem-text.js';

interface CheckOptions {
  url?: string;
  method: string;
  header?: [name: string, value: string][];
  settings?: string;
  forward?: { path: string; to: string }[];
}

/** `vine-spark check`, and `vine-spark check --url /api/x`. */
export function checkCommand(
  parseForward: (value: string, before?: { path: string; to: string }[]) => { path: string; to: string }[],
): Command {
  return new Command('check')
    .description('look for what will go wrong; or say who answers a path: the front end or which backend, and why')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .option('--url <path>', 'say who answers this path, as a browser asks for it')
    .option('--method <name>', 'method of the request', 'GET')
    .option('--header <name:value>', 'a field of the request (repeatable)', parseHeader)
    .option('--forward <path=origin>', 'a rule as for serve (repeatable)', parseForward)
    .option('--settings <file>', 'settings file')
    .action(async (page: string | undefined, options: CheckOptions) => {
      const { url, ...line } = options;
      const settings = await effectiveSettings(process.cwd(), { ...line, ...(page === undefined ? {} : { page }) });
      if (url === undefined) process.exitCode = await checkAll(settings);
      else for (const row of await explain(settings, { ...options, url })) process.stdout.write(`${row}\n`);
    });
}

function parseHeader(text: string, before: [string, string][] = []): [string, string][] {
  const colon = text.indexOf(':');
  return [...before, [text.slice(0, colon).trim().toLowerCase(), text.slice(colon + 1).trim()]];
}

/** Looks for problems, for origins that stand in sources, and for backends that are away. Returns the exit code. */
async function checkAll(settings: EffectiveSettings): Promise<number> {
  const { directOrigins } = await import('../../project/direct-origins.js');
  const options = projectOptions(settings, { cacheFolder: cacheFolderOf(settings.root), trace: noTrace });
  const project = new ProjectGraph(options, quietListener);
  project.readPages();
  await project.readModules();
  await project.readLate();
  const found = [...project.problems, ...directOrigins(project)];
  await project.close();
  for (const problem of found) process.stdout.write(`${problemText(problem, undefined)}\n\n`);
  const away = await Promise.all(settings.forward.map(async ({ to }) => ({ to, failure: await tryToConnect(to) })));
  const gone = away.filter(({ failure }) => failure !== undefined);
  for (const { to, failure } of gone) process.stdout.write(`${pc.yellow(to.label)}  does not answer (${failure})\n`);
  const count = found.length + gone.length;
  const what = `${project.modules.size} modules and ${settings.forward.length} rules`;
  process.stdout.write(count === 0 ? `${pc.green('nothing found')} in ${what}\n` : `${count} found in ${what}\n`);
  return count === 0 ? 0 : 1;
}

const quietListener: ReadingListener = {
  changes: { added() {}, dropped() {} },
  onLoaded() {},
  onWarning() {},
  onNote() {},
  turn: () => undefined,
};

/** Who answers, and every rule with why it is or isn't the one. */
async function explain(
  settings: EffectiveSettings,
  { url, method, header = [] }: CheckOptions & { url: string },
): Promise<string[]> {
  const path = normalPath(url);
  const query = { path, method: method.toUpperCase(), headers: Object.fromEntries(header) };
  const rules = settings.forward.map(compileRule);
  const first = findRule(rules, query, 'first');
  const missing = findRule(rules, query, 'missing');
  const own = first ? undefined : whoAnswers(settings, path, query.method);
  const winner = first ?? (own === undefined ? missing : undefined);
  const failure = winner && (await tryToConnect(winner.to));
  const rows = [`${pc.bold(`${query.method} ${path}`)}  ${winner ? toBackend(winner, url) : pc.green(own ?? 'nobody: 404')}`];
  for (const rule of rules) {
    const specificity = rule.specificity(query);
    const why =
      rule === winner
        ? failure === undefined
          ? pc.green('answers')
          : pc.red(`is the one for it, but does not answer (${failure})`)
        : specificity === undefined
          ? `is not for it: ${whyNot(rule, query)}`
          : rule.when === 'missing' && winner !== rule
            ? 'comes last, and somebody before it answers'
            : 'is for it too, but less specific';
    rows.push(`  ${pc.dim('rule')} ${rule.label} → ${rule.to.label}${rule.when === 'missing' ? ' (when missing)' : ''}  ${why}`);
  }
  return rows;
}

function toBackend(rule: CompiledRule, url: string): string {
  return `${pc.green(`the backend ${rule.to.label}`)}, asked for ${targetPath(rule, url)}, by the rule for ${rule.label}`;
}

function whyNot(rule: CompiledRule, query: { path: string; method: string }): string {
  if (rule.methods.length > 0 && !rule.methods.includes(query.method)) return `its methods are ${rule.methods.join(', ')}`;
  const isByFields = rule.specificity({ ...query, headers: rule.headers }) !== undefined;
  if (isByFields)
    return `it wants ${Object.entries(rule.headers)
      .map(([name, text]) => `${name}: ${text}`)
      .join(', ')}`;
  return 'another path';
}
