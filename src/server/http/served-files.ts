import { join } from 'node:path';
import { typedId } from '../../core/module-id.js';
import { decoded, encodedPath } from '../../core/urls.js';
import { realPathNow, statNow } from '../../project/files/disk-files.js';
import type { Project } from '../../project/project.js';

/** A file to be sent as it is. */
export interface ServedFile {
  /** Absolute path as the project knows it. */
  path: string;
  /** The same without links: what is sent. */
  real: string;
}

/**
 * The file for a path under the front end's base: of a verbatim folder, content of the project's own, or what a module, a sheet
 * or a page names. `undefined` where there is none, or none that the gate lets out.
 */
export function findServedFile(project: Project, requestPath: string): ServedFile | undefined {
  const path = decoded(requestPath);
  if (path === undefined || path.endsWith('/')) return undefined;
  const { verbatim, root } = project.options;
  for (const folder of verbatim) {
    const found = fileAt(join(folder, path), project.gate.ofVerbatim(folder, path));
    if (found) return found;
  }
  return fileAt(join(root, path), project.gate.ofProject(join(root, path))) ?? namedFile(project, path.slice(1));
}

/** The file behind a path as browsers ask for it, with the base, decoded. */
export function fileBehind(project: Project, path: string): ServedFile | undefined {
  const { base } = project.options;
  return path.startsWith(base) ? findServedFile(project, `/${encodedPath(path.slice(base.length))}`) : undefined;
}

/** A file that a module, a sheet or a page names by its URL; the id may come from anywhere. */
export function namedFile(project: Project, id: string): ServedFile | undefined {
  const isClassic = [...project.pages.values()].some(({ classic }) => classic.includes(id));
  const isAsset = [id, typedId(id, 'url')].some((known) => project.graph.content(known)?.kind === 'asset');
  if (!isClassic && !isAsset) return undefined;
  const path = project.paths.fileOf(id);
  return project.gate.mayRead(path) ? fileAt(path, realPathNow(path)) : undefined;
}

function fileAt(path: string, real: string | undefined): ServedFile | undefined {
  return real !== undefined && statNow(real)?.isFile() ? { path, real } : undefined;
}
