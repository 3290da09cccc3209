import { fileOfId } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import type { ProjectOptions } from '../project/options.js';
import { ProjectGraph } from '../project/project-graph.js';
import { checkLimits, type Limits } from './limits.js';
import type { Manifest } from './manifest.js';
import { BuildMemory } from './memory.js';
import { checkFolder, lastManifest, writeOutput } from './output-folder.js';
import { type ReportData, reportData } from './report.js';
import type { BuildTargets } from './targets.js';
import { Writer } from './writer.js';

export interface BuildOptions extends ProjectOptions {
  /** Absolute path of the folder to write to. */
  out: string;
  minify: boolean;
  /** What the output has to be understood by. */
  browsers: BuildTargets;
  /** `hidden`: written, and not named by the files that they belong to. */
  sourceMaps: 'on' | 'hidden' | 'off';
  /** Take away what earlier builds wrote. */
  empty: boolean;
  /** Write the list of files into the folder. */
  manifest: boolean;
  /** Absolute path of a file that keeps that list where the folder doesn't. */
  listFile?: string;
  /** Scripts, styles and preloads say what their content has to be. */
  integrity: boolean;
  /** `free`: the program doesn't look at the names of its functions and classes, so that they may be shorter. */
  functionNames: 'kept' | 'free';
  /** Images and fonts up to this size, in bytes, become part of what uses them. */
  inlineBytes: number;
  /** What mustn't be exceeded, in bytes. */
  limits: Limits;
  /** Whether somebody else answers a path, such as a backend, by a rule. */
  isElsewhere(path: string): boolean;
  onWarning(warning: Problem): void;
  onNote(note: string): void;
}

/** What a build came to. */
export interface BuildResult {
  manifest: Manifest;
  /** Number of modules in the output. */
  modules: number;
  /** Files in the folder that are none of ours. */
  others: string[];
  /** Scripts and styles by path. */
  texts: ReadonlyMap<string, string>;
  /** Bytes of each module in scripts. */
  sizes: ReadonlyMap<string, number>;
  /** Made when it's asked for. */
  report(name: string): ReportData;
  /** What the last build in this folder wrote. */
  before: Manifest | undefined;
}

/**
 * Reads a project for production and writes it out.
 *
 * @throws VineError `output-refused`, or `BuildFailed` with the problems that keep a page from being built.
 */
export async function build(options: BuildOptions): Promise<BuildResult> {
  const project = new ProjectGraph(options, {
    changes: { added() {}, dropped() {} },
    onLoaded() {},
    onWarning: options.onWarning,
    onNote: options.onNote,
    turn: () => undefined,
  });
  project.readPages();
  try {
    await project.readModules();
    return await write(project, options);
  } finally {
    await project.close();
  }
}

/**
 * Writes out a project that was read. `memory` holds what an earlier build of this process made.
 *
 * @throws as `build` does.
 */
export async function write(project: ProjectGraph, options: BuildOptions, memory = new BuildMemory()): Promise<BuildResult> {
  await readLate(project);
  // Warnings of modules come in a turn of their own.
  await new Promise((resolve) => setImmediate(resolve));
  if (project.problems.length > 0) throw new BuildFailed(project.problems);
  const sources = [...project.modules.ids()].map((id) => project.paths.fileOf(fileOfId(id)));
  checkFolder(options.out, options.root, { sources, verbatim: options.verbatim });
  const { files, manifest, fallbacks, program, modules } = await new Writer(project, options, memory).write();
  const before = lastManifest(options.out, options.listFile);
  const exceeded = checkLimits(options.limits, manifest, before);
  if (exceeded.length > 0) throw new BuildFailed(exceeded);
  const { empty, listFile } = options;
  const others = writeOutput(options.out, files, { manifest, empty, ...(listFile === undefined ? {} : { listFile }) });
  await project.writeKept();
  const texts = new Map<string, string>();
  for (const [path, content] of files)
    if (/\.(?:js|css)$/.test(path) && typeof content === 'string' && path in manifest.files && !fallbacks.has(path))
      texts.set(path, content);
  const sizes = new Map<string, number>();
  for (const inFile of modules.values()) for (const [id, text] of inFile) sizes.set(id, Buffer.byteLength(text));
  const report = (name: string) => reportData({ name, project, program, manifest, texts: modules });
  return { manifest, modules: program.graph.size, others, texts, sizes, before, report };
}

/** The project can't be built as it is. */
export class BuildFailed extends Error {
  readonly problems: readonly Problem[];

  constructor(problems: readonly Problem[]) {
    super('The project has problems.');
    this.problems = problems;
  }
}

/** Reads what stands behind every `import()` and in every worker: a build can't wait until somebody asks. */
async function readLate(project: ProjectGraph): Promise<void> {
  const asked = new Set<string>();
  for (;;) {
    const targets = [...project.modules.ids()].flatMap((id) =>
      project.modules.edges(id).flatMap(({ kind, target }) => (kind === 'dynamic' || kind === 'worker' ? [target] : [])),
    );
    const fresh = targets.filter((id) => !asked.has(id));
    if (fresh.length === 0) return;
    for (const id of fresh) asked.add(id);
    await Promise.all(fresh.map((id) => project.builder.askFor(id)));
    await project.builder.settle();
  }
}
