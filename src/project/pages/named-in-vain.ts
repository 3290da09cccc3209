import { filesNamed } from '../../core/documents/read-page.js';
import type { Problem } from '../../core/problem/problem.js';
import { type Page, problemInPage } from './page.js';

/** What to say of a file that a page names and that nobody has, or that is a source (`isThere`). */
export function namedInVain(page: Page, specifier: string, isThere: boolean): Problem {
  const from = filesNamed(page.parts).find((named) => named.specifier === specifier)?.start ?? 0;
  const start = Math.max(from, page.text.indexOf(specifier, from));
  const message = isThere
    ? `The page names '${specifier}', which is a source: browsers get what is made of it, under other names.`
    : `The page names '${specifier}', but nothing is there.`;
  const hint = isThere
    ? 'Leave it out: whatever modules need from the start is preloaded by itself. A file for browsers as it is belongs into a verbatim folder.'
    : 'Neither the project nor a verbatim folder holds such a file, and no forwarding rule takes its path.';
  const place = { start, end: start + specifier.length };
  return { ...problemInPage(page, place, { code: 'file-missing', message, hint }), severity: 'warning' };
}
