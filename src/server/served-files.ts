import { basename, dirname, join } from 'node:path';
import { isAssetPath } from '../core/translate/kinds.js';
import type { Project } from '../project/project.js';
import { decodePath, findStatic, type StaticFile } from './static-file.js';

/** A file that is sent as it is, for a path under the front end's base; `undefined` where there is none, or none to be sent. */
export function findServedFile(project: Project, path: string): StaticFile | undefined {
  const { verbatim, root } = project.options;
  return (
    findStatic(verbatim, path) ??
    (isAssetPath(path) && !path.includes('/node_modules/') ? findStatic([root], path) : undefined) ??
    namedFile(project, path)
  );
}

/** The file behind a path as browsers ask for it, with the base. */
export function fileBehind(project: Project, path: string): string | undefined {
  const { base } = project.options;
  const file = path.startsWith(base) ? findServedFile(project, `/${encodeURI(path.slice(base.length))}`) : undefined;
  return file && join(file.folder, file.path);
}

/** Whether a module or a sheet refers to this file by its URL. */
export function isKnownAsset(project: Project, id: string): boolean {
  return [id, `${id}?url`].some((known) => project.graph.content(known)?.kind === 'asset');
}

/** A file outside the project that a module uses. */
export function outsideFile(file: string): StaticFile {
  return { folder: dirname(file), path: `/${basename(file)}` };
}

/** A file of a package that the application uses, or a script that a page loads as it is. */
function namedFile(project: Project, path: string): StaticFile | undefined {
  const id = decodePath(path)?.slice(1);
  if (id === undefined) return undefined;
  const isClassic = [...project.pages.values()].some(({ classic }) => classic.includes(id));
  return isClassic || isKnownAsset(project, id) ? { folder: project.options.root, path: `/${id}` } : undefined;
}
