import { relative } from 'node:path';
import type { Problem } from '../problem.js';
import type { Failure } from './resolver.js';

/** Says in words why a specifier leads nowhere, and what to do. */
export function explainFailure(failure: Failure, specifier: string, root: string): Pick<Problem, 'code' | 'message' | 'hint'> {
  switch (failure.reason) {
    case 'file-missing': {
      const tried = relative(root, failure.tried);
      const hint = failure.suggestion
        ? `Did you mean '${failure.suggestion}'?`
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
        hint: 'Look at "exports", "module" and "main" in its package.json: the path must be listed there and its file must exist.',
      };
    case 'builtin':
      return {
        code: 'builtin-in-browser',
        message: `'${failure.name}' is a part of Node.js and does not exist in browsers.`,
        hint: 'Move the code that needs it to the backend, or install a package that does the same in browsers.',
      };
    case 'internal-missing':
      return {
        code: 'import-unresolved',
        message: `'${failure.specifier}' is not in "imports" of the package.json above.`,
        hint: 'Names that start with # are looked up in "imports" of the nearest package.json.',
      };
  }
}
