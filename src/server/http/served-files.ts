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
 * The file for a path under the front end's base: what a module, a sheet or a page names, else of a verbatim folder, else content of
 * the project's own. `undefined` where there is none, or none that the gate lets out.
 */
export function findServedFile(project: Project, requestPath: string): ServedFile | undefined {
  return namedFileAt(project, requestPath) ?? findVerbatimFile(project, requestPath) ?? findProjectFile(project, requestPath);
}

/** The file of the first verbatim folder that has one at a path; a folder stands for its `index.html`. */
export function findVerbatimFile(project: Project, requestPath: string): ServedFile | undefined {
  const asked = decoded(requestPath);
  if (asked === undefined) return undefined;
  const path = asked.endsWith('/') ? `${asked}index.html` : asked;
  for (const folder of project.options.verbatim) {
    const found = fileAt(join(folder, path), project.gate.ofVerbatim(folder, path));
    if (found) return found;
  }
  return undefined;
}

/** What somebody names by a path: the file of a module, of a sheet, or of a page. */
export function namedFileAt(project: Project, requestPath: string): ServedFile | undefined {
  const path = pathOfFile(requestPath);
  return path === undefined ? undefined : namedFile(project, path.slice(1));
}

/** Content of the project's own folder, which nobody needs to name. */
export function findProjectFile(project: Project, requestPath: string): ServedFile | undefined {
  const { root } = project.options;
  const path = pathOfFile(requestPath);
  return path === undefined ? undefined : fileAt(join(root, path), project.gate.ofProject(join(root, path)));
}

function pathOfFile(requestPath: string): string | undefined {
  const path = decoded(requestPath);
  return path === undefined || path.endsWith('/') ? undefined : path;
}

/** Says which of two is served. */
export function hiddenNote(file: string, by: string): string {
  return `${file} is not served: ${by} has the same path`;
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
