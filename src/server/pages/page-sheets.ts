import { indexMap } from '../../core/maps/index-map.js';
import { contentHash } from '../../core/text/content-hash.js';
import { countLineEnds } from '../../core/text/line-index.js';
import { asciiHtml, escapeHtml } from '../../core/tool-page.js';
import { ownUrl } from '../../core/urls.js';
import type { PageSheets } from '../../project/kept/last-start.js';
import { documentSheets, namedSheets, type Page } from '../../project/pages/page.js';
import type { Project } from '../../project/project.js';

/**
 * The sheets of a page as its modules are now; `undefined` while something of them is missing. Those that modules import stand
 * in the page itself, so that no sheet is a request. Where a security policy forbids that, or `<base>` would lead their references
 * astray, they come in as few files as the cascade allows.
 */
export function sheetsOf(project: Project, page: Page): PageSheets | undefined {
  if (!project.isComplete(page)) return undefined;
  const ids = importedSheets(project, page);
  const imported = page.parts.allowsStyleElements
    ? ids.map((id) => styleElement(project, id))
    : groupsOf(project, ids).map((group, index) => sheetLink(project, page, group, index));
  return { imported: imported.join(''), urls: linkedSheets(project, page) };
}

/** Attributes of the links to all sheets of a page that holds no style elements. */
export function sheetLinks(project: Project, page: Page): Record<string, string>[] {
  return groupsOf(project, importedSheets(project, page)).map((group, index) => linkAttributes(project, page, group, index));
}

/** The URLs of the sheets that a page names itself, by id. */
export function linkedSheets(project: Project, page: Page): Record<string, string> {
  const there = namedSheets(page).filter((id) => project.graph.has(id));
  return Object.fromEntries(there.map((id) => [id, project.sheets.urlOf(id)]));
}

/** Several sheets in one file, as `sheetsOf` named it. */
export interface JoinedSheets {
  text: string;
  /** The parts of its index map. */
  map(url: string): Promise<(string | readonly string[])[]>;
}

/** The sheets of a page that come in its file number `index`; `undefined` where there is none. */
export function joinedSheets(project: Project, page: Page, index: number): JoinedSheets | undefined {
  const group = groupsOf(project, importedSheets(project, page))[index];
  const sheets = group?.flatMap((id) => project.sheets.render(id) ?? []);
  if (!sheets) return undefined;
  const text = sheets.map((sheet) => `${sheet.text}\n`).join('');
  const map = async (url: string) => {
    const maps = await Promise.all(sheets.map((sheet) => sheet.map()));
    let line = 0;
    const sections = sheets.map((sheet, place) => {
      const section = { line, map: () => [maps[place]!] };
      line += countLineEnds(sheet.text) + 1;
      return section;
    });
    return [...indexMap(url, sections)];
  };
  return { text, map };
}

function importedSheets(project: Project, page: Page): string[] {
  const named = documentSheets(page);
  return project.pageOrder(page).filter((id) => project.graph.content(id)?.kind === 'style' && !named.includes(id));
}

function styleElement(project: Project, id: string): string {
  const url = escapeHtml(project.sheets.urlOf(id));
  // The only thing that ends the element; a backslash in front of the slash means the same in strings and URLs.
  const text = project.sheets.fullText(id).replace(/<(?=\/style)/gi, '<\\');
  return `<style data-spark-style="${asciiHtml(id)}" data-spark-url="${url}">${text}</style>`;
}

/** Sheets that can stand one behind another in one file: some rules count at the start only. */
function groupsOf(project: Project, ids: readonly string[]): string[][] {
  const groups: string[][] = [];
  let isOpen = false;
  for (const id of ids) {
    const isAlone = /@(?:import|namespace|charset)\b/i.test(project.sheets.textOf(id));
    if (isOpen && !isAlone) groups.at(-1)!.push(id);
    else groups.push([id]);
    isOpen = !isAlone;
  }
  return groups;
}

function sheetLink(project: Project, page: Page, ids: readonly string[], index: number): string {
  const attributes = Object.entries(linkAttributes(project, page, ids, index));
  return `<link${attributes.map(([name, value]) => ` ${name}="${asciiHtml(value)}"`).join('')}>`;
}

/** The attributes of a link to one sheet, or to several in one file. */
function linkAttributes({ sheets, options }: Project, page: Page, ids: readonly string[], index: number): Record<string, string> {
  const urls = Object.fromEntries(ids.map((id) => [id, sheets.urlOf(id)]));
  const [first] = ids;
  if (ids.length === 1) return { rel: 'stylesheet', href: urls[first!]!, 'data-spark-style': first! };
  const href = ownUrl.sheets(options.base, page.id, index, contentHash(...Object.values(urls)));
  return { rel: 'stylesheet', href, 'data-spark-sheets': JSON.stringify(urls) };
}
