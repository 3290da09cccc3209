import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { lazily } from '../core/lazily.js';

const dotenv = lazily<typeof import('dotenv')>('dotenv');
const dotenvExpand = lazily<typeof import('dotenv-expand')>('dotenv-expand');

/** The environment files of a mode, weakest first. */
export function envFileNames(mode: string): string[] {
  return ['.env', '.env.local', `.env.${mode}`, `.env.${mode}.local`];
}

/**
 * The values of exposed variables. Those of the process itself come before those of files, and later files before
 * earlier ones; `$NAME` in a file stands for another variable.
 */
export function exposedVariables(
  root: string,
  mode: string,
  names: readonly string[],
  environment: Readonly<Record<string, string | undefined>>,
): Record<string, string> {
  const fromFiles: Record<string, string> = {};
  for (const name of envFileNames(mode)) {
    const file = join(root, name);
    for (const [key, value] of existsSync(file) ? Object.entries(dotenv().parse(readFileSync(file, 'utf8'))) : []) {
      // At the end, since a value can only use what stands before it.
      delete fromFiles[key];
      fromFiles[key] = value;
    }
  }
  const known = Object.fromEntries(
    Object.entries(environment).filter((entry): entry is [string, string] => entry[1] !== undefined),
  );
  const { parsed = {} } =
    Object.keys(fromFiles).length === 0 ? {} : dotenvExpand().expand({ parsed: fromFiles, processEnv: { ...known } });
  return Object.fromEntries(
    names.flatMap((name) => ((known[name] ?? parsed[name]) === undefined ? [] : [[name, (known[name] ?? parsed[name])!]])),
  );
}
