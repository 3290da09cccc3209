import { readFileSync } from 'node:fs';
import { join } from 'node:path';

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
