import type { Problem } from '../../core/problem/problem.js';

/** The packages that problems say are missing. */
export function missingPackages(problems: readonly Problem[]): string[] {
  const named = problems.flatMap(({ code, message, hint }) => {
    if (code === 'package-missing') return /^The package '([^']+)'/.exec(message)?.[1] ?? [];
    return code === 'compiler-missing' ? (/^Install it: \S+ \S+ (\S+?)\.?$/.exec(hint ?? '')?.[1] ?? []) : [];
  });
  return [...new Set(named)];
}
