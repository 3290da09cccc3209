import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type Semver from 'semver';
import { lazily } from '../core/lazily.js';
import { parseJson } from '../core/text/json.js';

const semver = lazily<typeof Semver>('semver');

/**
 * Says that a project was made for another version than the one that runs, such as an older one that is installed for the whole system;
 * `undefined` where it fits, or the project doesn't say.
 */
export function unfitOwnVersion(root: string): string | undefined {
  const wanted = wantedVersion(root);
  if (wanted === undefined || !semver().validRange(wanted)) return undefined;
  const { version } = JSON.parse(readFileSync(new URL('../../package.json', import.meta.url), 'utf8')) as { version: string };
  if (semver().satisfies(version, wanted, { includePrerelease: true })) return undefined;
  return `package.json wants vine-spark ${wanted}, and this is ${version}.`;
}

function wantedVersion(root: string): string | undefined {
  try {
    const { dependencies, devDependencies } = parseJson(readFileSync(join(root, 'package.json'), 'utf8')) as Record<
      string,
      Record<string, string> | undefined
    >;
    return devDependencies?.['vine-spark'] ?? dependencies?.['vine-spark'];
  } catch {
    return undefined; // there is none, or somebody else tells what is wrong with it
  }
}
