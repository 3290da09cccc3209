import { dirname, join } from 'node:path/posix';
import MagicString from 'magic-string';
import { parseSrcset, stringifySrcset } from 'srcset';
import { escapeHtml } from '../../core/tool-page.js';
import { cssUrl, encodedPath } from '../../core/urls.js';
import type { Page } from './page.js';

/** What stands in a page in the place of what its author wrote. */
export interface PageChanges {
  /** Elements for the start and for the end of the head. */
  headStart: string;
  headEnd: string;
  /** The URL of a file that the page names; `id` is that of a script which is no module, where the project has it. */
  fileUrl(specifier: string, id?: string): string;
  /** The attributes of a link to a style sheet of the project, its `href` among them; `undefined` where it stays. */
  sheet(id: string, isApart: boolean): string | undefined;
  /** The URL of such a sheet, where a style element imports it. */
  sheetUrl(id: string): string | undefined;
  /** Where a link leads that may name a file. */
  linkUrl(specifier: string): string;
  /** The elements that run the module script number `index`. */
  script(index: number): string;
}

/** A page with other URLs and scripts in their places; everything else stays to the letter. */
export function rewritePage(page: Page, { headStart, headEnd, fileUrl, sheet, sheetUrl, linkUrl, script }: PageChanges): string {
  const { parts, runs, styles, text } = page;
  const html = new MagicString(text);
  html.appendLeft(parts.headStart, headStart);
  parts.styles.forEach(({ attribute, isApart }, index) => {
    const id = styles[index];
    const attributes = id && sheet(id, isApart);
    if (attributes) html.update(attribute.start, attribute.end, attributes);
  });
  for (const { attribute, name, specifier } of parts.files)
    html.update(attribute.start, attribute.end, `${name}="${escapeHtml(fileUrl(specifier))}"`);
  for (const { attribute, name, value } of parts.sets) {
    const set = parseSrcset(value).map((candidate) => ({ ...candidate, url: fileUrl(candidate.url) }));
    html.update(attribute.start, attribute.end, `${name}="${escapeHtml(stringifySrcset(set))}"`);
  }
  let imported = 0;
  for (const { place, isAttribute, text: css, references } of parts.css) {
    const changed = new MagicString(css);
    for (const { kind, specifier, start, end } of references) {
      const id = kind === 'sheet' ? page.imports[imported++] : undefined;
      const url = kind === 'file' ? fileUrl(specifier) : id && sheetUrl(id);
      if (url !== undefined) changed.update(start, end, cssUrl(url));
    }
    html.update(place.start, place.end, isAttribute ? `style="${escapeHtml(changed.toString())}"` : changed.toString());
  }
  for (const { attribute, name, specifier } of parts.links) {
    const url = linkUrl(specifier);
    if (url !== specifier) html.update(attribute.start, attribute.end, `${name}="${escapeHtml(url)}"`);
  }
  for (const { start, end } of parts.dropped) html.update(start, end, '<!-- -->');
  runs.forEach(({ element }, index) => {
    html.update(element.start, element.end, script(index));
  });
  parts.classic.forEach(({ attribute, specifier, element }, index) => {
    const isRun = runs.some((run) => run.element === element);
    if (!isRun) html.update(attribute.start, attribute.end, `src="${escapeHtml(fileUrl(specifier, page.classic[index]))}"`);
  });
  html.appendLeft(parts.headEnd, headEnd);
  return html.toString();
}

/** Whether somebody fills in something later, in the page or on a server: nobody knows yet which file that is. */
export function isFilledIn(specifier: string): boolean {
  return /\{\{|\{%|<%|\$\{/.test(specifier);
}

/** The URL of a file that the page names; other origins stay as they are. With `<base>`, the browser does it. */
export function fileUrl(specifier: string, page: Page, base: string): string {
  if (page.parts.baseHref !== undefined || /^(?:[a-z][a-z0-9+.-]*:|\/\/|#)/i.test(specifier) || isFilledIn(specifier))
    return specifier;
  if (!specifier.startsWith('/')) return base + join(encodedPath(dirname(page.id)), specifier);
  return base === '/' || specifier.startsWith(base) ? specifier : base + specifier.slice(1);
}
