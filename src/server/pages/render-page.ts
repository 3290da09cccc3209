import { keptAttributes } from '../../core/documents/read-page.js';
import type { ClientSettings } from '../../core/live/messages.js';
import { asciiHtml } from '../../core/tool-page.js';
import { ownUrl, type PagePart, pieceName } from '../../core/urls.js';
import type { PageSheets } from '../../project/kept/last-start.js';
import type { Page } from '../../project/pages/page.js';
import { fileUrl, rewritePage } from '../../project/pages/rewrite-page.js';
import type { Project } from '../../project/project.js';
import { linkedSheets } from './page-sheets.js';

export interface RenderInput {
  project: Project;
  page: Page;
  session: string;
  /** The key of the page's hook. */
  hookKey: string;
  /** Tags of its pieces, where they are known. */
  tagOf(part: PagePart): string | undefined;
  hot: boolean;
  /** What the page prints is told. */
  console?: boolean;
  /** Number of the last update that the page's scripts hold. */
  revision: number;
  /** What its modules' sheets come to; `undefined` while the page can't be complete. */
  sheets?: PageSheets | undefined;
}

/** The beginning of what `renderPage` gives, up to the first place that depends on the page's modules. */
export function renderStart(input: RenderInput): string {
  const { page } = input;
  const { styles, files, sets, css, dropped, classic, headEnd, headStart } = page.parts;
  const places = [...styles, ...files, ...sets, ...classic].map(({ attribute }) => attribute.start);
  const first = Math.min(
    headEnd,
    ...places,
    ...css.map(({ place }) => place.start),
    ...dropped.map(({ start }) => start),
    ...page.runs.map(({ element }) => element.start),
  );
  if (first <= headStart) return '';
  return page.text.slice(0, headStart) + clientScript(input) + page.text.slice(headStart, first);
}

function clientScript({ project, page, session, hookKey, hot, console, revision }: RenderInput): string {
  const { base } = project.options;
  const settings: ClientSettings = {
    page: page.id,
    session,
    hook: hookKey,
    revision,
    base,
    html: page.version,
    hot,
    ...(console ? { console } : {}),
    ...(page.parts.allowsStyleElements ? {} : { links: true }),
  };
  return `<script src="${ownUrl.plain(base, 'page.js')}" data-spark="${asciiHtml(JSON.stringify(settings))}"></script>`;
}

/**
 * The page as it is served: the client script first in the head, the scripts of the page's modules where its first
 * module script stood, and the style sheets that modules import at the end of the head.
 */
export function renderPage(input: RenderInput): string {
  const { project, page, sheets } = input;
  const { base } = project.options;
  const urls = sheets?.urls ?? linkedSheets(project, page);
  return rewritePage(page, {
    headStart: clientScript(input),
    headEnd: sheets?.imported ?? '',
    fileUrl: (specifier) => fileUrl(specifier, page, base),
    sheet: (id, isApart) =>
      urls[id] && `href="${urls[id]}" data-spark-style="${asciiHtml(id)}" data-spark-fixed${isApart ? '="apart"' : ''}`,
    sheetUrl: (id) => urls[id],
    linkUrl: (specifier) => specifier,
    script: (index) => (sheets ? pieceScripts(input, index) : '<!-- -->'),
  });
}

/** Deferred like module scripts: they run in order once the page is parsed, each with the entry that stood there. */
function pieceScripts({ project, page, hookKey, tagOf }: RenderInput, index: number): string {
  const { base } = project.options;
  // What a browser kept in its history is never taken for the newest: the URL names the content.
  const { all, own } = keptAttributes(page.runs[index]!.attributes);
  const script = (name: string, version: string, attributes: string) =>
    `<script defer src="${ownUrl.piece(base, name)}?v=${version}"${attributes}></script>`;
  const run = hookKey.slice(0, 8);
  if (index > 0) return script(pieceName.ofStart(page.id, index), `${page.version}-${run}`, own);
  const parts: PagePart[] = ['packages', 'app'];
  return parts
    .map((part) => script(pieceName.ofPage(page.id, part), `${tagOf(part) ?? 'new'}-${run}`, part === 'app' ? own : all))
    .join('');
}
