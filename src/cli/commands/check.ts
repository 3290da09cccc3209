import { Command } from 'commander';
import { tryToConnect } from '../../forward/backend-states.js';
import { normalPath } from '../../forward/request-path.js';
import { type CompiledRule, compileRule, findRule, targetPath } from '../../forward/rule.js';
import { whoAnswers } from '../../server/who-answers.js';
import { type EffectiveSettings, effectiveSettings } from '../../settings/effective.js';
import { colours as pc } from '../report/colours.js';

interface CheckOptions {
  url: string;
  method: string;
  header?: [name: string, value: string][];
  settings?: string;
  forward?: { path: string; to: string }[];
}

/** `vine-spark check --url /api/x`. */
export function checkCommand(
  parseForward: (value: string, before?: { path: string; to: string }[]) => { path: string; to: string }[],
): Command {
  return new Command('check')
    .description('say who answers a path: the front end or which backend, and why')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .requiredOption('--url <path>', 'the path, as a browser asks for it')
    .option('--method <name>', 'method of the request', 'GET')
    .option('--header <name:value>', 'a field of the request (repeatable)', parseHeader)
    .option('--forward <path=origin>', 'a rule as for serve (repeatable)', parseForward)
    .option('--settings <file>', 'settings file')
    .action(async (page: string | undefined, options: CheckOptions) => {
      const { url, ...line } = options;
      const settings = await effectiveSettings(process.cwd(), { ...line, ...(page === undefined ? {} : { page }) });
      for (const row of await explain(settings, options)) process.stdout.write(`${row}\n`);
    });
}

function parseHeader(text: string, before: [string, string][] = []): [string, string][] {
  const colon = text.indexOf(':');
  return [...before, [text.slice(0, colon).trim().toLowerCase(), text.slice(colon + 1).trim()]];
}

/** Who answers, and every rule with why it is or isn't the one. */
async function explain(settings: EffectiveSettings, { url, method, header = [] }: CheckOptions): Promise<string[]> {
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
