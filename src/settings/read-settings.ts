import { existsSync, readFileSync } from 'node:fs';
import { basename, extname, join, resolve } from 'node:path';
import { inTime } from '../core/in-time.js';
import { VineError } from '../core/problem/problem.js';
import { installAll, installCommandFor } from '../core/resolve/explain-failure.js';
import { parseJson } from '../core/text/json.js';
import { prepareModule } from '../project/files/run-module.js';
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
    return parseJson(readFileSync(file, 'utf8'));
  } catch (error) {
    throw unreadable(file, (error as Error).message, error);
  }
}

async function runModule(file: string, imports: string[], run: RunCode): Promise<unknown> {
  try {
    const prepared = await prepareModule(file, (path) => imports.push(path));
    try {
      const module = await run(() => inTime(prepared.run(), longestRunMs, 'it has not finished'));
      if (module.default === undefined) throw new Error('it has no default export');
      return module.default;
    } finally {
      prepared.dispose();
    }
  } catch (error) {
    if (error instanceof VineError) throw error;
    throw unreadable(file, error instanceof Error ? error.message : String(error), error);
  }
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
