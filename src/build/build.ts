import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { fileOfId } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import { ProjectGraph } from '../project/project-graph.js';
import { CompressedSizes } from './compressed-sizes.js';
import { findLastBuild, keepBuild, type Outcome } from './last-build.js';
import { checkLimits } from './limits.js';
import type { Manifest } from './manifest.js';
import { BuildMemory } from './memory.js';
import type { BuildOptions, BuildResult } from './options.js';
import { checkFolder, lastManifest, writeOutput } from './output-folder.js';
import { reportData } from './report.js';
import { Writer, type Written } from './writer.js';

/**
 * Reads a project for production and writes it out; or puts in place again what the last build came to, where nothing has changed.
 *
 * @throws VineError `output-refused`, or `BuildFailed` with the problems that keep a page from being built.
 */
export async function build(options: BuildOptions): Promise<BuildResult> {
  // What is wrong whatever the project holds is told at once.
  checkFolder(options.out, options.root, { sources: [], verbatim: options.verbatim });
  const since = Date.now();
  const last = findLastBuild(options);
  if (last) return putBack(last, options);
  const told = new Told(options);
  const project = begun(told.ofProject);
  try {
    options.onStage('reading modules');
    await project.readModules();
    for (const note of project.pages.all().flatMap(({ notes }) => notes)) told.ofBuild.onNote(note);
    const { result, made } = await writeOnce(project, told.ofBuild, new BuildMemory());
    if (!told.mayBeTold) return result;
    const { files, others, manifest } = made;
    const { modules, sizes, texts } = result;
    const { warnings, notes } = told;
    const outcome = { files, manifest, modules, sizes, sources: sourcesOf(project), texts, warnings, notes };
    return { ...result, keep: () => keepBuild(project, options, outcome, { others, since }) };
  } finally {
    await project.close();
  }
}

/** Takes down what a build tells, so that it can be told again. */
class Told {
  readonly warnings: Problem[] = [];
  readonly notes: string[] = [];
  /** The same options, for whoever reads the project, and for whoever writes it out. */
  readonly ofProject: BuildOptions;
  readonly ofBuild: BuildOptions;
  /** Nothing was told that may have to do with this time only, such as that the disk is full. */
  mayBeTold = true;

  constructor(options: BuildOptions) {
    const onWarning = (warning: Problem) => {
      this.warnings.push(warning);
      options.onWarning(warning);
    };
    const ofProject = (note: string) => {
      this.mayBeTold = false;
      options.onNote(note);
    };
    const ofBuild = (note: string) => {
      this.notes.push(note);
      options.onNote(note);
    };
    this.ofProject = { ...options, onWarning, onNote: ofProject };
    this.ofBuild = { ...options, onWarning, onNote: ofBuild };
  }
}

/** Puts in place what the last build came to, and tells the same. */
async function putBack(last: Outcome, options: BuildOptions): Promise<BuildResult> {
  options.onStage('nothing has changed since the last build');
  const { files, manifest, modules, sizes, sources, texts } = last;
  checkFolder(options.out, options.root, { sources, verbatim: options.verbatim });
  for (const warning of last.warnings) options.onWarning(warning);
  for (const note of last.notes) options.onNote(note);
  const { before, others } = putInPlace({ files, manifest }, options);
  return { manifest, modules, others, texts, compressed: new CompressedSizes(files), sizes, before, isUnchanged: true };
}

/** A project whose pages were read. */
function begun(options: BuildOptions): ProjectGraph {
  const project = new ProjectGraph(options, {
    changes: { added() {}, dropped() {} },
    onRead() {},
    onWarning: options.onWarning,
    onNote: options.onNote,
    turn: () => undefined,
  });
  project.readPages();
  return project;
}

/**
 * Writes out a project that was read. `memory` holds what an earlier build of this process made.
 *
 * @throws as `build` does.
 */
export async function write(project: ProjectGraph, options: BuildOptions, memory: BuildMemory): Promise<BuildResult> {
  return (await writeOnce(project, options, memory)).result;
}

/** The same, with what was made. */
async function writeOnce(
  project: ProjectGraph,
  options: BuildOptions,
  memory: BuildMemory,
): Promise<{ result: BuildResult; made: Written }> {
  await project.readLate();
  options.onStage(`leaving out what nobody needs of ${project.modules.size} modules`);
  // Warnings of modules come in a turn of their own.
  await new Promise((resolve) => setImmediate(resolve));
  if (project.problems.length > 0) throw new BuildFailed(project.problems);
  checkFolder(options.out, options.root, { sources: sourcesOf(project), verbatim: options.verbatim });
  const made = await new Writer(project, options, memory).write();
  const { files, manifest, fallbacks, compressed, program, modules } = made;
  const { before, others } = putInPlace(made, options);
  await project.writeKept();
  const texts = [...files].flatMap(([path, content]) =>
    /\.(?:js|css)$/.test(path) && typeof content === 'string' && path in manifest.files && !fallbacks.has(path) ? [path] : [],
  );
  const sizes = sizesOf(modules);
  const report = (name: string) => reportData({ name, project, program, manifest, texts: modules });
  return { result: { manifest, modules: program.graph.size, others, texts, compressed, sizes, before, report }, made };
}

/** Absolute paths of the files of modules. */
function sourcesOf({ modules, paths }: ProjectGraph): string[] {
  return [...modules.ids()].map((id) => paths.fileOf(fileOfId(id)));
}

/**
 * Puts the files of a build into its folder, if they keep to the limits. Returns the list of the last build there, and files of others.
 *
 * @throws VineError as `writeOutput` does, and `BuildFailed`.
 */
function putInPlace(
  { files, manifest }: Pick<Written, 'files' | 'manifest'>,
  { out, limits, empty, listFile }: BuildOptions,
): { before: Manifest | undefined; others: string[] } {
  const before = lastManifest(out, listFile);
  const exceeded = checkLimits(limits, manifest, before);
  if (exceeded.length > 0) throw new BuildFailed(exceeded);
  return { before, others: writeOutput(out, files, { manifest, empty, ...(listFile === undefined ? {} : { listFile }) }) };
}

/** What a build consists of, without writing it: the modules that are left, and the bytes of each in the scripts. */
export interface BuiltModules {
  project: ProjectGraph;
  graph: ModuleGraph<ModuleContent>;
  sizes: ReadonlyMap<string, number>;
}

/**
 * Builds a project and looks at what it comes to. Nothing is written.
 *
 * @throws BuildFailed with the problems that keep a page from being built.
 */
export async function builtModules(options: BuildOptions): Promise<BuiltModules> {
  const project = begun(options);
  await project.readModules();
  await project.readLate();
  if (project.problems.length > 0) throw new BuildFailed(project.problems);
  const { program, modules } = await new Writer(project, options, new BuildMemory()).write();
  await project.close();
  return { project, graph: program.graph, sizes: sizesOf(modules) };
}

/** Bytes of modules by their ids, over all files. */
function sizesOf(files: ReadonlyMap<string, ReadonlyMap<string, string>>): Map<string, number> {
  const sizes = new Map<string, number>();
  for (const inFile of files.values())
    for (const [id, text] of inFile) sizes.set(id, (sizes.get(id) ?? 0) + Buffer.byteLength(text));
  return sizes;
}

/** The project can't be built as it is. */
export class BuildFailed extends Error {
  readonly problems: readonly Problem[];

  constructor(problems: readonly Problem[]) {
    super('The project has problems.');
    this.problems = problems;
  }
}
