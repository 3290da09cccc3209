import type { z } from 'zod';
import type { Span } from '../core/documents/read-page.js';
import { nearMiss } from '../core/problem/near-miss.js';
import { type Problem, problemAt, VineError } from '../core/problem/problem.js';
import type { Settings } from './schema.js';
import { settingDocs } from './setting-docs.js';

/**
 * Checks a value against the schema. `origin` is what the settings are called, `text` that of their file, so that mistakes have places.
 *
 * @throws VineError `unknown-setting` with all that is wrong.
 */
export async function checkSettings(value: unknown, origin: string, text?: string): Promise<Settings> {
  const { settingsSchema, knownKeys } = await import('./schema.js');
  const broken = throwingKey(value);
  if (broken)
    throw new VineError({
      code: 'unknown-setting',
      file: origin,
      message: `The setting '${broken.key}' cannot be read: ${broken.why}.`,
      hint: 'It is a getter that fails; write its value instead, or let it give one.',
    });
  const parsed = settingsSchema.safeParse(value);
  if (parsed.success) return parsed.data;
  // Only mistakes need their places.
  const { placeOfSetting } = await import('./setting-place.js');
  const mistakes = parsed.error.issues.flatMap((issue) => mistakesOf(issue, value, knownKeys));
  const [first, ...others] = mistakes.map(({ path, isKey, ...told }) =>
    placed({ code: 'unknown-setting', ...told }, { origin, text, place: text && placeOfSetting(origin, text, path, isKey) }),
  );
  throw new VineError(first!, {}, others);
}

/** A mistake, and which setting it's in. */
interface Mistake {
  message: string;
  hint: string;
  path: readonly PropertyKey[];
  /** The key is wrong, and not its value. */
  isKey: boolean;
}

function placed(
  told: Pick<Problem, 'code' | 'message' | 'hint'>,
  { origin, text, place }: { origin: string; text: string | undefined; place: Span | '' | undefined },
): Problem {
  if (!text || !place) return { ...told, severity: 'error', file: origin };
  return problemAt({ file: origin, text, ...place }, told);
}

function mistakesOf(issue: z.core.$ZodIssue, value: unknown, knownKeys: (path: readonly PropertyKey[]) => string[]): Mistake[] {
  if (issue.code === 'unrecognized_keys') {
    const known = knownKeys(issue.path);
    return issue.keys.map((key) => {
      const path = [...issue.path, key];
      const guess = nearMiss(key, known);
      const hint = guess
        ? `Did you mean '${[...issue.path, guess].join('.')}'?`
        : `Known here: ${known.join(', ')}. docs/settings.md lists all settings.`;
      return { message: `There is no setting '${path.join('.')}'.`, hint, path, isKey: true };
    });
  }
  const { path } = issue;
  const name = path.join('.');
  if (name === '')
    return [
      { message: 'The settings must be an object.', hint: 'Export it as the default: export default { … }', path, isKey: false },
    ];
  const found = path.reduce<unknown>((at, key) => (at as Record<PropertyKey, unknown> | undefined)?.[key], value);
  const message = `The setting '${name}' is ${shown(found)}, but it ${requirement(issue)}.`;
  return [{ message, hint: exampleFor(path), path, isKey: false }];
}

/** A right value for a setting, or for the one that it's part of. */
function exampleFor(path: readonly PropertyKey[]): string {
  for (let length = path.length; length > 0; length--) {
    const name = path.slice(0, length).join('.');
    const doc = Object.hasOwn(settingDocs, name) ? settingDocs[name] : undefined;
    if (!doc) continue;
    const [first, ...rest] = name.split('.');
    const written = rest.length === 0 ? `${first}: ${doc.example}` : `${first}: { ${rest.join('.')}: ${doc.example} }`;
    return `For example: ${written}`;
  }
  return 'docs/settings.md lists all settings.';
}

/** A value as a settings file would hold it. */
function shown(value: unknown): string {
  try {
    return JSON.stringify(value) ?? String(value);
  } catch {
    return String(value); // it holds itself, or is no JSON for another reason
  }
}

/** The first key whose value can't even be looked at, because a getter throws. */
function throwingKey(value: unknown, path = '', seen = new Set<unknown>()): { key: string; why: string } | undefined {
  if (typeof value !== 'object' || value === null || value instanceof RegExp || seen.has(value)) return undefined;
  seen.add(value);
  for (const key of Object.keys(value)) {
    const name = path === '' ? key : `${path}.${key}`;
    try {
      const below = throwingKey((value as Record<string, unknown>)[key], name, seen);
      if (below) return below;
    } catch (error) {
      return { key: name, why: error instanceof Error ? error.message : String(error) };
    }
  }
  return undefined;
}

function requirement(issue: z.core.$ZodIssue): string {
  if (issue.code === 'invalid_type') {
    const kind = issue.expected === 'record' ? 'object' : issue.expected;
    return `must be ${/^[aeiou]/.test(kind) ? 'an' : 'a'} ${kind}`;
  }
  if (issue.code === 'invalid_value') return `must be one of ${issue.values.map((value) => JSON.stringify(value)).join(', ')}`;
  return issue.message.startsWith('must') ? issue.message : `is not right: ${issue.message}`;
}
