import { basename, dirname, join, relative } from 'node:path';
import { nearMiss } from '../problem/near-miss.js';
import type { Problem } from '../problem/problem.js';
import type { Failure } from './resolution.js';

const lockFiles: [file: string, command: string][] = [
  ['pnpm-lock.yaml', 'pnpm add'],
  ['yarn.lock', 'yarn add'],
  ['package-lock.json', 'npm install'],
];

/** The command that adds a package to a project, by the lock file that lies beside it or above. */
export function installCommandFor(root: string, hasFile: (path: string) => boolean): string {
  for (let at = root; ; at = dirname(at)) {
    for (const [file, command] of lockFiles) if (hasFile(join(at, file))) return command;
    if (dirname(at) === at) return 'npm install';
  }
}

/** The command that installs what package.json lists, from the one that adds a package. */
export function installAll(installCommand: string): string {
  return installCommand.replace(/ (?:add|install)\b.*$/, ' install');
}

/** What to do where packages are missing since they lie in archives that a file lists; `undefined` where they don't. */
export function archivesHint(root: string, hasFile: (path: string) => boolean): string | undefined {
  for (let at = root; ; at = dirname(at)) {
    if (hasFile(join(at, '.pnp.cjs')))
      return 'Packages in archives, which .pnp.cjs lists, are not read: write nodeLinker: node-modules to .yarnrc.yml, and run yarn install.';
    if (dirname(at) === at) return undefined;
  }
}

/** Puts the command of the project's package manager in the place of npm's, in what somebody is told to do. */
export function withInstallCommand(hint: string, installCommand: () => string): string {
  return hint.replace(/\bnpm install(?= [\w@-])/g, installCommand);
}

/** Says in words why a specifier leads nowhere, and what to do: with npm's command where a package has to be installed. */
export function explainFailure(failure: Failure, specifier: string, root: string): Pick<Problem, 'code' | 'message' | 'hint'> {
  switch (failure.reason) {
    case 'file-missing': {
      const tried = relative(root, failure.tried);
      if (failure.isCase && failure.similar === basename(tried))
        return {
          code: 'import-unresolved',
          message: `'${specifier}' is a link that leads nowhere.`,
          hint: 'Let it lead to a file, or take it away.',
        };
      if (failure.isCase) {
        const message = `There is no file for '${specifier}': the one there is called ${failure.similar}.`;
        return {
          code: 'import-unresolved',
          message,
          hint: 'Write it with the same upper and lower case; not every system tells them apart, but this one and most servers do.',
        };
      }
      const hint = failure.similar
        ? `Did you mean ${join(dirname(tried), failure.similar)}?`
        : `Looked for ${tried}, also with the extensions of scripts and styles, and for an index file in it.`;
      return { code: 'import-unresolved', message: `There is no file for '${specifier}'.`, hint };
    }
    case 'package-missing':
      return {
        code: 'package-missing',
        message: `The package '${failure.packageName}' is not installed.`,
        hint: `Install it with: npm install ${failure.packageName}. A path of your own needs ./ in front.`,
      };
    case 'entry-missing':
      return {
        code: 'package-entry-missing',
        message: failure.subpath
          ? `The package '${failure.packageName}' does not offer './${failure.subpath}'.`
          : `The package '${failure.packageName}' has no file to import.`,
        hint: entryHint(failure),
      };
    case 'builtin':
      return {
        code: 'builtin-in-browser',
        message: `'${failure.name}' is a part of Node.js and does not exist in browsers.`,
        hint: 'Move the code that needs it to the backend, or install a package that does the same in browsers.',
      };
    case 'refused':
      return explainRefusal(failure, specifier);
    case 'internal-missing':
      return {
        code: 'import-unresolved',
        message: `'${failure.specifier}' is not in "imports" of the package.json above.`,
        hint: 'Names that start with # are looked up in "imports" of the nearest package.json.',
      };
  }
}

function entryHint({ subpath, offers, isListed }: Extract<Failure, { reason: 'entry-missing' }>): string {
  if (isListed)
    return 'Its package.json lists the path, but the file behind it is not there: install the package anew, or build it.';
  const wanted = subpath ? `./${subpath}` : '.';
  const guess = offers && nearMiss(wanted, offers);
  if (offers && offers.length > 0)
    return `${guess ? `Did you mean '${guess}'? ` : ''}It offers ${offers.slice(0, 8).join(', ')}${offers.length > 8 ? ` and ${offers.length - 8} more` : ''}.`;
  return 'Look at "exports", "module" and "main" in its package.json: the path must be listed there and its file must exist.';
}

/** Says why a file that is there is not read. */
export function explainRefusal(
  { why, file }: Pick<Extract<Failure, { reason: 'refused' }>, 'why' | 'file'>,
  specifier: string,
): Pick<Problem, 'code' | 'message' | 'hint'> {
  if (why === 'hidden')
    return {
      code: 'file-hidden',
      message: `'${specifier}' leads to ${basename(file)}, and files whose names or folders begin with a dot are never sent to a browser.`,
      hint: 'Put what the page needs in a file of its own; values of .env come in with the setting expose.',
    };
  return {
    code: 'file-outside',
    message: `'${specifier}' leads out of the project, to ${file}.`,
    hint: 'Only files of the project, of its workspace and of their packages are read. A linked package must be listed in package.json under its own name.',
  };
}
