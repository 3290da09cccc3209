import type { ResumeMessage, ServerMessage } from '../../core/live/messages.js';
import { entriesOf, pieceNameOf, readPieceName } from '../../core/urls.js';
import { statNow } from '../../project/files/disk-files.js';
import type { Project } from '../../project/project.js';
import { fileBehind } from '../http/served-files.js';

/**
 * Whether a page of an earlier run still shows what the files say. `sent` tells the last update that was sent to it:
 * while that isn't yet what the page says that it holds, there is nothing to compare.
 */
export async function resume(project: Project, message: ResumeMessage, sent: () => number | undefined): Promise<ServerMessage> {
  await project.opened();
  // Pages of a backend are known again when they ask.
  const entries = entriesOf(message.page);
  if (entries) await project.embed(entries, true);
  const page = project.pages.get(message.page);
  const reload = (why: string) => ({ type: 'reload', reason: `the server was restarted and ${why}` }) as const;
  const stale = reload('files had changed');
  if (!page) return reload('this page is not among its pages any more');
  if (!entries && page.version !== message.html) return reload(`${page.id} had changed`);
  const lazy = message.pieces.flatMap((url) => {
    const known = readPieceName(pieceNameOf(url, project.options.base) ?? '');
    return known?.kind === 'lazy' ? [known.id] : [];
  });
  const gone = await notThere(project, lazy);
  if (gone !== undefined) return reload(`${gone}, which this page had loaded, is not in use any more`);
  await project.settled();
  if (sent() !== message.revision) return { type: 'again' };
  const ids = new Set([...project.pageOrder(page), ...project.graph.reachable(lazy)]);
  if (project.pieces.digest(ids) !== message.digest) return stale;
  for (const [id, url] of Object.entries(message.styles))
    if (!project.graph.has(id) || project.sheets.urlOf(id) !== url) return stale;
  for (const path of message.files) {
    const file = fileBehind(project, path);
    if (!file) continue;
    project.noteServed(file.real, path);
    if ((statNow(file.real)?.mtimeMs ?? 0) > message.loadedAt) return reload(`${path} had changed`);
  }
  return { type: 'current' };
}

/** One of several modules behind dynamic imports that can't be had; each may only be asked for once another one is there. */
async function notThere(project: Project, ids: readonly string[]): Promise<string | undefined> {
  let open = [...ids];
  for (;;) {
    const left: string[] = [];
    for (const id of open) if (!(await project.ensure(id))) left.push(id);
    if (left.length === open.length) return left[0];
    open = left;
  }
}
