import { existsSync } from 'node:fs';
import { isAbsolute, join, relative, resolve, sep } from 'node:path';
import type { Mode } from '../core/mode.js';
import type { Adapter } from '../core/translate/adapter.js';
import type { CookieChanges, ForwardRule, PathChange } from '../forward/rule.js';
import { parseTarget } from '../forward/target.js';
import { realPathNow } from '../project/files/disk-files.js';
import type { RunRule } from '../run/run-rule.js';
import { checkSettings } from './check-settings.js';
import { envFileNames, envFileValues, exposedVariables } from './env-files.js';
import { type RunCode, readSettings, settingsFileNames } from './read-settings.js';
import { idOf, insertedHtml, pagesOf, projectRoot, type Route } from './routes.js';
import { runRules } from './run-rules.js';
import type { Settings } from './schema.js';
import { bytesOf } from './size.js';

/** The port by default: VINE on a phone's keys. */
export const defaultPort = 8463;

/** What the command line says, as far as it says it. */
export interface CommandLineSettings {
  page?: string;
  /** The pages are those of all components in the folder. */
  components?: boolean;
  /** Nothing is served, so that there need not be a page. */
  pageless?: boolean;
  /** Settings in the place of the file's. */
  given?: Settings;
  port?: number;
  exactPort?: boolean;
  host?: string;
  https?: boolean;
  types?: boolean;
  base?: string;
  forward?: { path: string; to: string }[];
  /** Commands of programs that run alongside. */
  run?: string[];
  settings?: string;
  /** Where a build is written to. */
  out?: string;
  sourceMaps?: 'on' | 'hidden' | 'off';
  /** A browserslist query. */
  targets?: string | undefined;
}

/** Pages that a backend renders and that hold our modules. */
export interface EmbedSettings {
  /** Origins of such pages. */
  from: readonly string[];
  /** Ids of modules that they start. */
  entries: readonly string[];
  /** Path that a template names -> id of the module, sheet or file that stands for it. */
  urls: Readonly<Record<string, string>>;
  /** Globs of the backend's own templates, from the project's folder. */
  watch: readonly string[];
}

/** Settings with every value filled in and checked. Deeper code neither defaults nor validates again. */
export interface EffectiveSettings {
  mode: Mode;
  /** Absolute path of the project's folder, links resolved. */
  root: string;
  /** The settings file, if there is one. */
  file?: string;
  /** Absolute paths of the files that may say something else the next time. */
  sources: readonly string[];
  routes: readonly Route[];
  /** The HTML of pages that have no file, by id. */
  generated: Readonly<Record<string, string>>;
  /** Absolute path of the folder whose HTML files are the pages, where nobody names any. */
  pageFolder?: string;
  /** What is put at the end of every page's head and body. */
  insert: { head: string; body: string };
  base: string;
  /** Absolute paths of folders that need not exist. */
  verbatim: readonly string[];
  listen: {
    host: string;
    port: number;
    exact: boolean;
    names: readonly string[];
    /** `true`: with certificates of our own; or absolute paths of the user's. */
    https: boolean | { key: string; certificate: string };
  };
  forward: readonly ForwardRule[];
  /** Programs that run alongside. */
  run: readonly RunRule[];
  /** What pages that a backend renders have to do with us. */
  embed: EmbedSettings;
  /** What a build writes; `folder` is an absolute path. */
  output: {
    folder: string;
    empty: boolean;
    sourceMaps: 'on' | 'hidden' | 'off';
    manifest: boolean;
    integrity: boolean;
    /** `free`: programs don't look at the names of their functions and classes. */
    functionNames: 'kept' | 'free';
    /** In bytes, as the limits are. */
    inlineBytes: number;
    limits: { firstLoad?: number; later?: number };
  };
  /** A browserslist query for builds. */
  targets?: string | undefined;
  alias: Readonly<Record<string, string>>;
  roots: readonly string[];
  conditions: readonly string[];
  /** Expression -> its value as source text. */
  constants: Readonly<Record<string, string>>;
  adapters: readonly Adapter[];
  /** The pages are made of components, and of what those say of their props. */
  ofComponents: boolean;
  /** Types are checked beside everything else. */
  types: boolean;
  /** Errors of pages are told in the terminal. */
  pageErrors: boolean;
}

/** Files whose component can have a page of its own. */
const componentFile = /\.(?:tsx|jsx|vue|svelte)$/;

/**
 * Combines command line, settings file and defaults, in this order of precedence. `run`: see `readSettings`.
 *
 * @throws VineError for whatever is wrong in them, or where a page doesn't exist.
 */
export async function effectiveSettings(
  folder: string,
  line: CommandLineSettings,
  mode: Mode = 'development',
  run?: RunCode,
): Promise<EffectiveSettings> {
  const start = resolve(folder, line.page ?? '.');
  const root = projectRoot(start, folder, line.page !== undefined);
  const read = await readSettings(root, line.settings && resolve(folder, line.settings), run);
  const given = line.given === undefined ? {} : await checkSettings(line.given, 'frontEnd()');
  const settings = merge({ ...read?.settings, ...given }, line);
  const verbatim = (settings.verbatim ?? ['public']).map((path) => resolve(root, path));
  const output = line.out === undefined ? resolve(root, settings.output?.folder ?? 'dist') : resolve(folder, line.out);
  const { pages } = settings;
  const embed = embedSettings(root, settings);
  const mayBeNone = line.pageless === true || (settings.forward ?? []).length + embed.entries.length + embed.from.length > 0;
  const isOfComponents = line.components === true || (line.page !== undefined && componentFile.test(line.page));
  const found = isOfComponents
    ? (await import('./component-pages.js')).componentRoutes(root, start)
    : pagesOf({ root, start, page: line.page, pages, except: [...verbatim, output], mayBeNone });
  const head = insertedHtml(root, 'insert.head', settings.insert?.head);
  const body = insertedHtml(root, 'insert.body', settings.insert?.body);
  const inserted = [head.file, body.file].filter((file) => file !== undefined).concat(read?.imports ?? []);
  return Object.freeze({
    root,
    mode,
    ...(read ? { file: read.file } : {}),
    sources: [...(line.settings ? [resolve(folder, line.settings)] : settingsFileNames), ...envFileNames(mode)]
      .map((path) => resolve(root, path))
      .concat(inserted),
    routes: found.routes,
    generated: found.generated,
    ...(found.folder === undefined ? {} : { pageFolder: found.folder }),
    insert: { head: head.html, body: body.html },
    base: settings.base ?? '/',
    verbatim,
    listen: {
      host: settings.listen?.host ?? 'localhost',
      port: settings.listen?.port ?? defaultPort,
      exact: settings.listen?.exact ?? false,
      names: settings.listen?.names ?? [],
      https: certificateOf(root, settings.listen?.https ?? false),
    },
    forward: (settings.forward ?? []).map((rule) => forwardRule(root, rule)),
    run: runRules(root, settings.run ?? [], envFileValues(root, mode)),
    ofComponents: isOfComponents,
    types: line.types ?? settings.types ?? false,
    pageErrors: settings.pageErrors ?? true,
    embed,
    output: {
      folder: output,
      empty: settings.output?.empty ?? true,
      sourceMaps: line.sourceMaps ?? settings.output?.sourceMaps ?? 'on',
      manifest: settings.output?.manifest ?? true,
      integrity: settings.output?.integrity ?? false,
      functionNames: settings.output?.functionNames ?? 'kept',
      inlineBytes: bytesOf(settings.output?.inlineBytes ?? 0),
      limits: Object.fromEntries(Object.entries(settings.output?.limits ?? {}).map(([name, size]) => [name, bytesOf(size!)])),
    },
    targets: line.targets ?? settings.targets,
    alias: Object.fromEntries(Object.entries(settings.alias ?? {}).map(([name, target]) => [name, fromProject(root, target)])),
    roots: (settings.roots ?? []).map((path) => fromProject(root, path)),
    conditions: settings.conditions ?? [],
    constants: {
      'process.env.NODE_ENV': JSON.stringify(mode),
      ...Object.fromEntries(
        Object.entries(exposedVariables(root, mode, settings.expose ?? [], process.env)).map(([name, value]) => [
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
    // The file may name the user's own certificate.
    ...(line.https === true && !file.listen?.https ? { https: true } : {}),
  };
  const given = line.forward?.map(({ path, to }) => ({ paths: [path], to })) ?? [];
  return {
    ...file,
    ...(line.base === undefined ? {} : { base: line.base }),
    ...(Object.keys(listen).length > 0 ? { listen } : {}),
    ...(line.run === undefined ? {} : { run: [...line.run.map((command) => ({ command })), ...(file.run ?? [])] }),
    ...(given.length > 0 ? { forward: [...given, ...(file.forward ?? [])] } : {}),
  };
}

function certificateOf(root: string, https: boolean | { key: string; certificate: string }) {
  if (typeof https === 'boolean') return https;
  return { key: resolve(root, https.key), certificate: resolve(root, https.certificate) };
}

/** A path of the settings from the project's folder: an absolute one of the disk is understood, beside one that begins at that folder. */
function fromProject(root: string, path: string): string {
  if (!isAbsolute(path)) return path;
  const real = realPathNow(path) ?? path;
  const isInside = real === root || real.startsWith(root + sep);
  if (!isInside && (existsSync(join(root, path)) || !existsSync(path))) return path;
  const fromRoot = relative(root, real);
  return fromRoot.startsWith('..') ? fromRoot : `./${fromRoot}`;
}

/** What pages of a backend may ask for, rules for forwarding included. */
function embedSettings(root: string, { embed = {}, forward = [] }: Settings): EmbedSettings {
  const id = (path: string) => idOf(root, resolve(root, fromProject(root, path).replace(/^\/+/, '')));
  const urls = Object.fromEntries(Object.entries(embed.urls ?? {}).map(([path, source]) => [path, id(source)]));
  const entries = [...(embed.entries ?? []), ...forward.flatMap((rule) => rule.entries ?? [])].map(id);
  return { from: embed.from ?? [], entries: [...new Set(entries)], urls, watch: embed.watch ?? [] };
}

const defaultConnectMs = 10_000;

function forwardRule(
  root: string,
  { paths, to, methods = [], headers = {}, timeouts = {}, path, ...rest }: RuleSettings,
): ForwardRule {
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
    html: rest.html ?? 'ours',
    entries: (rest.entries ?? [])
      .map((path) => fromProject(root, path))
      .map((path) => path.replace(/^\/+/, '').replace(/^(?:\.\/)+/, '')),
    timeouts: { connectMs: timeouts.connectMs ?? defaultConnectMs, answerMs: timeouts.answerMs ?? 0 },
  };
}

type RuleSettings = NonNullable<Settings['forward']>[number];
