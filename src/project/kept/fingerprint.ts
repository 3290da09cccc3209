import { existsSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';

/** What makes something of what users write: another version may make something else. */
const compilers = ['oxc-transform', 'oxc-minify', 'oxc-parser', 'lightningcss', 'postcss'];

let known: string | undefined;

/** Changes with our own version and build, and with the compilers'. The same wherever we are installed. */
export function ownFingerprint(): string {
  known ??= readFingerprint();
  return known;
}

function readFingerprint(): string {
  const { resolve } = createRequire(import.meta.url);
  const here = (path: string) => new URL(path, import.meta.url);
  const own = versionOf(readFileSync(here('../../../package.json'), 'utf8'));
  const build = here('../../fingerprint.txt');
  // Where the sources run as they are, there is none.
  const ofBuild = existsSync(build) ? readFileSync(build, 'utf8') : '';
  return [own, ofBuild, ...compilers.map((name) => versionOfPackage(name, resolve))].join(' ');
}

function versionOfPackage(name: string, resolve: (name: string) => string): string {
  try {
    const file = resolve(name);
    const folder = file.slice(0, file.lastIndexOf(`/${name}/`) + name.length + 1);
    return versionOf(readFileSync(`${folder}/package.json`, 'utf8'));
  } catch {
    return ''; // whoever needs it says that it isn't there
  }
}

function versionOf(packageJson: string): string {
  return (JSON.parse(packageJson) as { version: string }).version;
}
