import { createRequire } from 'node:module';
import { dirname, join, resolve } from 'node:path';
import browserslist from 'browserslist';
import type Lightning from 'lightningcss';
import type { Targets } from 'lightningcss';
import { lazily } from '../core/lazily.js';
import { VineError } from '../core/problem/problem.js';

const lightning = lazily<typeof Lightning>('lightningcss');

/** What a build's scripts and sheets have to be understood by. */
export interface BuildTargets {
  /** The edition of ECMAScript that all of them know; 5 where some know no modules, in whichever edition. */
  edition: Edition;
  /** The browsers, by their names and versions. */
  names: readonly string[];
  /** Some of them know no `import()`. */
  lacksImport: boolean;
  readonly sheets: Targets;
}

/** Browsers for which nothing is said: what has been in all of them for two and a half years. */
const usual = 'baseline widely available';

/**
 * The browsers of a query, or of the project's own browserslist file or package.json, or widely available ones.
 *
 * @throws VineError `unknown-setting` for what is no query.
 */
export function resolveTargets(query: string | undefined, root: string): BuildTargets {
  let browsers: string[];
  try {
    // What was read before may have changed meanwhile.
    browserslist.clearCaches();
    const own = query ?? browserslist.loadConfig({ path: root, env: 'production' });
    browsers = browserslist(own ?? usual, { path: root });
  } catch (error) {
    const message = `The targets are no browserslist query: ${(error as Error).message.split('\n')[0]!.replace(/\.$/, '')}.`;
    throw new VineError({
      code: 'unknown-setting',
      message,
      hint: "Write for example targets: 'chrome 100, safari 15' or 'defaults'.",
    });
  }
  const lowest = new Map<string, number>();
  let isOld = false;
  for (const browser of browsers) {
    const engine = engineOf(browser);
    if (engine === 'old') isOld = true;
    if (engine === undefined || engine === 'old') continue;
    lowest.set(engine.name, Math.min(engine.version, lowest.get(engine.name) ?? Number.POSITIVE_INFINITY));
  }
  const isBelow = (versions: Record<string, number>) => [...lowest].some(([name, version]) => version < (versions[name] ?? 0));
  let sheets: BuildTargets['sheets'] | undefined;
  const known = editions.find(([, versions]) => !isBelow(versions))?.[0] ?? 2015;
  return {
    edition: isOld || isBelow(withModules) ? 5 : known,
    names: browsers,
    lacksImport: isOld || isBelow(withImport),
    // Only projects with style sheets need what knows them.
    get sheets() {
      sheets ??= lightning().browserslistToTargets(browsers);
      return sheets;
    },
  };
}

/**
 * Absolute paths of the files that say what browsers a project is for, and of those that may come to: in its folder, and in those
 * above it up to one that does.
 */
export function targetFiles(root: string): string[] {
  const { BROWSERSLIST_CONFIG: named } = process.env;
  if (named) return [resolve(named)];
  const found = browserslist.findConfigFile(root);
  const last = found === undefined ? root : dirname(found);
  const folders = [root];
  for (let folder = dirname(root); folder.length >= last.length && folder !== folders.at(-1); folder = dirname(folder))
    folders.push(folder);
  return folders.flatMap((folder) => ['browserslist', '.browserslistrc', 'package.json'].map((name) => join(folder, name)));
}

export type Edition = 5 | 2015 | 2017 | 2018 | 2019 | 2020 | 2021 | 2022;

const withModules = { chrome: 61, edge: 16, firefox: 60, safari: 10.1, ios: 10.3, opera: 48 };
const withImport = { chrome: 63, edge: 79, firefox: 67, safari: 11.1, ios: 11.3, opera: 50 };

/** The versions of engines that first knew all the syntax of an edition, newest first. */
const editions: [Edition, Record<string, number>][] = [
  [2022, { chrome: 94, edge: 94, firefox: 93, safari: 16.4, ios: 16.4, opera: 80 }],
  [2021, { chrome: 85, edge: 85, firefox: 79, safari: 14.1, ios: 14.5, opera: 71 }],
  [2020, { chrome: 80, edge: 80, firefox: 74, safari: 13.1, ios: 13.4, opera: 67 }],
  [2019, { chrome: 73, edge: 79, firefox: 64, safari: 12.1, ios: 12.2, opera: 60 }],
  [2018, { chrome: 64, edge: 79, firefox: 57, safari: 12, ios: 12, opera: 51 }],
  [2017, { chrome: 58, edge: 16, firefox: 53, safari: 11, ios: 11, opera: 45 }],
];

const engineNames: Record<string, string> = {
  chrome: 'chrome',
  and_chr: 'chrome',
  edge: 'edge',
  firefox: 'firefox',
  and_ff: 'firefox',
  safari: 'safari',
  ios_saf: 'ios',
  opera: 'opera',
};

/** Versions of Chrome that browsers with version numbers of their own are made of. */
const samsung = [
  [4, 44],
  [5, 51],
  [6, 56],
  [7, 59],
  [8, 63],
  [9, 67],
  [10, 71],
  [11, 75],
  [12, 79],
  [13, 81],
  [14, 87],
  [15, 90],
  [16, 92],
  [17, 96],
  [18, 99],
  [19, 102],
  [20, 106],
  [21, 110],
  [22, 111],
  [23, 115],
  [24, 117],
  [25, 121],
] as const;
const made: Record<string, number> = { and_uc: 100, and_qq: 98, baidu: 97, op_mob: 100 };

/** A browser of a list as an engine; `old` for one that knows no modules, `undefined` for one that nothing is known of. */
function engineOf(browser: string): { name: string; version: number } | 'old' | undefined {
  const [name = '', versions = ''] = browser.split(' ');
  if (name === 'ie' || name === 'ie_mob' || name === 'op_mini' || name === 'bb') return 'old';
  const version = Number.parseFloat(versions);
  if (Number.isNaN(version)) return undefined;
  const engine = engineNames[name];
  if (engine) return { name: engine, version };
  if (name === 'android') return version < 5 ? 'old' : { name: 'chrome', version };
  if (name === 'samsung') return { name: 'chrome', version: samsung.findLast(([own]) => own <= version)?.[1] ?? 44 };
  if (name === 'kaios') return version < 3 ? 'old' : { name: 'firefox', version: 84 };
  return made[name] === undefined ? undefined : { name: 'chrome', version: made[name] };
}

/** A translator to ECMAScript 5, as far as it's used here. */
export interface OldTranslator {
  transform(text: string, options: object): Promise<{ code: string; map?: string }>;
  minify(text: string, options: object): Promise<{ code: string; map?: string }>;
}

/**
 * The translator to ECMAScript 5 that the project has.
 *
 * @throws VineError `translator-missing`.
 */
export function oldTranslator(root: string, installCommand: string): OldTranslator {
  try {
    return createRequire(join(root, 'package.json'))('@swc/core') as OldTranslator;
  } catch (error) {
    const message =
      'Some of the targets know no modules, so scripts have to be written in ECMAScript 5, for which a translator is missing.';
    const hint = `Install one: ${installCommand} -D @swc/core. Or leave such browsers out of the targets.`;
    throw new VineError({ code: 'translator-missing', message, hint }, { cause: error });
  }
}
