import { existsSync, readFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type Semver from 'semver';
import { lazily } from '../core/lazily.js';
import { type Problem, problemAt } from '../core/problem/problem.js';
import { installAll } from '../core/resolve/explain-failure.js';
import { parseJson } from '../core/text/json.js';
import { unfitOwnVersion } from '../project/own-version.js';

const semver = lazily<typeof Semver>('semver');

/** What of package.json counts here. */
export interface Description {
  name?: string;
  version?: string;
  engines?: Record<string, string>;
  dependencies?: Record<string, string>;
  devDependencies?: Record<string, string>;
  optionalDependencies?: Record<string, string>;
  peerDependencies?: Record<string, string>;
  peerDependenciesMeta?: Record<string, { optional?: boolean }>;
  scripts?: Record<string, string>;
  keywords?: string[];
}

/** Packages that work on what others are written in, so that another major version of those most likely breaks them. */
const tools = /(?:^|[-/])(?:plugin|preprocess|preprocessor|compiler|compiler-sfc|preset|transform|loader)(?:[-/]|$)|^postcss-/;
/** The same, by what a package says of itself. */
const toolWords = /^(?:[\w-]+-)?(?:plugin|preset|preprocessor|compiler)$/;
/** Halves of one framework, which have to be of one version. */
const halves = new Set(['react-dom']);

/**
 * What will fail for its version, told before it does: an install that isn't finished, or a plugin or compiler for another major
 * version than the one that is there. As warnings, since what isn't used does no harm.
 */
export function versionWarnings(root: string, installCommand: string): Problem[] {
  const own = readDescription(join(root, 'package.json'));
  if (!own) {
    const problem = unreadableDescription(root);
    return problem ? [{ ...problem, severity: 'warning' }] : [];
  }
  const missing = Object.keys(own.dependencies ?? {}).filter((name) => !installedAt(root, name));
  const first = missing.slice(0, 3).join(', ');
  const message = `${first}${missing.length > 3 ? ` and ${missing.length - 3} more` : ''} ${missing.length === 1 ? 'stands' : 'stand'} in package.json and ${missing.length === 1 ? 'is' : 'are'} not installed.`;
  const unfinished =
    missing.length > 0 ? [finding('package-missing', message, `Run ${installAll(installCommand)}.`, 'package.json')] : [];
  const unfit = unfitPeers(root, own, installCommand, ({ name = '', keywords }, { wanted, there }) => {
    const words = Array.isArray(keywords) ? keywords : [];
    const isTool = halves.has(name) || tools.test(name) || words.some((word) => toolWords.test(String(word)));
    // What others write down as their version may be none.
    return isTool && semver().valid(there) !== null && !semver().intersects(wanted, `^${semver().major(there)}`);
  });
  const running = unfitOwnVersion(root);
  const hint = `Run ${installAll(installCommand)}, and start it by npx vine-spark or a script of package.json.`;
  const older = running === undefined ? [] : [finding('version-unfit', running, hint, 'package.json')];
  return [...older, ...unfinished, ...unfit].map((problem) => ({ ...problem, severity: 'warning' }));
}

/** What is wrong with a package.json that is no JSON. */
export function unreadableDescription(root: string): Problem | undefined {
  const file = join(root, 'package.json');
  if (!existsSync(file)) return undefined;
  const text = readFileSync(file, 'utf8');
  try {
    parseJson(text);
    return undefined;
  } catch (error) {
    const { message } = error as Error;
    const start = Number(/at position (\d+)/.exec(message)?.[1] ?? (/end of JSON/.test(message) ? text.length : 0));
    return problemAt(
      { file: 'package.json', text, start },
      {
        code: 'syntax-error',
        message: `package.json is no JSON: ${message.replace(/ (?:in JSON )?at position .*$/, '')}.`,
        hint: 'As long as it is so, nothing of it counts.',
      },
    );
  }
}

/** Whether Node.js is the one that is wanted. */
export function unfitNode({ engines, name }: Description, file: string, version: string): Problem[] {
  const wanted = engines?.node;
  if (wanted === undefined || !semver().validRange(wanted) || semver().satisfies(version, wanted)) return [];
  const message = `${name ?? 'The project'} wants Node.js ${wanted}, and this is ${version}.`;
  return [finding('version-unfit', message, `Install a Node.js that fits ${wanted}.`, file)];
}

/** What package.json asks for, against what is installed. */
export function unfitInstalls(root: string, own: Description, installCommand: string): Problem[] {
  return Object.entries({ ...own.devDependencies, ...own.dependencies }).flatMap(([name, wanted]) => {
    const installed = installedAt(root, name);
    if (!installed) {
      const message = `${name} stands in package.json and is not installed.`;
      return [finding('package-missing', message, `Run ${installAll(installCommand)}.`, 'package.json')];
    }
    if (
      !semver().validRange(wanted) ||
      !installed.version ||
      semver().satisfies(installed.version, wanted, { includePrerelease: true })
    )
      return unfitNode(installed, `node_modules/${name}/package.json`, process.versions.node);
    const message = `package.json wants ${name} ${wanted}, and ${installed.version} is installed.`;
    return [finding('version-unfit', message, `Run ${installAll(installCommand)}.`, 'package.json')];
  });
}

/** What the project's own packages want of each other; `counts` leaves out what doesn't matter. */
export function unfitPeers(
  root: string,
  own: Description,
  installCommand: string,
  counts?: (who: Description, peer: { wanted: string; there: string }) => boolean,
): Problem[] {
  return Object.keys({ ...own.devDependencies, ...own.dependencies }).flatMap((name) => {
    const who = installedAt(root, name);
    const { peerDependencies, peerDependenciesMeta } = who ?? {};
    return Object.entries(peerDependencies ?? {}).flatMap(([peer, wanted]) => {
      const there = installedAt(root, peer);
      if (!there?.version) {
        if (counts || peerDependenciesMeta?.[peer]?.optional) return [];
        const message = `${name} wants ${peer} ${wanted} beside it, and there is none.`;
        return [finding('version-unfit', message, `${installCommand} ${peer}`, 'package.json')];
      }
      if (!semver().validRange(wanted) || semver().satisfies(there.version, wanted, { includePrerelease: true })) return [];
      if (counts && !counts({ ...who, name }, { wanted, there: there.version })) return [];
      const message = `${name} wants ${peer} ${wanted} beside it, and ${there.version} is installed.`;
      return [
        finding(
          'version-unfit',
          message,
          `Take versions that fit together: ${installCommand} ${peer}@"${wanted}", or another ${name}.`,
          'package.json',
        ),
      ];
    });
  });
}

/** The description of the package that a folder's modules get under a name. */
function installedAt(root: string, name: string): Description | undefined {
  for (let at = root; ; at = dirname(at)) {
    const found = readDescription(join(at, 'node_modules', name, 'package.json'));
    if (found || dirname(at) === at) return found;
  }
}

/** A package.json; `undefined` where there is none that can be read. */
export function readDescription(file: string): Description | undefined {
  try {
    return parseJson(readFileSync(file, 'utf8')) as Description;
  } catch {
    return undefined; // it isn't there, or somebody else tells what is wrong with it
  }
}

export function finding(code: Problem['code'], message: string, hint: string, file: string): Problem {
  return { code, severity: 'error', message, hint, file };
}
