import { existsSync, mkdirSync, readFileSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { crc32 } from 'node:zlib';
import type { Problem } from '../core/problem/problem.js';
import { contentHash } from '../core/text/content-hash.js';
import { hashOfFile } from '../project/files/module-files.js';
import { areStill, type Inputs, takeInputs } from '../project/kept/inputs.js';
import { dropOldest } from '../project/kept/last-start.js';
import { isAllKnown, optionsKey, readOf, translatorsOf } from '../project/kept/read-of.js';
import { readSealed, writeBytes, writeSealed } from '../project/kept/sealed-file.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { Manifest } from './manifest.js';
import type { BuildOptions } from './options.js';
import type { OtherFiles } from './other-files.js';
import type { OutputFiles } from './output-folder.js';

/** What a build came to, and what it told. */
export interface Outcome {
  files: OutputFiles;
  manifest: Manifest;
  /** Absolute paths of the files of modules. */
  sources: readonly string[];
  /** Paths of the scripts and sheets that are told of. */
  texts: readonly string[];
  /** Number of modules in the output. */
  modules: number;
  /** Bytes of each module in scripts. */
  sizes: ReadonlyMap<string, number>;
  warnings: readonly Problem[];
  notes: readonly string[];
}

interface KeptFile extends Omit<Outcome, 'files' | 'sizes'> {
  key: string;
  inputs: Inputs;
  sizes: [string, number][];
  /** Where each file begins and ends among the bytes of all. */
  files: [path: string, start: number, end: number][];
  /** The CRC-32 of those. */
  sum: number;
}

/** Builds that are kept, e.g. with different settings. */
const keptBuilds = 2;
const beginning = 'build-';
const listName = 'build.json';
const bytesName = 'files.kept';

/** What the last build with these options came to, where everything that it was made of is as it was. */
export function findLastBuild(options: BuildOptions): Outcome | undefined {
  const { cacheFolder, sameAs } = options;
  if (cacheFolder === undefined || sameAs === undefined) return undefined;
  const key = keyOf(options, sameAs);
  const folder = folderOf(cacheFolder, key);
  try {
    if (!existsSync(join(folder, listName))) return undefined;
    const kept = readSealed(join(folder, listName)) as KeptFile;
    if (kept.key !== key || !areStill(kept.inputs)) return undefined;
    const bytes = readFileSync(join(folder, bytesName));
    if (crc32(bytes) !== kept.sum) throw new Error(`${bytesName} is damaged`);
    const files = new Map(kept.files.map(([path, start, end]) => [path, bytes.subarray(start, end)]));
    return { ...kept, files, sizes: new Map(kept.sizes) };
  } catch (error) {
    drop(folder);
    options.onNote(`the last build is not used: ${error instanceof Error ? error.message : String(error)}`);
    return undefined;
  }
}

/**
 * Keeps what a build came to, where all that it was made of can be told. `since`: no file was read before that time (as of `Date.now()`).
 * Does nothing where it can't be written: that only costs the next build time.
 */
export async function keepBuild(
  project: ProjectGraph,
  options: BuildOptions,
  outcome: Outcome,
  { others, since }: { others: OtherFiles; since: number },
): Promise<void> {
  const { cacheFolder, sameAs } = options;
  if (cacheFolder === undefined || sameAs === undefined || !isAllKnown({ options, compiler: project.compiler })) return;
  const read = readOf({ ...project, options, graph: project.modules });
  // What the settings said is in the key; what it's made of only tells that it may be another by now.
  const settings = options.settingsFiles.map((path) => [path, hashOfFile(path)] as const);
  const files = new Map([...others.hashes, ...settings, ...read.files]);
  const folders = new Map([...others.folders, ...read.folders]);
  const links = new Map([...others.kinds, ...read.links]);
  const inputs = takeInputs({ ...read, files, folders, links }, since, { isWatched: false, without: options.out });
  if (!inputs) return;
  const key = keyOf(options, sameAs);
  const folder = folderOf(cacheFolder, key);
  try {
    mkdirSync(folder, { recursive: true });
    const parts: Buffer[] = [];
    let at = 0;
    const places = [...outcome.files].map(([path, content]): KeptFile['files'][number] => {
      const part = typeof content === 'string' ? Buffer.from(content) : content;
      parts.push(part);
      at += part.length;
      return [path, at - part.length, at];
    });
    const bytes = Buffer.concat(parts);
    writeBytes(join(folder, bytesName), bytes);
    const sizes = [...outcome.sizes];
    const kept: KeptFile = { ...outcome, key, inputs, sizes, files: places, sum: crc32(bytes) };
    await writeSealed(join(folder, listName), kept);
    dropOldest(cacheFolder, beginning, keptBuilds);
  } catch {
    drop(folder); // the disk is full, or the folder went away
  }
}

/** What decides beside files about what a build comes to. */
function keyOf(options: BuildOptions, sameAs: string): string {
  return [optionsKey(options), sameAs, options.browsers.names.join(), translatorsOf(options.root)].join(' ');
}

function folderOf(cacheFolder: string, key: string): string {
  return join(cacheFolder, `${beginning}${contentHash(key)}`);
}

function drop(folder: string): void {
  try {
    rmSync(folder, { recursive: true, force: true });
  } catch {
    // It may not be written, and is found to be damaged again.
  }
}
