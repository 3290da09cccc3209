import { isLicence } from '../core/bundle/licence.js';
import { fileOfId } from '../core/module-id.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { Program } from './program.js';

/** The licence comments of everything that is left of a program, by package; empty where there are none. */
export function licencesOf(project: ProjectGraph, { graph, members }: Program): string {
  const byOwner = new Map<string, Set<string>>();
  for (const id of [...graph.ids()].sort()) {
    const content = graph.content(id)!;
    if (content.kind === 'asset') continue;
    const comments =
      content.kind === 'script' ? (members.get(id)?.licences ?? commentsIn(content.source.text)) : commentsIn(content.css);
    if (comments.length === 0) continue;
    const owner = ownerOf(project, id);
    const known = byOwner.get(owner) ?? new Set();
    for (const comment of comments) known.add(comment.trim());
    byOwner.set(owner, known);
  }
  const parts = [...byOwner]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([owner, comments]) => `${owner}\n\n${[...comments].join('\n\n')}\n`);
  return parts.join('\n\n');
}

/** Licence comments of a text whose strings are not told from code: one that isn't a comment does no harm here. */
function commentsIn(text: string): string[] {
  if (!/\/\*!|@(?:license|licence|preserve|copyright)\b/i.test(text)) return [];
  return [...text.matchAll(/\/\*[\s\S]*?(?:\*\/|$)/g)].flatMap(([comment]) =>
    comment.endsWith('*/') && isLicence(comment.slice(2, -2)) ? [comment] : [],
  );
}

/** The package of a module with its version, or the project. */
function ownerOf(project: ProjectGraph, id: string): string {
  const folder = /^.*node_modules\/(?:@[^/]+\/)?[^/]+/.exec(fileOfId(id))?.[0];
  if (folder === undefined) return 'The application itself';
  const { name, version, license } = project.resolver.packages.at(project.paths.fileOf(folder)) ?? {};
  const terms = typeof license === 'string' ? ` (${license})` : '';
  return `${name ?? folder}${typeof version === 'string' ? ` ${version}` : ''}${terms}`;
}
