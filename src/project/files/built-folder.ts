import { closeSync, openSync, readFileSync, readSync } from 'node:fs';
import { join } from 'node:path';
import { writtenMark } from '../../core/tool-page.js';
import { statNow } from './disk-files.js';

/** Name of the list of what a build wrote. */
export const manifestName = 'vine-spark.json';

/** Whether a folder is what a build of ours wrote, wherever it was told to; one whose list is kept elsewhere doesn't show it. */
export function isBuiltFolder(folder: string): boolean {
  try {
    const { builtBy } = JSON.parse(readFileSync(join(folder, manifestName), 'utf8')) as { builtBy?: unknown };
    return builtBy === 'Vine Spark';
  } catch {
    return false; // there is none, or it's somebody else's
  }
}

/** Whether a page is one that we wrote beside the project's own, such as the report of a build. */
export function isWritten(file: string): boolean {
  // Not a pipe or a device, which would never end.
  if (!statNow(file)?.isFile()) return false;
  let at: number | undefined;
  try {
    at = openSync(file, 'r');
    const head = Buffer.alloc(200);
    readSync(at, head);
    return head.includes(writtenMark);
  } catch {
    return false; // nobody may read it, or it has just gone
  } finally {
    if (at !== undefined) closeSync(at);
  }
}
