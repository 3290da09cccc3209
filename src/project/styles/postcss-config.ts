import { readdirSync, readFileSync, statSync } from 'node:fs';
import { createRequire } from 'node:module';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import type { AcceptedPlugin } from 'postcss';
import { withoutMark } from '../../core/text/json.js';
import { findJsonMistake } from '../../core/translate/json-mistake.js';
import { runModule } from '../files/run-module.js';

/** The project's PostCSS configuration as it was loaded. */
export interface PostcssConfig {
  /** Absolute path. */
  file: string;
  plugins: AcceptedPlugin[];
}

/** The names that it may have, in the order in which they are looked for. */
export const configNames: readonly string[] = [
  'package.json',
  ...['', '.json', '.yaml', '.yml', '.ts', '.cts', '.mts', '.js', '.cjs', '.mjs'].map((ending) => `.postcssrc${ending}`),
  ...['ts', 'cts', 'mts', 'js', 'cjs', 'mjs'].map((ending) => `postcss.config.${ending}`),
];

/**
 * Loads the PostCSS configuration of a folder; one above it is somebody else's. Programs, in TypeScript too, and plugins that go by their paths
 * are run with all of the user's own files that they import as they are now; `parts` is told the absolute paths of those.
 *
 * @throws whatever a program throws; VineError `settings-unreadable` for one that can't be parsed.
 */
export async function loadPostcssConfig(
  root: string,
  env: string,
  parts: (path: string) => void,
): Promise<PostcssConfig | undefined> {
  const found = namesIn(root);
  // A device or a pipe in the place of one would be read for ever.
  if (found.some((name) => !statSync(join(root, name), { throwIfNoEntry: false })?.isFile())) return undefined;
  const name = found.find((one) => one !== 'package.json' || dataIn(join(root, one)) !== undefined);
  if (name === undefined) return undefined;
  const file = join(root, name);
  // These are what packages for them make of them.
  if (/\.(?:ya?ml|cts)$/.test(name)) {
    const { default: loadConfig } = await import('postcss-load-config');
    return { file, plugins: (await loadConfig({ env }, root)).plugins as AcceptedPlugin[] };
  }
  const given = /^package\.json$|rc(?:\.json)?$/.test(name) ? dataIn(file) : defaultOf(await runModule(file, parts));
  const config = (typeof given === 'function' ? await given({ cwd: root, env }) : given) as { plugins?: unknown } | undefined;
  return { file, plugins: await loadPlugins(config?.plugins, file, parts) };
}

/** The name of the file that the PostCSS configuration comes from, where it can't be used: no sheet is to blame for that. */
export function brokenConfig(root: string): string {
  const found = namesIn(root);
  if (found.includes('package.json') && findJsonMistake(readFileSync(join(root, 'package.json'), 'utf8'))) return 'package.json';
  return found.find((name) => name !== 'package.json') ?? 'package.json';
}

function namesIn(root: string): string[] {
  const there = new Set(readdirSync(root));
  return configNames.filter((name) => there.has(name));
}

/** What a file of JSON says; of a package.json its own part for it. */
function dataIn(file: string): unknown {
  const data = JSON.parse(withoutMark(readFileSync(file, 'utf8'))) as { postcss?: unknown } | null;
  return file.endsWith('package.json') ? data?.postcss : data;
}

/** The default export, also of what was ECMAScript once. */
function defaultOf(module: Record<string, unknown>): unknown {
  const exported = module.default as { __esModule?: boolean; default?: unknown } | undefined;
  return exported?.__esModule ? exported.default : exported;
}

/** The plugins of a list, or of a table of their names with their options, in order. */
async function loadPlugins(given: unknown, file: string, parts: (path: string) => void): Promise<AcceptedPlugin[]> {
  const named = Array.isArray(given) ? [] : Object.entries((given as object | null | undefined) ?? {});
  const plugins = Array.isArray(given)
    ? given.filter(Boolean)
    : await Promise.all(
        named
          .filter(([, options]) => options !== false)
          .map(([name, options]) => loadPlugin(name, options as object | null, { file, parts })),
      );
  const wrong = plugins.findIndex((plugin) => !isPlugin(plugin));
  if (wrong !== -1) throw new TypeError(`plugins[${wrong}] is no PostCSS plugin`);
  return plugins as AcceptedPlugin[];
}

/** A plugin by its name, which means what it means beside the configuration. */
async function loadPlugin(
  name: string,
  options: object | null,
  { file, parts }: { file: string; parts(path: string): void },
): Promise<unknown> {
  const path = createRequire(file).resolve(name);
  const isPart = /^\.{0,2}\//.test(name);
  if (isPart) parts(path);
  const plugin = defaultOf(await (isPart ? runModule(path, parts) : import(pathToFileURL(path).href)));
  return Object.keys(options ?? {}).length === 0 ? plugin : (plugin as (options: unknown) => unknown)(options);
}

/** Whether something is what PostCSS takes for a plugin: one, what makes one, or what holds some. */
function isPlugin(value: unknown): boolean {
  if (typeof value === 'function') return true;
  const { postcssPlugin, plugins, postcss, default: inner } = (value ?? {}) as Record<string, unknown>;
  return postcssPlugin !== undefined || Array.isArray(plugins) || Boolean(postcss) || typeof inner === 'function';
}
