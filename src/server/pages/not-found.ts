import { nearMiss } from '../../core/problem/near-miss.js';
import { escapeHtml, toolPage } from '../../core/tool-page.js';
import type { PageRoute } from './page-routes.js';

export interface NotFoundInput {
  path: string;
  base: string;
  routes: readonly PageRoute[];
  /** Places that were looked in, in order, as sentences without a full stop. */
  lookedFor: readonly string[];
  forwards: readonly { label: string; origin: string }[];
}

/** A page that says what was looked for and what there is instead. */
export function notFoundPage({ path, base, routes, lookedFor, forwards }: NotFoundInput): string {
  const plain = routes.filter(({ pattern }) => !pattern.includes('*'));
  const guess = nearMiss(
    path,
    plain.map(({ pattern }) => pattern),
  );
  const link = (pattern: string) =>
    `<a href="${escapeHtml(base + pattern.slice(1))}"><code>${escapeHtml(base + pattern.slice(1))}</code></a>`;
  const pages = routes.map(({ pattern, page }) => {
    // Globs are for the paths that the application itself interprets; those of files are never among them.
    const shown = pattern.includes('*') ? `<code>${escapeHtml(pattern)}</code>, except what looks like a file,` : link(pattern);
    return `<li>${shown} shows <code>${escapeHtml(page)}</code></li>`;
  });
  const rules = forwards.map(
    ({ label, origin }) => `<li><code>${escapeHtml(label)}</code> goes to <code>${escapeHtml(origin)}</code></li>`,
  );
  const body = `<h1>There is nothing at <code>${escapeHtml(path)}</code></h1>
${guess ? `<p>Did you mean ${link(guess)}?</p>` : ''}
<h2>Looked for</h2>
<ul>${lookedFor.map((place) => `<li>${escapeHtml(place)}</li>`).join('')}</ul>
<h2>Pages</h2>
<ul>${pages.join('') || '<li>none</li>'}</ul>
${rules.length > 0 ? `<h2>Forwarded to a backend</h2>\n<ul>${rules.join('')}</ul>` : `<p>No path is forwarded to a backend. If this one belongs to yours, start with <code>--forward /path=http://127.0.0.1:port</code>.</p>`}`;
  return toolPage({ title: `Nothing at ${path}`, body });
}
