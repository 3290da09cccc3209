import { cpSync, existsSync, linkSync, readdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { basename, dirname, join, relative, resolve, sep } from 'node:path';
import { VineError } from '../core/problem/problem.js';
import { manifestName } from '../project/files/built-folder.js';
import { makeFolder, realPathNow } from '../project/files/disk-files.js';
import type { Manifest } from './manifest.js';

/** Files of a build by their paths in the output folder. */
export type OutputFiles = ReadonlyMap<string, string | Buffer>;

/**
 * Refuses a folder in which a build would do harm: the project itself, one above it, one that holds sources.
 *
 * @throws VineError `output-refused`.
 */
export function checkFolder(
  folder: string,
  root: string,
  { sources, verbatim }: { sources: Iterable<string>; verbatim: readonly string[] },
): void {
  const target = realPathOf(folder);
  const refuse = (why: string) => {
    throw new VineError({
      code: 'output-refused',
      message: `The build can't be written to ${relative(root, folder) || folder}: ${why}.`,
      hint: 'Name a folder of its own, for example with --out dist.',
    });
  };
  if (target === root) refuse('it is the project itself');
  if (root.startsWith(target + sep)) refuse('the project lies in it');
  if (existsSync(target) && !statSync(target).isDirectory()) refuse('it is a file');
  for (const own of verbatim)
    if (target === own || target.startsWith(own + sep) || own.startsWith(target + sep)) refuse('its files are copied from there');
  for (const source of sources)
    if (source.startsWith(target + sep)) refuse(`it holds sources, such as ${relative(root, source)}`);
  if (['package.json', '.git', 'node_modules'].some((name) => existsSync(join(target, name))))
    refuse('it is a project of its own');
}

/** The path of a folder that need not be there, links followed as far as it is. */
function realPathOf(path: string): string {
  const full = resolve(path);
  const real = realPathNow(full);
  if (real !== undefined) return real;
  return dirname(full) === full ? full : join(realPathOf(dirname(full)), basename(full));
}

export interface WritingOptions {
  manifest: Manifest;
  /** What earlier builds wrote goes. */
  empty: boolean;
  /** Where the list of files is kept, if not in the folder. */
  listFile?: string;
}

/**
 * Puts a build in place by renaming: nobody ever sees half of one, and one that ends halfway leaves the last one as it was. Between
 * two renames there is no folder for an instant; a build that ends right there is put right by the next one. What earlier builds
 * wrote goes, files of others stay. Returns those, by their paths in the folder.
 *
 * @throws VineError `output-clash` and `output-unwritable`.
 */
export function writeOutput(folder: string, files: OutputFiles, { manifest, empty, listFile }: WritingOptions): string[] {
  const target = realPathOf(folder);
  const aside = join(dirname(target), `.${basename(target)}-${process.pid}`);
  clearUp(target);
  rmSync(aside, { recursive: true, force: true });
  try {
    for (const [path, content] of files) {
      makeFolder(dirname(join(aside, path)));
      writeFileSync(join(aside, path), content);
    }
    const ours = new Set(listed(lastManifest(target, listFile)));
    const others = existsSync(target) ? filesOfOthers(target, files, ours) : [];
    const older = empty ? [] : [...ours].filter((path) => !files.has(path) && existsSync(join(target, path)));
    for (const path of [...others, ...older]) {
      makeFolder(dirname(join(aside, path)));
      try {
        linkSync(join(target, path), join(aside, path));
      } catch {
        cpSync(join(target, path), join(aside, path)); // another file system, or one without such links
      }
    }
    swap(target, aside);
    if (listFile !== undefined && !files.has(manifestName)) keepList(listFile, manifest, older);
    return others;
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    if (error instanceof VineError || code === undefined) throw error;
    const message = `The build cannot be written to ${folder} (${code}).`;
    throw new VineError(
      { code: 'output-unwritable', message, hint: 'Free some room, or name another folder with --out.' },
      { cause: error },
    );
  } finally {
    rmSync(aside, { recursive: true, force: true });
  }
}

/** Takes away what builds that were killed left beside the folder, and puts the last good one back where it was just being replaced. */
function clearUp(target: string): void {
  const name = new RegExp(`^\\.${basename(target).replace(/[.*+?^${}()|[\]\\]/g, '\\$&')}-(\\d+)(-old)?$`);
  const parent = dirname(target);
  for (const entry of existsSync(parent) ? readdirSync(parent) : []) {
    const [, pid, isOld] = name.exec(entry) ?? [];
    if (pid === undefined || isAlive(Number(pid))) continue;
    if (isOld && !existsSync(target)) renameSync(join(parent, entry), target);
    else rmSync(join(parent, entry), { recursive: true, force: true });
  }
}

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return pid !== process.pid;
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'EPERM'; // another user's
  }
}

function swap(target: string, aside: string): void {
  const old = `${aside}-old`;
  if (existsSync(target)) renameSync(target, old);
  try {
    renameSync(aside, target);
  } catch (error) {
    if (existsSync(old)) renameSync(old, target);
    throw error;
  }
  rmSync(old, { recursive: true, force: true });
}

/**
 * Files that no build of ours wrote, by the list of the last one.
 *
 * @throws VineError `output-clash` where this build wants the path of one.
 */
function filesOfOthers(folder: string, files: OutputFiles, ours: ReadonlySet<string>): string[] {
  const all = readdirSync(folder, { recursive: true, withFileTypes: true }).filter((entry) => !entry.isDirectory());
  const paths = all.map((entry) => relative(folder, join(entry.parentPath, entry.name)).split(sep).join('/'));
  const others = paths.filter((path) => !ours.has(path));
  const [clash] = others.filter((path) => files.has(path));
  if (clash !== undefined)
    throw new VineError({
      code: 'output-clash',
      message: `The build would write over ${clash} in ${basename(folder)}, which no build of Vine Spark has written.`,
      hint: 'Move or delete that file, or name another folder with --out.',
    });
  return others;
}

/** The list of the last build of ours in a folder, or beside it; `undefined` where there is none. */
export function lastManifest(folder: string, listFile: string | undefined): Manifest | undefined {
  for (const file of [join(folder, manifestName), ...(listFile === undefined ? [] : [listFile])]) {
    try {
      const manifest = JSON.parse(readFileSync(file, 'utf8')) as Partial<Manifest>;
      if (manifest.builtBy === 'Vine Spark') return { ...emptyManifest, ...manifest };
    } catch {
      // The first build here, or somebody else's file.
    }
  }
  return undefined;
}

const emptyManifest: Manifest = { builtBy: 'Vine Spark', version: 1, base: '/', pages: {}, assets: {}, files: {} };

function listed(manifest: Manifest | undefined): string[] {
  return manifest ? [manifestName, ...Object.keys(manifest.files)] : [];
}

function keepList(file: string, manifest: Manifest, older: readonly string[]): void {
  const files = { ...manifest.files, ...Object.fromEntries(older.map((path) => [path, { bytes: 0 }])) };
  makeFolder(dirname(file));
  writeFileSync(file, JSON.stringify({ ...manifest, files }));
}
