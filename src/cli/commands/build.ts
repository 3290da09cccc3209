import { existsSync } from 'node:fs';
import { join, relative, resolve } from 'node:path';
import { Command, Option } from 'commander';
import type { BuildOptions } from '../../build/options.js';
import { type Problem, VineError } from '../../core/problem/problem.js';
import { installCommandFor } from '../../core/resolve/explain-failure.js';
import { contentHash } from '../../core/text/content-hash.js';
import { noTrace } from '../../core/trace.js';
import { compileRule, findRule } from '../../forward/rule.js';
import { type CommandLineSettings, type EffectiveSettings, effectiveSettings } from '../../settings/effective.js';
import { cacheFolderOf, projectOptions } from '../compose.js';
import { examples } from '../examples.js';
import { parseBase } from '../options.js';
import { projectName } from '../project-name.js';
import { BuildReporter } from '../report/build-reporter.js';
import { closeOnSignals, withPlainSignals } from '../staying-alive.js';
import { textsOf } from '../texts-of.js';

/** Options of `build` as Commander gives them. */
export interface BuildCommandOptions extends Pick<CommandLineSettings, 'base' | 'settings' | 'out' | 'sourceMaps' | 'targets'> {
  minify: boolean;
  cache: boolean;
  watch?: boolean;
  report?: string;
  json?: boolean;
}

/** `vine-spark build [page]`. */
export function buildCommand(): Command {
  return new Command('build')
    .description('write the pages that serve serves as files for any host or backend')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .option('--out <folder>', 'folder to write to (default: dist)')
    .option('--base <path>', 'URL prefix of the whole front end (default: /)', parseBase)
    .option(
      '--targets <query>',
      'browsers that it is for, as a browserslist query (default: those of the project, or widely available ones)',
    )
    .option('--no-minify', 'leave scripts and styles as they are')
    .addOption(new Option('--source-maps <kind>', 'on, hidden or off (default: on)').choices(['on', 'hidden', 'off']))
    .option('--watch', 'build again whenever something changes')
    .option('--report <file>', 'write a page that shows what is in each file, and why')
    .option('--types', "check types too, with the project's own TypeScript")
    .option('--settings <file>', 'settings file (default: vine-spark.config.ts, .js, .mjs or .json)')
    .option('--no-cache', 'use nothing of earlier runs, and keep nothing')
    .option('--json', 'print what was built as JSON')
    .addHelpText(
      'after',
      examples(
        ['build', 'the pages of this folder, to dist'],
        ['build --base /static/ --out ../backend/static', 'for a backend that renders pages'],
        ['build --report report.html', 'what is in each file, and why'],
        ['build --watch', 'again after each change'],
      ),
    )
    .action(async (page: string | undefined, options: BuildCommandOptions) => {
      process.exitCode = await runBuild(page, options);
    });
}

/** Builds once, or again and again. Returns the exit code: 0, or 1 where there are problems. */
async function runBuild(page: string | undefined, options: BuildCommandOptions): Promise<number> {
  const from = performance.now();
  const line = { ...options, ...(page === undefined ? {} : { page }) };
  const settings = await effectiveSettings(process.cwd(), line, 'production');
  const read = () => effectiveSettings(process.cwd(), line, 'production', withPlainSignals);
  if (options.watch) return watch(settings, options, read);
  const reporter = reporterFor(settings, options);
  const { build, BuildFailed } = await import('../../build/build.js');
  await warnOfVersions(settings, reporter);
  try {
    const found = settings.types ? await typeProblems(settings.root) : [];
    if (found.length > 0) throw new BuildFailed(found);
    const result = await build(await optionsFor(settings, options, reporter));
    await reporter.built(result, performance.now() - from);
    await result.keep?.();
    return 0;
  } catch (error) {
    if (!(error instanceof BuildFailed)) throw error;
    reporter.failed(error.problems);
    return 1;
  }
}

/** What will fail for its version is told before it does. */
async function warnOfVersions({ root }: EffectiveSettings, reporter: BuildReporter): Promise<void> {
  const { versionWarnings } = await import('../../check/versions.js');
  for (const warning of versionWarnings(root, installCommandFor(root, existsSync))) reporter.warn(warning);
}

/** What the project's own compiler says. */
async function typeProblems(root: string): Promise<Problem[]> {
  const { checkTypes, findCompiler } = await import('../../types/type-checker.js');
  const compiler = findCompiler(root, installCommandFor(root, existsSync));
  return 'program' in compiler ? checkTypes(root, compiler) : [compiler];
}

/** Builds whenever something changes, until the process is asked to end. */
async function watch(
  first: EffectiveSettings,
  options: BuildCommandOptions,
  read: () => Promise<EffectiveSettings>,
): Promise<number> {
  const { BuildWatch } = await import('../../build/watch.js');
  let current: InstanceType<typeof BuildWatch> | undefined;
  let turns = Promise.resolve();
  /** What the settings in force were read from. */
  let inForce: string | undefined;
  const start = async (settings: EffectiveSettings, isWanted = true) => {
    const reporter = reporterFor(settings, options);
    const failure = (error: Error) => reporter.failed(error instanceof VineError ? error.problems : [internalError(error)]);
    const startOver = async (ofPages: boolean) => {
      try {
        await start(await read(), ofPages);
      } catch (error) {
        // The last good settings stay.
        inForce = undefined;
        if (error instanceof VineError) current?.watchSettings(error.madeOf);
        failure(error as Error);
      }
    };
    if (settings === first) await warnOfVersions(settings, reporter);
    const all = await optionsFor(settings, options, reporter);
    // One save may be noticed twice, and package.json says more than what browsers it's for.
    const madeOf = JSON.stringify([textsOf(settings.sources), all.browsers.names]);
    if (!isWanted && madeOf === inForce) return;
    const next = new BuildWatch(all, {
      built: (result, ms) => void reporter.built(result, ms).catch(failure),
      failed: (problems) => reporter.failed(problems),
      failure,
      settingsChanged: (ofPages) => {
        turns = turns.then(() => startOver(ofPages));
      },
    });
    await current?.close();
    current = next;
    inForce = madeOf;
    await next.begin();
  };
  // What is half written stands aside, and the next build takes it away.
  closeOnSignals(async () => {});
  await start(first);
  return 0;
}

function internalError(error: Error): Problem {
  const message = `Vine Spark failed on a build: ${error.message}`;
  return { code: 'internal-error', severity: 'error', message, hint: error.stack ?? '' };
}

function reporterFor(
  { root, output }: EffectiveSettings,
  { json, watch: isWatching, report }: BuildCommandOptions,
): BuildReporter {
  return new BuildReporter({
    name: projectName(root),
    folder: relative(process.cwd(), output.folder) || output.folder,
    json: json === true,
    isWatching: isWatching === true,
    ...(report === undefined ? {} : { reportFile: resolve(report) }),
  });
}

/** How a project is built under settings. */
export async function optionsFor(
  settings: EffectiveSettings,
  { cache, minify, watch, report }: Pick<BuildCommandOptions, 'cache' | 'minify' | 'watch' | 'report'>,
  reporter: Pick<BuildReporter, 'stage' | 'warn' | 'note'>,
): Promise<BuildOptions> {
  // The lists of browsers take their time to load, and only builds need them.
  const { resolveTargets, targetFiles } = await import('../../build/targets.js');
  const rules = settings.forward.map(compileRule);
  const cacheFolder = cache ? cacheFolderOf(settings.root) : undefined;
  const browsers = resolveTargets(settings.targets, settings.root);
  const read = projectOptions(settings, { cacheFolder, trace: noTrace });
  const listed = watch && settings.targets === undefined ? targetFiles(settings.root) : [];
  return {
    ...read,
    settingsFiles: [...read.settingsFiles, ...listed],
    ...outputOf(settings),
    minify,
    browsers,
    // The report shows what is known while a build is made only.
    ...(watch || report !== undefined ? {} : { sameAs: JSON.stringify([settings, minify]) }),
    targets: { edition: browsers.edition === 5 ? 2015 : browsers.edition },
    isElsewhere: (path) =>
      (['first', 'missing'] as const).some((when) => findRule(rules, { path, method: 'GET', headers: {} }, when)),
    onStage: (stage) => reporter.stage(stage),
    onWarning: (warning) => reporter.warn(warning),
    onNote: (note) => reporter.note(note),
  };
}

/** How and where settings say that a build is to be written. */
function outputOf({ root, output }: EffectiveSettings) {
  const { folder, ...rest } = output;
  const kept = output.manifest ? undefined : cacheFolderOf(root);
  const listFile = kept === undefined ? {} : { listFile: join(kept, 'outputs', `${contentHash(folder)}.json`) };
  // Without a list, the next build couldn't tell its files from others.
  return { out: folder, ...rest, manifest: output.manifest || kept === undefined, ...listFile };
}
