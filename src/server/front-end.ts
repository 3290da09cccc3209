import type { IncomingMessage, ServerResponse } from 'node:http';
import { join } from 'node:path';
import { decoded, type PagePart, pieceName } from '../core/urls.js';
import type { Page } from '../project/pages/page.js';
import { fileUrl } from '../project/pages/rewrite-page.js';
import type { Project } from '../project/project.js';
import { sendText } from './http/respond.js';
import { findProjectFile, findVerbatimFile, hiddenNote, namedFileAt } from './http/served-files.js';
import { sendStatic } from './http/static-file.js';
import { protect, type Trust } from './http/trust.js';
import type { LiveChannel } from './live/live-channel.js';
import { isPageRequest, type PageRoute, PageRoutes } from './pages/page-routes.js';
import { sheetsOf } from './pages/page-sheets.js';
import { type RenderInput, renderPage, renderStart } from './pages/render-page.js';
import type { KeptAnswers } from './pieces/kept-answers.js';
import type { PieceStore } from './pieces/piece-store.js';

/** What the front end consists of, and what is needed to send it. */
export interface FrontEndOptions {
  project: Project;
  routes: readonly PageRoute[];
  trust: Trust;
  /** Updates are applied in place. */
  hot: boolean;
  /** What pages print is told. */
  console: boolean;
  pieces: PieceStore;
  answers: KeptAnswers;
  live: LiveChannel;
  /** Something that the user should know; told once. */
  onNote(text: string): void;
}

/** The pages and files of the front end. */
export class FrontEnd {
  readonly #options: FrontEndOptions;
  readonly #routes: PageRoutes;
  /** Paths of files that builds don't write, as far as that was told. */
  readonly #unwritten = new Set<string>();

  constructor(options: FrontEndOptions) {
    this.#options = options;
    this.#routes = new PageRoutes(options.routes);
  }

  /**
   * Answers a path under the base: with what a module, a sheet or a page names by it, with a page of that path, a file of a verbatim
   * folder, other content of the project, or the page whose pattern covers it. Returns whether there was one.
   */
  async answer(path: string, request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const { project, trust, onNote } = this.#options;
    const exact = this.#routes.at(path);
    // Which files of packages are used shows when modules were read.
    if (project.isOpening && path.includes('/node_modules/')) await project.opened();
    const verbatim = findVerbatimFile(project, path);
    const named = exact === undefined ? namedFileAt(project, path) : undefined;
    if (verbatim && (exact !== undefined || named))
      onNote(
        hiddenNote(
          project.paths.idOf(verbatim.path),
          exact === undefined ? `the project's own ${project.paths.idOf(named!.path)}` : `the page ${exact}`,
        ),
      );
    if (exact !== undefined) {
      protect(request, response, trust);
      await this.#sendPage(exact, request, response);
      return true;
    }
    const file = named ?? verbatim ?? findProjectFile(project, path);
    if (file) {
      if (!named && !verbatim && request.headers['sec-fetch-dest'] === 'empty') this.#noteUnwritten(path);
      protect(request, response, trust);
      project.noteServed(file.real, project.options.base + decoded(path)!.slice(1));
      sendStatic(request, response, file.real);
      return true;
    }
    if (this.#sendToFolder(path, request, response)) return true;
    const covering = isPageRequest(request, path) ? this.#routes.covering(path) : undefined;
    if (covering === undefined) return false;
    protect(request, response, trust);
    await this.#sendPage(covering, request, response);
    return true;
  }

  /** A script fetched a file by a path that it put together itself: no build knows of that. */
  #noteUnwritten(path: string): void {
    const { project, onNote } = this.#options;
    const { base, verbatim } = project.options;
    const isLinked = [...project.pages.values()].some((page) =>
      page.parts.links.some(({ specifier }) => fileUrl(specifier, page, base).split(/[?#]/)[0] === base + path.slice(1)),
    );
    if (isLinked || this.#unwritten.has(path) || this.#unwritten.size >= mostUnwritten) return;
    this.#unwritten.add(path);
    const folder = project.paths.idOf(verbatim[0] ?? join(project.options.root, 'public'));
    onNote(
      `${decoded(path)!.slice(1)} was fetched, and a build does not write it under that name: move it to ${folder}, or name it by new URL('…', import.meta.url)`,
    );
  }

  /** A folder of a verbatim one that holds a page: its files are looked for below it, so its URL ends with a slash. */
  #sendToFolder(path: string, request: IncomingMessage, response: ServerResponse): boolean {
    const { project, trust } = this.#options;
    if (path.endsWith('/') || !findVerbatimFile(project, `${path}/`)) return false;
    protect(request, response, trust);
    const query = /\?.*$/s.exec(request.url ?? '')?.[0] ?? '';
    response.setHeader('location', `${project.options.base}${path.slice(1)}/${query}`);
    response.setHeader('cache-control', 'no-cache');
    sendText(response, 301, 'text/plain; charset=utf-8', '');
    return true;
  }

  async #sendPage(id: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { project, pieces } = this.#options;
    response.setHeader('cache-control', 'no-store');
    if (project.isOpening && request.method === 'GET') return this.#sendEarlyPage(id, response);
    await project.settled();
    const page = project.pages.get(id)!;
    const tagOf = (part: PagePart) => pieces.ofPage(page, part).tag;
    const input = { ...this.#renderInput(page), tagOf, sheets: sheetsOf(project, page) };
    sendText(response, 200, htmlType, request.method === 'HEAD' ? '' : renderPage(input));
  }

  /** The page while its modules are still being read for the first time: what doesn't depend on them comes at once. */
  async #sendEarlyPage(id: string, response: ServerResponse): Promise<void> {
    const { project, pieces, answers } = this.#options;
    const page = project.pages.get(id)!;
    const input = this.#renderInput(page);
    const start = renderStart(input);
    response.writeHead(200, { 'content-type': htmlType });
    response.write(start);
    const kept = await answers.sheetsFor(id);
    if (!kept) await project.opened();
    const sheets = kept ?? sheetsOf(project, page);
    const last = kept && (await answers.last());
    const tagOf = (part: PagePart) => (last ? last.tagOf(pieceName.ofPage(id, part)) : pieces.ofPage(page, part).tag);
    response.end(renderPage({ ...input, tagOf, sheets }).slice(start.length));
  }

  #renderInput(page: Page): RenderInput {
    const { project, live, hot, console } = this.#options;
    const { session, hookKey } = live;
    return { project, page, session, hookKey, hot, console, revision: project.revision, tagOf: () => undefined };
  }
}

/** Of more files than these the same need not be told again. */
const mostUnwritten = 3;

const htmlType = 'text/html; charset=utf-8';
