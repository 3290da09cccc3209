import { parseSync } from 'oxc-parser';
import { type Problem, problemAt } from '../problem/problem.js';

/** What keeps JavaScript that isn't translated from being parsed; it would take everything else in its piece with it. */
export function checkSyntax(id: string, text: string, isModule: boolean): Problem | undefined {
  const { errors } = parseSync(isModule ? 'module.js' : 'module.cjs', text, {
    lang: 'js',
    sourceType: isModule ? 'module' : 'commonjs',
  });
  const error = errors.find(({ severity }) => severity === 'Error');
  if (!error) return undefined;
  const [label] = error.labels;
  const start = label?.start ?? 0;
  const message = /[.!?]$/.test(error.message) ? error.message : `${error.message}.`;
  return problemAt(
    { file: id, text, start, end: label?.end ?? start + 1 },
    { code: 'syntax-error', message, ...(error.helpMessage ? { hint: error.helpMessage } : {}) },
  );
}
