import { readFileSync, statSync } from 'node:fs';
import { basename, join } from 'node:path';
import { parseJson } from '../core/text/json.js';

/** What package.json calls the project, or what its folder is called. */
export function projectName(root: string): string {
  try {
    const file = join(root, 'package.json');
    // A device in its place would be read for ever.
    const { name } = (statSync(file).isFile() ? parseJson(readFileSync(file, 'utf8')) : {}) as { name?: unknown };
    if (typeof name === 'string' && name !== '') return name;
  } catch {
    // It has none, or one that can't be read, which others tell.
  }
  return basename(root);
}
