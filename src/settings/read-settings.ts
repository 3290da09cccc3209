import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { basename, dirname, extname, join, resolve } from 'node:path';
import { pathToFileURL } from 'node:url';
import { inTime } from '../core/in-time.js';
import { VineError } from '../core/problem/problem.js';
import { installAll, installCommandFor } from '../core/resolve/explain-failure.js';
import { contentHash } from '../core/text/content-hash.js';
import { refuseTooDeep } from '../core/translate/nesting.js';
import { defaultScriptOptions } from '../core/translate/script-options.js';
import { translateScript } from '../core/translate/translate-script.js';
import { unfitOwnVersion } from '../project/own-version.js';
import { checkSettings } from './check-settings.js';
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
  /** Absolute paths of the files of the user's own that it imports. */
  imports: readonly string[];
}

/** Does work that is code of the user's, which may never end. */
export type RunCode = <Result>(work: () => Promise<Result>) => Promise<Result>;

/**
 * Reads the settings file that was named, or the one in the project's folder; `undefined` where there is none. One that is code is run
 * by `run`.
 *
 * @throws VineError `settings-unreadable` where it can't be read or run, `unknown-setting` for what is wrong in it.
 */
export async function readSettings(
  root: string,
  named: string | undefined,
  run: RunCode = (work) => work(),
): Promise<SettingsFile | undefined> {
  const file =
    named === undefined ? settingsFileNames.map((name) => join(root, name)).find((path) => existsSync(path)) : resolve(named);
  if (file === undefined) return undefined;
  if (!existsSync(file)) throw unreadable(file, 'it does not exist');
  const imports: string[] = [];
  try {
    const value = extname(file) === '.json' ? readJson(file) : await runModule(file, imports, run);
    return { file, imports, settings: await checkSettings(value, basename(file), readFileSync(file, 'utf8')) };
  } catch (error) {
    if (error instanceof VineError) {
      error.madeOf = imports;
      // A setting that isn't known may be one of a newer version.
      const unfit = error.code === 'unknown-setting' ? unfitOwnVersion(root) : undefined;
      const install = installAll(installCommandFor(root, existsSync));
      if (unfit)
        error.problem.hint = [error.problem.hint, `${unfit} Run ${install}, and start it by npx vine-spark.`].join(' ').trim();
    }
    throw error;
  }
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
async function runModule(file: string, imports: string[], run: RunCode): Promise<unknown> {
  const copying = { cache: join(dirname(file), 'node_modules/.cache/vine-spark'), copies: new Map<string, string>(), imports };
  try {
    const copy = await translateForNode(file, copying);
    const running = () => import(pathToFileURL(copy).href) as Promise<{ default?: unknown }>;
    const module = await run(() => inTime(running(), longestRunMs, 'it has not finished'));
    if (module.default === undefined) throw new Error('it has no default export');
    return module.default;
  } catch (error) {
    if (error instanceof VineError) throw error;
    throw unreadable(file, error instanceof Error ? error.message : String(error), error);
  } finally {
    for (const path of copying.copies.values()) rmSync(path, { force: true });
  }
}

/** Where copies go, those that were made, by what they are of, and the files that the settings are made of beside their own. */
interface Copying {
  cache: string;
  copies: Map<string, string>;
  imports: string[];
}

let number = 0;

async function translateForNode(file: string, copying: Copying): Promise<string> {
  const known = copying.copies.get(file);
  if (known !== undefined) return known;
  const copy = join(copying.cache, `settings-${contentHash(file)}-${Date.now()}-${number++}.mjs`);
  copying.copies.set(file, copy);
  const source = readFileSync(file, 'utf8');
  refuseTooDeep(file, source);
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
      ? await localModule(resolve(dirname(file), specifier), copying)
      : require.resolve(specifier);
    const url = JSON.stringify(pathToFileURL(target).href);
    text = text.slice(0, start) + (type === 'dynamic' ? url : url.slice(1, -1)) + text.slice(end);
  }
  mkdirSync(copying.cache, { recursive: true });
  writeFileSync(copy, text);
  return copy;
}

async function localModule(path: string, copying: Copying): Promise<string> {
  const candidates = [path, path.replace(/\.js$/, '.ts'), `${path}.ts`, `${path}.js`, `${path}.mjs`];
  const found = candidates.find((candidate) => existsSync(candidate) && extname(candidate) !== '');
  if (!found) {
    // Whichever comes mends it.
    copying.imports.push(...new Set(candidates.filter((candidate) => extname(candidate) !== '')));
    throw new Error(`it imports ${path}, which does not exist`);
  }
  copying.imports.push(found);
  return /\.[mc]?[jt]s$/.test(found) ? translateForNode(found, copying) : found;
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
