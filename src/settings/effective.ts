import { existsSync, readdirSync, realpathSync, statSync } from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import type { Adapter } from '../core/adapter.js';
import { VineError } from '../core/problem/problem.js';
import type { CookieChanges, ForwardRule, PathChange } from '../forward/rule.js';
import { parseTarget } from '../forward/target.js';
import { envFileNames, exposedVariables } from './env-files.js';
import { readSettings, settingsFileNames } from './read-settings.js';
import type { Settings } from './schema.js';

/** The port by default: VINE on a phone's keys. */
export const defaultPort = 8463;

/** What the command line says, as far as it says it. */
export interface CommandLineSettings {
  page?: string;
  port?: number;
  exactPort?: boolean;
  host?: string;
  base?: string;
  forward?: { path: string; to: string }[];
  settings?: string;
}

/** Settings with every value filled in and checked. Deeper code neither defaults nor validates again. */
export interface EffectiveSettings {
  /** Absolute path of the project's folder, links resolved. */
  root: string;
  /** The settings file, if there is one. */
  file?: string;
  /** Absolute paths of the files that may say something else the next time. */
  sources: readonly string[];
  /** URL pattern and id of the HTML file. */
  routes: readonly { pattern: string; page: string }[];
  base: string;
  /** Absolute paths. */
  verbatim: readonly string[];
  listen: { host: string; port: number; exact: boolean; names: readonly string[] };
  forward: readonly ForwardRule[];
  embedFrom: readonly string[];
  alias: Readonly<Record<string, string>>;
  roots: readonly string[];
  conditions: readonly string[];
  /** Expression -> its value as source text. */
  constants: Readonly<Record<string, string>>;
  adapters: readonly Adapter[];
  /** Errors of pages are told in the terminal. */
  pageErrors: boolean;
}

/**
 * Combines command line, settings file and defaults, in this order of precedence.
 *
 * @throws VineError for whatever is wrong in them, or where a page doesn't exist.
 */
export async function effectiveSettings(folder: string, line: CommandLineSettings): Promise<EffectiveSettings> {
  const start = resolve(folder, line.page ?? '.');
  const root = projectRoot(start, folder, line.page !== undefined);
  const read = await readSettings(root, line.settings && resolve(folder, line.settings));
  const settings = merge(read?.settings ?? {}, line);
  return Object.freeze({
    root,
    ...(read ? { file: read.file } : {}),
    sources: [...(line.settings ? [resolve(folder, line.settings)] : settingsFileNames), ...envFileNames('development')].map(
      (path) => resolve(root, path),
    ),
    routes: routesOf(root, start, line.page, settings.pages),
    base: settings.base ?? '/',
    verbatim: (settings.verbatim ?? ['public']).map((path) => resolve(root, path)).filter((path) => existsSync(path)),
    listen: {
      host: settings.listen?.host ?? 'localhost',
      port: settings.listen?.port ?? defaultPort,
      exact: settings.listen?.exact ?? false,
      names: settings.listen?.names ?? [],
    },
    forward: (settings.forward ?? []).map(forwardRule),
    pageErrors: settings.pageErrors ?? true,
    embedFrom: settings.embed?.from ?? [],
    alias: settings.alias ?? {},
    roots: settings.roots ?? [],
    conditions: settings.conditions ?? [],
    constants: {
      'process.env.NODE_ENV': '"development"',
      ...Object.fromEntries(
        Object.entries(exposedVariables(root, 'development', settings.expose ?? [], process.env)).map(([name, value]) => [
          `process.env.${name}`,
          JSON.stringify(value),
        ]),
      ),
      'process.env': '({})',
      'process.browser': 'true',
      ...Object.fromEntries(Object.entries(settings.constants ?? {}).map(([name, value]) => [name, JSON.stringify(value)])),
    },
    adapters: settings.adapters ?? [],
  });
}

/** The command line's values, which were checked as they were read, in the place of the file's. */
function merge(file: Settings, line: CommandLineSettings): Settings {
  const listen = {
    ...file.listen,
    ...(line.port === undefined ? {} : { port: line.port }),
    ...(line.exactPort === undefined ? {} : { exact: line.exactPort }),
    ...(line.host === undefined ? {} : { host: line.host }),
  };
  const given = line.forward?.map(({ path, to }) => ({ paths: [path], to })) ?? [];
  return {
    ...file,
    ...(line.base === undefined ? {} : { base: line.base }),
    ...(Object.keys(listen).length > 0 ? { listen } : {}),
    ...(given.length > 0 ? { forward: [...given, ...(file.forward ?? [])] } : {}),
  };
}

/** The project's folder: where the nearest package.json or settings file is, but never above where the command was run unless the page is. */
function projectRoot(start: string, folder: string, isNamed: boolean): string {
  if (isNamed && !existsSync(start)) {
    const near = relative(folder, start);
    throw new VineError({
      code: 'page-missing',
      message: `There is no page ${near}.`,
      file: near,
      hint: 'Give the path of an HTML file, or of a folder that holds some.',
    });
  }
  const base = statSync(start).isDirectory() ? start : dirname(start);
  for (let at = base; ; at = dirname(at)) {
    if (existsSync(join(at, 'package.json')) || readdirSync(at).some((name) => name.startsWith('vine-spark.config.')))
      return realpathSync(at);
    if (at === folder || dirname(at) === at) break;
  }
  return realpathSync(base === start ? base : base.startsWith(folder + sep) ? folder : base);
}

function routesOf(
  root: string,
  start: string,
  page: string | undefined,
  pages: Settings['pages'],
): { pattern: string; page: string }[] {
  const real = realpathSync(start);
  const isFile = statSync(real).isFile();
  if (page !== undefined && isFile) {
    const id = idOf(root, real);
    // One page: every path that isn't a file's is the application's own, so that deep links work.
    return [
      ...(pages ? routesFrom(root, pages) : []),
      { pattern: '/', page: id },
      { pattern: `/${basename(id)}`, page: id },
      { pattern: '/**', page: id },
    ];
  }
  if (pages) return routesFrom(root, pages);
  const files = readdirSync(real)
    .filter((name) => name.endsWith('.html'))
    .sort();
  if (files.length === 0) {
    throw new VineError({
      code: 'page-missing',
      message: `There is no HTML page in ${page ?? 'this folder'}.`,
      hint: 'Name one: vine-spark serve path/to/index.html',
    });
  }
  const single = files.length === 1 ? [{ pattern: '/**', page: idOf(root, join(real, files[0]!)) }] : [];
  return [...files.flatMap((name) => fileRoutes(name, idOf(root, join(real, name)), files.length === 1)), ...single];
}

function fileRoutes(name: string, page: string, isOnly: boolean): { pattern: string; page: string }[] {
  const stem = name.slice(0, -'.html'.length);
  const isIndex = stem === 'index' || isOnly;
  return [
    ...(isIndex ? [{ pattern: '/', page }] : []),
    ...(stem === 'index' ? [] : [{ pattern: `/${stem}`, page }]),
    { pattern: `/${name}`, page },
  ];
}

function routesFrom(root: string, pages: NonNullable<Settings['pages']>): { pattern: string; page: string }[] {
  return Object.entries(pages).map(([pattern, file]) => {
    const path = resolve(root, file);
    if (!existsSync(path))
      throw new VineError({
        code: 'page-missing',
        message: `The setting 'pages' names ${file}, which does not exist.`,
        file,
        hint: 'Paths in the settings are relative to the settings file.',
      });
    return { pattern, page: idOf(root, path) };
  });
}

const defaultConnectMs = 10_000;

function forwardRule({ paths, to, methods = [], headers = {}, timeouts = {}, path, ...rest }: RuleSettings): ForwardRule {
  return {
    paths,
    to: parseTarget(to)!,
    when: rest.when ?? 'first',
    methods: methods.map((method) => method.toUpperCase()),
    headers: Object.fromEntries(Object.entries(headers).map(([name, text]) => [name.toLowerCase(), text])),
    ...(path === undefined ? {} : { path: path as PathChange }),
    host: rest.host ?? 'backend',
    requestHeaders: rest.requestHeaders ?? {},
    responseHeaders: rest.responseHeaders ?? {},
    cookies: (rest.cookies ?? {}) as CookieChanges,
    redirects: rest.redirects ?? 'ours',
    selfSigned: rest.selfSigned ?? false,
    origins: rest.origins ?? [],
    forwarded: rest.forwarded ?? false,
    timeouts: { connectMs: timeouts.connectMs ?? defaultConnectMs, answerMs: timeouts.answerMs ?? 0 },
  };
}

type RuleSettings = NonNullable<Settings['forward']>[number];

function idOf(root: string, path: string): string {
  return relative(root, path).split(sep).join('/');
}
