import { statSync } from 'node:fs';
import type { ResumeMessage, ServerMessage } from '../core/live/messages.js';
import { pathToId } from '../core/pieces/id-path.js';
import type { Project } from '../project/project.js';
import { fileBehind } from './served-files.js';

/**
 * Whether a page of an earlier run still shows what the files say. `sent` tells the last update that was sent to it:
 * while that isn't yet what the page says that it holds, there is nothing to compare.
 */
export async function resume(project: Project, message: ResumeMessage, sent: () => number | undefined): Promise<ServerMessage> {
  await project.opened();
  const page = project.pages.get(message.page);
  const stale = { type: 'reload', reason: 'the server was restarted and files had changed' } as const;
  if (!page || page.version !== message.html) return stale;
  const prefix = `${project.options.base}~vine/piece/lazy/`;
  const lazy = message.pieces
    .filter((url) => url.startsWith(prefix))
    .map((url) => pathToId(decodeURIComponent(url.slice(prefix.length, -'.js'.length))));
  for (const id of lazy) if (!(await project.ensure(id))) return stale;
  await project.settled();
  if (sent() !== message.build) return { type: 'again' };
  const ids = new Set([...project.pageOrder(page), ...project.graph.reachable(lazy)]);
  if (project.pieces.digest(ids) !== message.digest) return stale;
  for (const [id, url] of Object.entries(message.styles))
    if (!project.graph.has(id) || project.sheets.urlOf(id) !== url) return stale;
  for (const path of message.files) {
    const file = fileBehind(project, path);
    if (!file) continue;
    project.noteServed(file, path);
    if ((statSync(file, { throwIfNoEntry: false })?.mtimeMs ?? 0) > message.loadedAt) return stale;
  }
  return { type: 'current' };
}
