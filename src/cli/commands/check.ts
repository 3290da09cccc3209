import { existsSync } from 'node:fs';
import { join } from 'node:path';
import { setImmediate } from 'node:timers/promises';
import { Command } from 'commander';
import type { Problem } from '../../core/problem/problem.js';
import { shownJson } from '../../core/text/shown-text.js';
import { noTrace } from '../../core/trace.js';
import { tryToConnect } from '../../forward/backend-states.js';
import { normalPath } from '../../forward/request-path.js';
import { type CompiledRule, compileRule, findRule, targetPath } from '../../forward/rule.js';
import { ProjectGraph } from '../../project/project-graph.js';
import { whoAnswers } from '../../server/who-answers.js';
import { type EffectiveSettings, effectiveSettings } from '../../settings/effective.js';
import { cacheFolderOf, projectOptions } from '../compose.js';
import { examples } from '../examples.js';
import { quietListener } from '../quiet-listener.js';
import { colours as pc } from '../report/colours.js';
import { problemText } from '../report/problem-text.js';

interface CheckOptions {
  url?: string;
  json?: boolean;
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
    .option('--json', 'print what was found as JSON')
    .option('--method <name>', 'method of the request', 'GET')
    .option('--header <name:value>', 'a field of the request (repeatable)', parseHeader)
    .option('--forward <path=origin>', 'a rule as for serve (repeatable)', parseForward)
    .option('--settings <file>', 'settings file')
    .addHelpText(
      'after',
      examples(
        ['check', 'whatever will go wrong'],
        ['check --json', 'the same for programs; exits with 1 where something is found'],
        ['check --url /api/departures', 'who answers a path, and why'],
      ),
    )
    .action(async (page: string | undefined, options: CheckOptions) => {
      const { url, json, ...line } = options;
      const settings = await effectiveSettings(process.cwd(), { ...line, ...(page === undefined ? {} : { page }) });
      if (url === undefined) process.exitCode = await checkAll(settings, json ?? false);
      else for (const row of await explain(settings, { ...options, url })) process.stdout.write(`${row}\n`);
    });
}

function parseHeader(text: string, before: [string, string][] = []): [string, string][] {
  const colon = text.indexOf(':');
  return [...before, [text.slice(0, colon).trim().toLowerCase(), text.slice(colon + 1).trim()]];
}

/** Looks for whatever will go wrong. Returns the exit code: 1 where something was found. */
async function checkAll(settings: EffectiveSettings, json: boolean): Promise<number> {
  const { directOrigins } = await import('../../project/direct-origins.js');
  const { checkPackages } = await import('../../check/packages.js');
  const { checkCase, checkPort, checkWatchLimit } = await import('../../check/surroundings.js');
  const options = projectOptions(settings, { cacheFolder: cacheFolderOf(settings.root), trace: noTrace });
  const warnings: Problem[] = [];
  // What a compiler of components finds doubtful goes wrong for nobody yet.
  const onWarning = (warning: Problem) => void (warning.code === 'component-doubtful' || warnings.push(warning));
  const project = new ProjectGraph(options, { ...quietListener, onWarning });
  project.readPages();
  for (const id of settings.embed.entries) project.pages.embed([id]);
  project.modules.setRoots(project.pages.modules());
  await project.readModules();
  await project.readLate();
  // Warnings are told once the graph stands.
  await setImmediate();
  const { host, port, exact } = settings.listen;
  const found: Problem[] = [
    ...project.problems,
    ...checkPackages(project),
    ...checkCase(project),
    ...directOrigins(project),
    ...(await checkPort(host, port, exact)),
    ...checkWatchLimit(),
    ...(await awayBackends(settings)),
    ...(await typeProblems(settings.root, project.installCommand)),
    ...warnings,
  ];
  await project.close();
  const once = [
    ...new Map(
      found.map((problem) => [JSON.stringify([problem.code, problem.message, problem.file, problem.position]), problem]),
    ).values(),
  ];
  const counted = (count: number, word: string) => `${count} ${word}${count === 1 ? '' : 's'}`;
  const what = `${counted(project.modules.size, 'module')} and ${counted(settings.forward.length, 'rule')}`;
  if (json) process.stdout.write(`${shownJson({ findings: once, modules: project.modules.size })}\n`);
  else {
    for (const problem of once) process.stdout.write(`${problemText(problem, undefined)}\n\n`);
    process.stdout.write(once.length === 0 ? `${pc.green('nothing found')} in ${what}\n` : `${once.length} found in ${what}\n`);
  }
  return once.length === 0 ? 0 : 1;
}

/** Backends that don't answer, but for those that a program alongside is to be. */
async function awayBackends({ forward, run }: EffectiveSettings): Promise<Problem[]> {
  if (run.length > 0) return [];
  const found = await Promise.all(forward.map(async ({ to, paths }) => ({ to, paths, failure: await tryToConnect(to) })));
  return found.flatMap(({ to, paths, failure }): Problem[] => {
    if (failure === undefined) return [];
    const message = `Nothing answers at ${to.label} (${failure}), where the rule for ${paths.join(', ')} leads.`;
    return [
      {
        code: 'backend-away',
        severity: 'warning',
        message,
        hint: 'Start the backend, let it run alongside (--run), or correct the address.',
      },
    ];
  });
}

/** What the project's own compiler says, where there is one. */
async function typeProblems(root: string, installCommand: string): Promise<Problem[]> {
  if (!existsSync(join(root, 'tsconfig.json'))) return [];
  const { checkTypes, findCompiler } = await import('../../types/type-checker.js');
  const compiler = findCompiler(root, installCommand);
  // A project may leave that to an editor.
  return 'program' in compiler ? checkTypes(root, compiler) : [];
}

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
