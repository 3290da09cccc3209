import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { parseEnv as parseWellFormed } from 'node:util';

/** The environment files of a mode, weakest first. */
export function envFileNames(mode: string): string[] {
  return ['.env', '.env.local', `.env.${mode}`, `.env.${mode}.local`];
}

const assignment = /^\s*(?:export\s+)?([\w.-]+)\s*=\s*(.*)$/;

/** The variables of an environment file. A line that is no assignment is none; Node.js alone would lose what follows it. */
function parseEnv(text: string): Record<string, string> {
  const lines = text.replace(/^\uFEFF/, '').split(/\r\n?|\n/);
  const kept: string[] = [];
  for (let at = 0; at < lines.length; at++) {
    const [, name, value = ''] = assignment.exec(lines[at]!) ?? [];
    if (name === undefined) continue;
    const quote = /^["'`]/.exec(value)?.[0];
    const isOpen = quote !== undefined && !value.slice(1).includes(quote);
    const end = isOpen ? lines.findIndex((line, index) => index > at && line.includes(quote)) : at;
    const last = end === -1 ? at : end;
    kept.push([`${name}=${value}`, ...lines.slice(at + 1, last + 1)].join('\n'));
    at = last;
  }
  return parseWellFormed(kept.join('\n')) as Record<string, string>;
}

/** What the environment files of a mode say, later ones first. Nothing in them is run, and nothing in them stands for another variable. */
export function envFileValues(root: string, mode: string): Record<string, string> {
  const found = envFileNames(mode)
    .map((name) => join(root, name))
    .filter((file) => existsSync(file));
  return Object.assign({}, ...found.map((file) => parseEnv(readFileSync(file, 'utf8')))) as Record<string, string>;
}

/**
 * The values of exposed variables. Those of the process itself come before those of files, and later files before
 * earlier ones; `$NAME` in a file stands for another variable. Nothing in a file is ever run.
 */
export function exposedVariables(
  root: string,
  mode: string,
  names: readonly string[],
  environment: Readonly<Record<string, string | undefined>>,
): Record<string, string> {
  const written = new Map<string, string>();
  for (const name of envFileNames(mode)) {
    const file = join(root, name);
    if (!existsSync(file)) continue;
    for (const [key, value] of Object.entries(parseEnv(readFileSync(file, 'utf8')))) {
      // At the end, since a value can only use what stands before it.
      written.delete(key);
      written.set(key, value ?? '');
    }
  }
  const known = new Map<string, string>();
  const lookUp = (name: string) => environment[name] ?? known.get(name);
  for (const [key, text] of written) known.set(key, expanded(text, lookUp));
  return Object.fromEntries(names.flatMap((name) => (lookUp(name) === undefined ? [] : [[name, lookUp(name)!]])));
}

/** Where an exposed variable comes from: `the environment`, or the file that wins; `undefined` where nothing has it. */
export function sourceOfVariable(
  root: string,
  mode: string,
  name: string,
  environment: Readonly<Record<string, string | undefined>>,
): string | undefined {
  if (environment[name] !== undefined) return 'the environment';
  return envFileNames(mode).findLast((file) => {
    const path = join(root, file);
    return existsSync(path) && parseEnv(readFileSync(path, 'utf8'))[name] !== undefined;
  });
}

/**
 * A value with `$NAME`, `${NAME}` and `${NAME:-default}` replaced; `\$` is a dollar sign, and so is one before anything else.
 */
function expanded(text: string, lookUp: (name: string) => string | undefined): string {
  return text.replace(
    /\\\$|\$(?:([A-Za-z_]\w*)|\{([A-Za-z_]\w*)(?::-([^}]*))?\})/g,
    (whole, plain: string | undefined, braced: string | undefined, instead = '') => {
      if (whole === '\\$') return '$';
      const value = lookUp(plain ?? braced!);
      return value === undefined || (value === '' && braced !== undefined) ? expanded(instead, lookUp) : value;
    },
  );
}
