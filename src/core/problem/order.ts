import type { ProblemCode } from './codes.js';
import type { Problem } from './problem.js';

/** Codes of problems, those first whose solution may solve others. */
const mostUsefulFirst: ProblemCode[] = [
  'settings-unreadable',
  'syntax-error',
  'adapter-failed',
  'file-missing',
  'package-missing',
  'import-unresolved',
  'package-entry-missing',
  'builtin-in-browser',
];

/** Compares problems so that the one to look at first comes first. */
export function byUse(a: Problem, b: Problem): number {
  return rank(a) - rank(b) || (a.file ?? '').localeCompare(b.file ?? '') || (a.position?.line ?? 0) - (b.position?.line ?? 0);
}

function rank({ code, file }: Problem): number {
  const place = mostUsefulFirst.indexOf(code);
  // What is wrong in a package is seldom the user's to solve.
  return (place === -1 ? mostUsefulFirst.length : place) + (file?.includes('node_modules/') ? 100 : 0);
}
