import type { Node } from 'estree';
import { walk } from 'estree-walker';
import { parseSync } from 'oxc-parser';
import { type DirectCall, directCall, directCallHint } from '../core/direct-call.js';
import { type Problem, problemAt } from '../core/problem/problem.js';
import { mayBeTooDeep, writtenIn } from '../core/translate/nesting.js';
import type { ProjectGraph } from './project-graph.js';

/** What a text has to hold before it's worth a tree. */
const origin = /(?:http|ws)s?:\/\/(?:[\w-]+\.)*(?:localhost|127(?:\.\d+){3}|0\.0\.0\.0|\[::1\])(?::\d+)?[^\s'"`\\$<>]*/gi;

/** Origins of this machine that stand in texts of the project's own scripts: they are others where the application will run. */
export function directOrigins({ modules }: ProjectGraph): Problem[] {
  const found: Problem[] = [];
  for (const id of modules.ids()) {
    const content = modules.content(id);
    if (content?.kind !== 'script' || content.inPackage || content.isData) continue;
    const { text } = content.source;
    if (text.search(origin) === -1 || mayBeTooDeep(text, writtenIn(id, text))) continue;
    for (const { start, url } of originsIn(id, text)) {
      const call = directCall(url);
      if (!call) continue;
      const message = `${call.origin} stands in the source: to browsers it is another site, and in production it is elsewhere.`;
      const place = { file: id, text, start, end: start + url.length };
      found.push({ ...problemAt(place, { code: 'direct-origin', message, hint: hintFor(url, call) }), severity: 'warning' });
    }
  }
  return found;
}

/** What to write instead; an origin alone is put in front of paths somewhere else. */
function hintFor(url: string, call: DirectCall): string {
  if (new URL(url).pathname !== '/') return directCallHint(call);
  return `Write paths without an origin, and let the dev server forward them, such as: forward: [{ paths: ['/api'], to: '${call.origin}' }]`;
}

/** Where they are: in texts, not in comments. */
function originsIn(id: string, text: string): { start: number; url: string }[] {
  const { program, errors } = parseSync(id, text, { range: true });
  if (errors.length > 0) return [];
  const places: { start: number; url: string }[] = [];
  walk(program as unknown as Node, {
    enter(node) {
      const isText =
        (node.type === 'Literal' && typeof node.value === 'string') ||
        node.type === 'TemplateElement' ||
        (node as { type: string }).type === 'JSXText';
      if (!isText) return;
      const { start, end } = node as unknown as { start: number; end: number };
      for (const match of text.slice(start, end).matchAll(origin)) places.push({ start: start + match.index, url: match[0] });
    },
  });
  return places;
}
