import { join, relative } from 'node:path';
import { brotliCompressSync, gzipSync } from 'node:zlib';
import { Command, Option } from 'commander';
import type { BuildResult } from '../../build/build.js';
import type { Problem } from '../../core/problem/problem.js';
import { contentHash } from '../../core/text/content-hash.js';
import { noTrace } from '../../core/trace.js';
import { compileRule, findRule } from '../../forward/rule.js';
import { type CommandLineSettings, type EffectiveSettings, effectiveSettings } from '../../settings/effective.js';
import { cacheFolderOf, projectOptions } from '../compose.js';
import { parseBase } from '../options.js';
import { buildTable } from '../report/build-table.js';
import { printProblem } from '../report/problem-text.js';

/** Options of `build` as Commander gives them. */
export interface BuildCommandOptions extends Pick<CommandLineSettings, 'base' | 'settings' | 'out' | 'sourceMaps'> {
  minify: boolean;
  cache: boolean;
  json?: boolean;
}

/** `vine-spark build [page]`. */
export function buildCommand(): Command {
  return new Command('build')
    .description('write the pages that serve serves as files for any host or backend')
    .argument('[page]', 'an HTML file, or a folder with some (default: this folder)')
    .option('--out <folder>', 'folder to write to (default: dist)')
    .option('--base <path>', 'URL prefix of the whole front end (default: /)', parseBase)
    .option('--no-minify', 'leave scripts and styles as they are')
    .addOption(new Option('--source-maps <kind>', 'on, hidden or off (default: on)').choices(['on', 'hidden', 'off']))
    .option('--settings <file>', 'settings file (default: vine-spark.config.ts, .js, .mjs or .json)')
    .option('--no-cache', 'use nothing of earlier runs, and keep nothing')
    .option('--json', 'print what was built as JSON')
    .action(async (page: string | undefined, options: BuildCommandOptions) => {
      process.exitCode = await runBuild(page, options);
    });
}

/** Builds once. Returns the exit code: 0, or 1 where there are problems. */
async function runBuild(page: string | undefined, options: BuildCommandOptions): Promise<number> {
  const from = performance.now();
  const line = { ...options, ...(page === undefined ? {} : { page }) };
  const settings = await effectiveSettings(process.cwd(), line, 'production');
  const cacheFolder = options.cache ? cacheFolderOf(settings.root) : undefined;
  const rules = settings.forward.map(compileRule);
  const warnings: Problem[] = [];
  const notes: string[] = [];
  const { build, BuildFailed } = await import('../../build/build.js');
  try {
    const result = await build({
      ...projectOptions(settings, { cacheFolder, trace: noTrace }),
      ...outputOf(settings),
      minify: options.minify,
      isElsewhere: (path) =>
        (['first', 'missing'] as const).some((when) => findRule(rules, { path, method: 'GET', headers: {} }, when)),
      onWarning: (warning) => warnings.push(warning),
      onNote: (note) => notes.push(note),
    });
    const { folder } = settings.output;
    tell(result, { warnings, notes, ms: performance.now() - from, folder, base: settings.base, json: options.json === true });
    return 0;
  } catch (error) {
    if (!(error instanceof BuildFailed)) throw error;
    const { problems } = error;
    if (options.json) process.stdout.write(`${JSON.stringify({ event: 'problems', problems, warnings })}\n`);
    else for (const problem of [...warnings, ...problems]) printProblem(problem);
    return 1;
  }
}

/** How and where settings say that a build is to be written. */
function outputOf({ root, output }: EffectiveSettings) {
  const { folder, ...rest } = output;
  const kept = output.manifest ? undefined : cacheFolderOf(root);
  const listFile = kept === undefined ? {} : { listFile: join(kept, 'outputs', `${contentHash(folder)}.json`) };
  // Without a list, the next build couldn't tell its files from others.
  return { out: folder, ...rest, manifest: output.manifest || kept === undefined, ...listFile };
}

interface Told {
  warnings: readonly Problem[];
  notes: readonly string[];
  ms: number;
  folder: string;
  base: string;
  json: boolean;
}

function tell(result: BuildResult, { warnings, notes, ms, folder, base, json }: Told): void {
  const sizes = Object.fromEntries(
    [...result.texts].map(([path, content]) => {
      const bytes = Buffer.from(content);
      return [path, { raw: bytes.length, gzip: gzipSync(bytes).length, brotli: brotliCompressSync(bytes).length }];
    }),
  );
  const { manifest, modules, others } = result;
  if (json)
    return void process.stdout.write(
      `${JSON.stringify({ event: 'built', manifest, sizes, modules, others, warnings, notes, ms })}\n`,
    );
  for (const warning of warnings) printProblem(warning);
  const shown = relative(process.cwd(), folder) || folder;
  process.stdout.write(buildTable({ manifest, sizes, modules, others, notes, ms, base, folder: shown }));
}
