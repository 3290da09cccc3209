import { existsSync, readdirSync } from 'node:fs';
import { join, relative, sep } from 'node:path';
import { VineError } from '../core/problem/problem.js';
import { manifestName } from '../project/files/built-folder.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { BuiltFiles } from './built-files.js';
import type { BuildOptions } from './options.js';
import type { OtherFiles } from './other-files.js';

/**
 * Adds the files of the verbatim folders to those that were built. Of two folders that have a file, the first one counts, as where they
 * are served.
 *
 * @throws VineError `output-clash` where a build has made a file of that path.
 */
export function addVerbatim(
  project: ProjectGraph,
  { all }: BuiltFiles,
  others: OtherFiles,
  { verbatim, root, manifest }: BuildOptions,
): void {
  const built = new Set([...all.keys(), ...(manifest ? [manifestName] : [])]);
  for (const folder of verbatim) {
    others.noteFolder(folder);
    if (!existsSync(folder)) continue;
    for (const entry of readdirSync(folder, { recursive: true, withFileTypes: true })) {
      if (entry.isDirectory()) others.noteFolder(join(entry.parentPath, entry.name));
      if (!entry.isFile()) continue;
      const path = relative(folder, join(entry.parentPath, entry.name)).split(sep).join('/');
      const file = project.gate.ofVerbatim(folder, `/${path}`);
      if (file === undefined) continue;
      if (built.has(path))
        throw new VineError({
          code: 'output-clash',
          message: `Both the build and the verbatim folder ${relative(root, folder)} have a file ${path}.`,
          hint: 'Rename one of them, or take it out of the folder.',
        });
      if (!all.has(path)) all.set(path, others.read(file));
    }
  }
}
