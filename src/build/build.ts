import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { fileOfId } from '../core/module-id.js';
import type { Problem } from '../core/problem/problem.js';
import { ProjectGraph } from '../project/project-graph.js';
import { checkLimits } from './limits.js';
import { BuildMemory } from './memory.js';
import type { BuildOptions, BuildResult } from './options.js';
import { checkFolder, lastManifest, writeOutput } from './output-folder.js';
import { reportData } from './report.js';
import { Writer } from './writer.js';

/**
 * Reads a project for production and writes it out.
 *
 * @throws VineError `output-refused`, or `BuildFailed` with the problems that keep a page from being built.
 */
export async function build(options: BuildOptions): Promise<BuildResult> {
  // What is wrong whatever the project holds is told at once.
  checkFolder(options.out, options.root, { sources: [], verbatim: options.verbatim });
  const project = begun(options);
  try {
    options.onStage('reading modules');
    await project.readModules();
    for (const note of project.pages.all().flatMap(({ notes }) => notes)) options.onNote(note);
    return await write(project, options);
  } finally {
    await project.close();
  }
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
export async function write(project: ProjectGraph, options: BuildOptions, memory = new BuildMemory()): Promise<BuildResult> {
  await project.readLate();
  options.onStage(`leaving out what nobody needs of ${project.modules.size} modules`);
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
  const sizes = sizesOf(modules);
  const report = (name: string) => reportData({ name, project, program, manifest, texts: modules });
  return { manifest, modules: program.graph.size, others, texts, sizes, before, report };
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
