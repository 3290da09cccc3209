import type { ServerResponse } from 'node:http';
import type { ClientSettings } from '../../core/live/messages.js';
import { ownHook } from '../../core/pieces/piece.js';
import { asciiHtml, escapeHtml } from '../../core/tool-page.js';
import { entriesOf, ownUrl, type PagePart, pieceName } from '../../core/urls.js';
import type { HeadInserts } from '../../forward/html-inserter.js';
import type { Page } from '../../project/pages/page.js';
import type { Project } from '../../project/project.js';
import { scriptType, sendText } from '../http/respond.js';
import { sheetLinks } from './page-sheets.js';

/** What a page of a backend is given, and with which client. */
export interface EmbedInput {
  project: Project;
  page: Page;
  session: string;
  hookKey: string;
  hot: boolean;
  /** Tags of its pieces. */
  tagOf(part: PagePart): string | undefined;
}

/** The client's settings on a page of a backend. */
export function embedSettings(
  { project, session, hookKey, hot }: Omit<EmbedInput, 'page' | 'tagOf'>,
  page: string,
): ClientSettings {
  const { base } = project.options;
  return { page, session, hook: hookKey, revision: project.revision, base, html: '', hot };
}

/** The script that brings what a page of a backend starts: nothing to whoever isn't our own client. */
export function embedScript(input: EmbedInput): string {
  const { project, page, hookKey } = input;
  const shown = { links: project.isComplete(page) ? sheetLinks(project, page) : [], scripts: scriptsOf(input) };
  return `${ownHook(hookKey)}?.show(${JSON.stringify(shown)});\n`;
}

/** The same as HTML, for a page that goes through us: the client for the start of its head, everything else for the end. */
export function embedHtml(input: EmbedInput, nonce: string | undefined): HeadInserts {
  const { project, page } = input;
  const settings = embedSettings(input, page.id);
  const own = nonce === undefined ? '' : ` nonce="${escapeHtml(nonce)}"`;
  const client = `<script src="${ownUrl.plain(settings.base, 'page.js')}" data-spark="${asciiHtml(JSON.stringify(settings))}"${own}></script>`;
  const links = (project.isComplete(page) ? sheetLinks(project, page) : []).map((attributes) => {
    const text = Object.entries(attributes).map(([name, value]) => ` ${name}="${asciiHtml(value)}"`);
    return `<link${text.join('')}${own}>`;
  });
  const scripts = scriptsOf(input).map((url) => `<script defer src="${escapeHtml(url)}"${own}></script>`);
  return { start: client, end: page.runs.length === 0 ? '' : links.join('') + scripts.join('') };
}

/** URLs of the scripts of a page, in order. */
function scriptsOf({ project, page, hookKey, tagOf }: EmbedInput): string[] {
  if (!project.isComplete(page)) return [];
  const { base } = project.options;
  const run = hookKey.slice(0, 8);
  const parts: PagePart[] = ['packages', 'app'];
  const pieces = parts.map((part) => `${ownUrl.piece(base, pieceName.ofPage(page.id, part))}?v=${tagOf(part) ?? 'new'}-${run}`);
  const starts = page.runs
    .slice(1)
    .map((_, index) => `${ownUrl.piece(base, pieceName.ofStart(page.id, index + 1))}?v=${page.version}-${run}`);
  return [...pieces, ...starts];
}

/** Sends the client for a page of a backend, which then asks for what its tag names, or for `entries`. */
export function sendEmbedClient(
  response: ServerResponse,
  { settings, entries, client }: { settings: ClientSettings; entries?: readonly string[]; client: string },
): void {
  const given = { ...settings, ...(entries === undefined ? {} : { entries }) };
  sendText(response, 200, scriptType, `(() => { const sparkEmbed = ${JSON.stringify(given)};\n${client}})();\n`);
}

/** Says in the browser's console why a page gets nothing. It's the only thing that pages of any origin may run. */
export function sendStrangerScript(response: ServerResponse, origin: string | undefined): void {
  response.setHeader('cross-origin-resource-policy', 'cross-origin');
  response.setHeader('cache-control', 'no-store');
  if (origin !== undefined) response.setHeader('access-control-allow-origin', origin);
  const text = strangerText('%');
  const script = `console.error(${JSON.stringify(`Vine Spark: ${text}`)}.replaceAll('%', location.origin));\n`;
  sendText(response, 200, scriptType, script);
}

/** What to do about a page of an origin that isn't listed. */
export function strangerText(origin: string | undefined): string {
  if (origin === undefined)
    return 'a page that does not say where it comes from asks for modules; add crossorigin to its script tag, so that the browser says it';
  return `a page of ${origin} asks for modules and gets none, since its origin is not listed; if it is yours, add it to the settings: embed: { from: ['${origin}'] }`;
}

/** Says in the browser's console which module can't be started. */
export function sendUnknownEntries(response: ServerResponse, page: string): void {
  const names = (entriesOf(page) ?? []).map((id) => `'${id}'`).join(', ');
  const text = `Vine Spark: ${names} cannot be started by this page. data-entry holds paths of scripts or sheets from the project folder, such as src/berths.tsx; pages of another machine start only what the setting embed.entries lists.`;
  sendText(response, 200, scriptType, `console.error(${JSON.stringify(text)});\n`);
}
