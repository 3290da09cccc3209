import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { basename, dirname, extname, join, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { z } from 'zod';
import { inTime } from '../core/in-time.js';
import { nearMiss } from '../core/problem/near-miss.js';
import { VineError } from '../core/problem/problem.js';
import { contentHash } from '../core/text/content-hash.js';
import { defaultScriptOptions } from '../core/translate/script-options.js';
import { translateScript } from '../core/translate/translate-script.js';
import type { Settings } from './schema.js';

/** How long a settings file may run. */
const longestRunMs = 10_000;

/** Names under which a settings file is found by itself. */
export const settingsFileNames = [
  'vine-spark.config.ts',
  'vine-spark.config.js',
  'vine-spark.config.mjs',
  'vine-spark.config.json',
];

/** The settings of a file, and where it is. */
export interface SettingsFile {
  file: string;
  settings: Settings;
}

/**
 * Reads the settings file that was named, or the one in the project's folder; `undefined` where there is none.
 *
 * @throws VineError `settings-unreadable` where it can't be read or run, `unknown-setting` for what is wrong in it.
 */
export async function readSettings(root: string, named: string | undefined): Promise<SettingsFile | undefined> {
  const file =
    named === undefined ? settingsFileNames.map((name) => join(root, name)).find((path) => existsSync(path)) : resolve(named);
  if (file === undefined) return undefined;
  if (!existsSync(file)) throw unreadable(file, 'it does not exist');
  const value = extname(file) === '.json' ? readJson(file) : await runModule(file);
  return { file, settings: await checkSettings(value, basename(file)) };
}

/** Checks a value against the schema and names the first thing wrong, with its place and what was meant. */
export async function checkSettings(value: unknown, origin: string): Promise<Settings> {
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
  const issue = parsed.error.issues[0]!;
  throw new VineError({ code: 'unknown-setting', file: origin, ...describe(issue, value, knownKeys) });
}

function describe(
  issue: z.core.$ZodIssue,
  value: unknown,
  knownKeys: (path: readonly PropertyKey[]) => string[],
): { message: string; hint: string } {
  const seeAlso = 'docs/settings.md lists all settings.';
  if (issue.code === 'unrecognized_keys') {
    const key = issue.keys[0]!;
    const known = knownKeys(issue.path);
    const guess = nearMiss(key, known);
    const hint = guess ? `Did you mean '${[...issue.path, guess].join('.')}'?` : `Known here: ${known.join(', ')}. ${seeAlso}`;
    return { message: `There is no setting '${[...issue.path, key].join('.')}'.`, hint };
  }
  const name = issue.path.join('.');
  if (name === '') return { message: 'The settings must be an object.', hint: 'Export it as the default: export default { … }' };
  const found = issue.path.reduce<unknown>((at, key) => (at as Record<PropertyKey, unknown> | undefined)?.[key], value);
  return {
    message: `The setting '${name}' is ${shown(found)}, but it ${requirement(issue)}.`,
    hint: seeAlso,
  };
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
  if (issue.code === 'invalid_type')
    return `must be ${/^[aeiou]/.test(issue.expected) ? 'an' : 'a'} ${issue.expected === 'record' ? 'object' : issue.expected}`;
  if (issue.code === 'invalid_value') return `must be one of ${issue.values.map((value) => JSON.stringify(value)).join(', ')}`;
  return issue.message.startsWith('must') ? issue.message : `is not right: ${issue.message}`;
}

function readJson(file: string): unknown {
  try {
    return JSON.parse(readFileSync(file, 'utf8'));
  } catch (error) {
    throw unreadable(file, (error as Error).message, error);
  }
}

/**
 * Runs a settings module. It is translated to a file of its own content's name in the project's cache folder, so that
 * a changed one is really run again, and what it imports is named by absolute URLs.
 */
async function runModule(file: string): Promise<unknown> {
  const cache = join(dirname(file), 'node_modules/.cache/vine-spark');
  const made: string[] = [];
  try {
    const copy = await translateForNode(file, cache, made);
    const running = import(pathToFileURL(copy).href) as Promise<{ default?: unknown }>;
    const module = await inTime(running, longestRunMs, 'it has not finished');
    if (module.default === undefined) throw new Error('it has no default export');
    return module.default;
  } catch (error) {
    if (error instanceof VineError) throw error;
    throw unreadable(file, error instanceof Error ? error.message : String(error), error);
  } finally {
    for (const path of made) rmSync(path, { force: true });
  }
}

async function translateForNode(file: string, cache: string, made: string[]): Promise<string> {
  const source = readFileSync(file, 'utf8');
  const translated = await translateScript(source, {
    id: file,
    inPackage: false,
    mode: 'production',
    refresh: false,
    options: defaultScriptOptions,
  });
  if ('code' in translated) throw new VineError({ ...translated, code: 'settings-unreadable' });
  const { init, parse } = await import('es-module-lexer');
  await init();
  const require = createRequire(file);
  let text = translated.text;
  const imports = parse(text)[0].toReversed();
  for (const { specifier, start, end, type } of imports) {
    if (typeof specifier !== 'string' || specifier.startsWith('node:')) continue;
    const target = /^\.{1,2}\//.test(specifier)
      ? await localModule(resolve(dirname(file), specifier), cache, made)
      : require.resolve(specifier);
    const url = JSON.stringify(pathToFileURL(target).href);
    text = text.slice(0, start) + (type === 'dynamic' ? url : url.slice(1, -1)) + text.slice(end);
  }
  mkdirSync(cache, { recursive: true });
  const copy = join(cache, `settings-${contentHash(file, text)}-${Date.now()}.mjs`);
  writeFileSync(copy, text);
  made.push(copy);
  return copy;
}

async function localModule(path: string, cache: string, made: string[]): Promise<string> {
  const candidates = [path, path.replace(/\.js$/, '.ts'), `${path}.ts`, `${path}.js`, `${path}.mjs`];
  const found = candidates.find((candidate) => existsSync(candidate) && extname(candidate) !== '');
  if (!found) throw new Error(`it imports ${path}, which does not exist`);
  return /\.[mc]?[jt]s$/.test(found) ? translateForNode(found, cache, made) : found;
}

function unreadable(file: string, why: string, cause?: unknown): VineError {
  return new VineError(
    {
      code: 'settings-unreadable',
      message: `The settings file ${basename(file)} cannot be used: ${why.split('\n')[0]}.`,
      file,
      hint: 'It must export the settings as its default.',
    },
    { cause },
  );
}
