import { existsSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import { pathToFileURL } from 'node:url';
import type * as Sass from 'sass';
import { parseJson } from '../../core/text/json.js';

/** The first version with everything that is used here. */
const oldest = [1, 71];
/** The copy that comes with Vine Spark, put there when it's built. */
const own = new URL('../../vendor/sass/sass.cjs', import.meta.url);

/** The Sass that a project's sheets are compiled with: its own where it has one that is new enough, else ours. */
export async function loadSass(root: string): Promise<typeof Sass> {
  const file = ownSassOf(root)?.file;
  // Sources that run unbuilt have no copy beside them.
  const ours = existsSync(own) ? own.href : 'sass';
  const loaded = (await import(file === undefined ? ours : pathToFileURL(file).href)) as typeof Sass & {
    default?: typeof Sass;
  };
  return loaded.compileString === undefined ? loaded.default! : loaded;
}

/** The version of the project's own Sass; empty where ours is used. What was kept is another matter with another one. */
export function sassVersionOf(root: string): string {
  return ownSassOf(root)?.version ?? '';
}

function ownSassOf(root: string): { file: string; version: string } | undefined {
  try {
    const require = createRequire(join(root, 'package.json'));
    const file = require.resolve('sass');
    const { version } = parseJson(readFileSync(join(dirname(file), 'package.json'), 'utf8')) as { version: string };
    const [major = 0, minor = 0] = version.split('.').map(Number);
    return major > oldest[0]! || minor >= oldest[1]! ? { file, version } : undefined;
  } catch {
    return undefined; // it has none
  }
}
