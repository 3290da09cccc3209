import { readFileSync } from 'node:fs';
import { basename, join } from 'node:path';

/** What package.json calls the project, or what its folder is called. */
export function projectName(root: string): string {
  try {
    const { name } = JSON.parse(readFileSync(join(root, 'package.json'), 'utf8')) as { name?: unknown };
    if (typeof name === 'string' && name !== '') return name;
  } catch {
    // It has none, or one that can't be read, which others tell.
  }
  return basename(root);
}
