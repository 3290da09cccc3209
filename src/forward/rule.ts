import type { IncomingHttpHeaders } from 'node:http';
import type Picomatch from 'picomatch';
import { lazily } from '../core/lazily.js';
import { callOfRule, ruleFailure } from './rule-failure.js';
import type { Target } from './target.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** Fields to set (a text) or to remove (`null`), by name; or a function that gives them for the fields there are. */
export type HeaderChanges =
  | Readonly<Record<string, string | null>>
  | ((headers: Readonly<Record<string, string>>) => Readonly<Record<string, string | null>>);

/** What to do with the attributes of cookies that the backend sets: a text replaces, `null` removes. */
export interface CookieChanges {
  domain?: string | null;
  path?: string | null;
  /** `false` removes the attribute, `true` adds it. */
  secure?: boolean;
  sameSite?: string | null;
}

/** A prefix that is taken from the path and one that is put before it, or a function of the path with its query. */
export type PathChange = { drop?: string; add?: string } | ((path: string) => string);

/** A rule as the settings give it, with everything filled in. */
export interface ForwardRule {
  /** Path prefixes, or globs where they hold a `*`. */
  paths: readonly string[];
  to: Target;
  /** `first`: before the front end is asked. `missing`: only what the front end doesn't have. */
  when: 'first' | 'missing';
  /** Upper-case methods; all where there are none. */
  methods: readonly string[];
  /** Request fields that must hold a text, by lower-case name. */
  headers: Readonly<Record<string, string>>;
  path?: PathChange;
  /** The name that the backend is called by: its own, that which the browser used, or another. */
  host: string;
  requestHeaders: HeaderChanges;
  responseHeaders: HeaderChanges;
  cookies: CookieChanges;
  /** `ours`: a Location that points at the backend is led back to us. */
  redirects: 'ours' | 'untouched';
  /** Accept certificates that nobody vouches for. */
  selfSigned: boolean;
  /** Other origins whose pages may open sockets to the backend, beside our own. */
  origins: 'any' | readonly string[];
  /** Send the standard `forwarded` field (RFC 7239) too. */
  forwarded: boolean;
  /** `ours`: pages of the backend get what the front end puts into them, where the rule is for what is missing. */
  html: 'ours' | 'untouched';
  /** What is put into them, as the front end names it. */
  entries: readonly string[];
  /** How long connecting may take, how long the answer may let wait (0: forever). */
  timeouts: { connectMs: number; answerMs: number };
}

/** What of a request decides which rule is for it. */
export interface RuleQuery {
  /** Normalised, without query. */
  path: string;
  method: string;
  headers: IncomingHttpHeaders;
}

/** A rule that can be asked. */
export interface CompiledRule extends ForwardRule {
  /** The paths as the user wrote them, for messages. */
  label: string;
  /** How specific the rule is for a request; `undefined` where it isn't for it. */
  specificity(query: RuleQuery): number | undefined;
}

/** Compiles rules; `findRule` picks among them. */
export function compileRule(rule: ForwardRule): CompiledRule {
  const matchers = rule.paths.map((path) => ({ length: path.replace(/\*.*/, '').length, matches: pathMatcher(path) }));
  const conditions = (rule.methods.length > 0 ? 1 : 0) + Object.keys(rule.headers).length;
  return {
    ...rule,
    label: `${rule.methods.length > 0 ? `${rule.methods.join('|')} ` : ''}${rule.paths.join(', ')}`,
    specificity({ path, method, headers }) {
      if (rule.methods.length > 0 && !rule.methods.includes(method)) return undefined;
      if (!Object.entries(rule.headers).every(([name, text]) => String(headers[name] ?? '').includes(text))) return undefined;
      const lengths = matchers.filter(({ matches }) => matches(path)).map(({ length }) => length);
      return lengths.length === 0 ? undefined : Math.max(...lengths) * 16 + Math.min(conditions, 15);
    },
  };
}

/** The most specific rule: the longest path before its first `*`, then the most conditions, then the first one written. */
export function findRule(rules: readonly CompiledRule[], query: RuleQuery, when: ForwardRule['when']): CompiledRule | undefined {
  let best: CompiledRule | undefined;
  let most = -1;
  for (const rule of rules) {
    const specificity = rule.when === when ? rule.specificity(query) : undefined;
    if (specificity !== undefined && specificity > most) [best, most] = [rule, specificity];
  }
  return best;
}

/** The request-target for the backend, which is asked by path whatever form the browser's request had. */
export function targetPath(rule: ForwardRule, requestTarget: string): string {
  const target = requestTarget.replace(/^[a-z][a-z0-9+.-]*:\/\/[^/?#]*/i, '') || '/';
  if (typeof rule.path === 'function') return changedPath(rule, rule.path, target);
  const { drop = '', add = '' } = rule.path ?? {};
  const rest = isBelow(target, drop) ? target.slice(drop.length) : target;
  return add + (rest.startsWith('/') || rest === '' ? rest || '/' : `/${rest}`);
}

/**
 * What a function of a rule makes of a path.
 *
 * @throws VineError `rule-failed` where it's no request-target.
 */
function changedPath({ paths }: ForwardRule, change: (path: string) => string, target: string): string {
  const label = paths.join(', ');
  const changed: unknown = callOfRule(label, 'path', () => change(target));
  if (typeof changed === 'string' && /^\/[\x21-\x7e\x80-\xff]*$/.test(changed)) return changed;
  throw ruleFailure(
    label,
    'path',
    `gives ${typeof changed === 'string' ? JSON.stringify(changed) : String(changed)}, but it must give a path that begins with /`,
  );
}

/** A path of the backend as browsers have to ask for it here: `targetPath` the other way round, where there is one. */
export function pathHere(rule: ForwardRule, path: string): string {
  if (typeof rule.path === 'function' || !rule.path) return path;
  const { drop = '', add = '' } = rule.path;
  return isBelow(path, add) ? drop + path.slice(add.length) : path;
}

function isBelow(path: string, prefix: string): boolean {
  return path.startsWith(prefix) && (path.length === prefix.length || /[/?#]/.test(path[prefix.length]!) || prefix.endsWith('/'));
}

function pathMatcher(pattern: string): (path: string) => boolean {
  if (pattern.includes('*')) {
    const matches = picomatch()(pattern, { dot: true });
    return (path) => matches(path);
  }
  const prefix = pattern.endsWith('/') ? pattern.slice(0, -1) : pattern;
  // `/api` is for `/api` and `/api/…`, not for `/apiary`.
  return (path) => path === prefix || path.startsWith(`${prefix}/`);
}
