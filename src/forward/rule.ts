import picomatch from 'picomatch';

/** A rule as the settings give it, with everything filled in. */
export interface ForwardRule {
  /** Path prefixes, or globs where they hold a `*`. */
  paths: readonly string[];
  /** Origin of the backend, e.g. `http://127.0.0.1:8464`. */
  to: URL;
  /** `first`: before the front end is asked. `missing`: only what the front end doesn't have. */
  when: 'first' | 'missing';
}

/** A rule that can be asked. */
export interface CompiledRule extends ForwardRule {
  /** Whether the rule is for this path (without query). */
  matches(path: string): boolean;
  /** The first path as the user wrote it, for messages. */
  label: string;
}

/** Compiles rules. The order stays; `findRule` picks the most specific. */
export function compileRule(rule: ForwardRule): CompiledRule {
  const matchers = rule.paths.map(pathMatcher);
  return { ...rule, matches: (path) => matchers.some((matches) => matches(path)), label: rule.paths.join(', ') };
}

/** The most specific rule for a path: the one with the longest matching path before its first `*`. */
export function findRule(rules: readonly CompiledRule[], path: string, when: ForwardRule['when']): CompiledRule | undefined {
  let best: CompiledRule | undefined;
  let bestLength = -1;
  for (const rule of rules) {
    if (rule.when !== when || !rule.matches(path)) continue;
    const length = Math.max(
      ...rule.paths.filter((candidate) => pathMatcher(candidate)(path)).map((candidate) => candidate.replace(/\*.*/, '').length),
    );
    if (length > bestLength) [best, bestLength] = [rule, length];
  }
  return best;
}

function pathMatcher(pattern: string): (path: string) => boolean {
  if (pattern.includes('*')) {
    const matches = picomatch(pattern, { dot: true });
    return (path) => matches(path);
  }
  const prefix = pattern.endsWith('/') ? pattern.slice(0, -1) : pattern;
  // `/api` is for `/api` and `/api/…`, not for `/apiary`.
  return (path) => path === prefix || path.startsWith(`${prefix}/`);
}
