import type { Stats } from 'node:fs';
import { contentHash } from '../../core/text/content-hash.js';
import { entriesOnDisk, type FolderEntries, kindOnDisk, realPathNow, type SeenOnDisk, statNow } from '../files/disk-files.js';
import { hashOfFile } from '../files/module-files.js';

/**
 * A file or folder that something was made of: what tells its state without reading it, and the hash of what was read.
 * `''` where that isn't known; both are where there was nothing.
 */
type Input = [path: string, stamp: string, hash: string];

/** Everything on disk that decided what a start gave. */
export interface Inputs {
  files: Input[];
  folders: Input[];
  links: [path: string, kind: string][];
  realPaths: [path: string, real: string][];
  /** Something in one of the folders that may come and go. */
  without?: string;
}

export interface InputsTaken extends SeenOnDisk {
  /** Hashes of files by path, `''` where it isn't known and `undefined` where the file wasn't there. */
  files: ReadonlyMap<string, string | undefined>;
}

/** Clocks of file systems may be this coarse. */
const coarsestMs = 2500;
/** A change of this age, in milliseconds, has been noticed by whoever watches. */
export const noticedMs = 500;

/**
 * Takes down what something was made of. `since`: no file was read before that time (as of `Date.now()`). `isWatched`: whoever asks
 * knows of every change of what was read; otherwise all get their hashes, so that they may be the same in another checkout too.
 * `without`: a path that doesn't count.
 * `undefined` where something can't be told from what it will be.
 */
export function takeInputs(
  { files, folders, links, realPaths }: InputsTaken,
  since: number,
  { isWatched = true, without }: { isWatched?: boolean; without?: string } = {},
): Inputs | undefined {
  const until = since - coarsestMs;
  const input = (path: string, hash: string | undefined): Input | undefined => {
    const stats = statNow(path);
    if (hash === undefined) return stats === undefined || stats.ctimeMs >= until ? [path, '', ''] : undefined;
    // What changed since may have been read before or after.
    const stamp = stats && stats.ctimeMs < until ? stampOf(stats) : '';
    if (stamp !== '' && hash === '' && !isWatched) return [path, stamp, stats?.isFile() ? (hashOfFile(path) ?? '') : ''];
    if (stamp !== '' || hash !== '') return [path, stamp, hash];
    if (!isWatched) return undefined;
    const isNoticed = stats !== undefined && stats.ctimeMs < Date.now() - noticedMs;
    const found = isNoticed ? hashOfFile(path) : undefined;
    return found === undefined ? undefined : [path, '', found];
  };
  const taken = [...files].map(([path, hash]) => input(path, hash));
  const takenFolders = [...folders].map(([path, entries]) => input(path, entries && hashOfEntries(path, entries, without)));
  if (taken.includes(undefined) || takenFolders.includes(undefined)) return undefined;
  return {
    files: taken as Input[],
    folders: takenFolders as Input[],
    links: [...links].map(([path, kind]) => [path, kind ?? '']),
    realPaths: [...realPaths],
    ...(without === undefined ? {} : { without }),
  };
}

/** Whether everything is as it was taken down. */
export function areStill({ files, folders, links, realPaths, without }: Inputs): boolean {
  return (
    files.every((input) => isStill(input, hashOfFile)) &&
    folders.every((input) => isStill(input, (path) => hashOfFolder(path, without))) &&
    links.every(([path, kind]) => (kindOnDisk(path) ?? '') === kind) &&
    realPaths.every(([path, real]) => realPathNow(path) === real)
  );
}

/** Whether some of it has to be read to tell that. */
export function areCostly({ files, folders }: Inputs): boolean {
  return [...files, ...folders].some(([, stamp, hash]) => stamp === '' && hash !== '');
}

function isStill([path, stamp, hash]: Input, read: (path: string) => string | undefined): boolean {
  const stats = statNow(path);
  if (stats === undefined) return stamp === '' && hash === '';
  return (stamp !== '' && stampOf(stats) === stamp) || (hash !== '' && read(path) === hash);
}

function stampOf({ ctimeMs, size, ino }: Stats): string {
  return `${ctimeMs} ${size} ${ino}`;
}

function hashOfFolder(path: string, without?: string): string | undefined {
  const entries = entriesOnDisk(path);
  return entries && hashOfEntries(path, entries, without);
}

/** Of names and kinds. Where tools keep their own, nothing is looked for. */
function hashOfEntries(path: string, entries: FolderEntries, without: string | undefined): string {
  const counts = (name: string) => name !== '.cache' && (without === undefined || `${path}/${name}` !== without);
  const lines = [...entries].filter(([name]) => counts(name)).map(([name, kind]) => `${name} ${kind}`);
  return contentHash(lines.sort().join('\n'));
}
