import { validateHeaderName, validateHeaderValue } from 'node:http';
import { VineError } from '../core/problem/problem.js';

/** What a function or a value of a rule did wrong, with the setting to look at: `key` is e.g. `requestHeaders`. */
export function ruleFailure(label: string, key: string, why: string, cause?: unknown): VineError {
  return new VineError(
    {
      code: 'rule-failed',
      message: `The setting '${key}' of the rule for ${label} ${why}.`,
      hint: 'The request got a 500 and was not forwarded. docs/forwarding.md says what this setting may give.',
    },
    { cause },
  );
}

/**
 * Calls a function of a rule.
 *
 * @throws VineError `rule-failed` where it throws.
 */
export function callOfRule<T>(label: string, key: string, call: () => T): T {
  try {
    return call();
  } catch (error) {
    throw ruleFailure(label, key, `failed: ${error instanceof Error ? error.message : String(error)}`, error);
  }
}

/**
 * Checks fields that a rule wants to set, so that nothing else than a name and a value can get into a message.
 *
 * @throws VineError `rule-failed` for what is no field.
 */
export function checkedFields(label: string, key: string, given: unknown): [name: string, value: string | null][] {
  if (typeof given !== 'object' || given === null || Array.isArray(given) || given instanceof Promise)
    throw ruleFailure(label, key, `gives ${shown(given)}, but it must give an object of names with texts or null`);
  return callOfRule(label, key, () => Object.entries(given as Record<string, unknown>))
    .filter(([, value]) => value !== undefined)
    .map(([name, value]) => {
      if (value !== null && typeof value !== 'string')
        throw ruleFailure(label, key, `gives ${shown(value)} for the field ${name}, but it must give a text or null`);
      try {
        validateHeaderName(name);
        if (value !== null) validateHeaderValue(name, value);
      } catch (error) {
        throw ruleFailure(label, key, `gives a field that HTTP does not allow, ${shown(name)}`, error);
      }
      return [name, value];
    });
}

function shown(value: unknown): string {
  if (typeof value === 'string') return JSON.stringify(value);
  if (Array.isArray(value)) return 'a list';
  if (value instanceof Promise) return 'a promise';
  return typeof value === 'object' && value !== null ? 'an object' : String(value);
}
