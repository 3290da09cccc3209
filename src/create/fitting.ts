import { execFile } from 'node:child_process';
import semver from 'semver';
import { isKnown, versionOf } from './versions.js';

interface Answer {
  version?: string;
  peerDependencies?: Record<string, string>;
}

/** Longer, and the machine counts as without a network. */
const patienceMs = 8000;

/**
 * Versions of packages that fit together: the newest of each, and of a framework that they want beside them one that all of them take.
 * Of what the registry doesn't tell, `latest` is taken by whoever installs.
 */
export async function fittingVersions(packages: readonly string[], isExact: boolean): Promise<Record<string, string>> {
  const answers = await Promise.all(
    packages.filter((name) => !isKnown(name)).map(async (name) => [name, await ask(name)] as const),
  );
  const versions: Record<string, string> = {};
  const wanted = new Map<string, string[]>();
  for (const [name, { version, peerDependencies = {} }] of answers) {
    if (version !== undefined) versions[name] = isExact ? version : `^${version}`;
    for (const [peer, range] of Object.entries(peerDependencies)) wanted.set(peer, [...(wanted.get(peer) ?? []), range]);
  }
  for (const [peer, ranges] of wanted) {
    if (!isKnown(peer)) continue;
    const own = semver.minVersion(versionOf(peer, true))!;
    const unfit = ranges.filter((range) => semver.validRange(range) && !semver.satisfies(own, range));
    // The newest that the strictest of them takes.
    const [range] = unfit.sort((a, b) => semver.compare(semver.minVersion(a)!, semver.minVersion(b)!));
    if (range !== undefined) versions[peer] = range.split('||').at(-1)!.trim();
  }
  // Both halves of a framework are of one version.
  if (versions.react && !versions['react-dom']) versions['react-dom'] = versions.react;
  if (versions.react)
    for (const types of ['@types/react', '@types/react-dom']) versions[types] = `^${semver.minVersion(versions.react)!.major}`;
  return versions;
}

function ask(name: string): Promise<Answer> {
  return new Promise((done) => {
    const args = ['view', `${name}@latest`, 'version', 'peerDependencies', '--json'];
    execFile('npm', args, { timeout: patienceMs, shell: process.platform === 'win32' }, (error, stdout) => {
      try {
        const answer = error ? {} : (JSON.parse(stdout) as Answer | string);
        // Where there is only one of the fields, it's given alone.
        done(typeof answer === 'string' ? { version: answer } : answer);
      } catch {
        done({});
      }
    });
  });
}
