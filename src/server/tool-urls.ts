import { readFileSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import type { PageErrorMessage } from '../core/live/messages.js';
import { idToPath, pathToId } from '../core/pieces/id-path.js';
import type { Problem } from '../core/problem.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { contentHash } from '../project/content-hash.js';
import type { Project } from '../project/project.js';
import { browserName } from './browser-name.js';
import type { KeptAnswers } from './kept-answers.js';
import type { LiveChannel, LivePage } from './live-channel.js';
import { openInEditor } from './open-in-editor.js';
import type { PieceStore } from './piece-store.js';
import { jsonType, scriptType, sendKept, sendParts, sendPiece, sendTagged, sendText } from './respond.js';
import { isKnownAsset, outsideFile } from './served-files.js';
import { decodePath, sendStatic } from './static-file.js';
import { isOwnOrigin, type Trust } from './trust.js';

export interface ToolUrlsOptions {
  project: Project;
  pieces: PieceStore;
  answers: KeptAnswers;
  live: LiveChannel;
  trust: Trust;
  /** The newest exchanges with backends, oldest first. */
  exchanges: readonly ExchangeReport[];
  onPageError(from: LivePage, message: PageErrorMessage): void;
  onEditorProblem(problem: Problem): void;
}

interface Asked {
  query: URLSearchParams;
  request: IncomingMessage;
  response: ServerResponse;
}

const longestErrorBody = 100_000;
const clientScript = readFileSync(new URL('../browser/client.js', import.meta.url), 'utf8');
const clientTag = contentHash(clientScript);
const workerScript = readFileSync(new URL('../browser/worker.js', import.meta.url), 'utf8');

/** The URLs that belong to the tool itself, all under `/~vine/`. */
export class ToolUrls {
  readonly #options: ToolUrlsOptions;

  constructor(options: ToolUrlsOptions) {
    this.#options = options;
  }

  /** Answers a path behind the prefix. Returns whether there was an answer. */
  async answer(path: string, request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const { project } = this.#options;
    const query = new URLSearchParams(request.url?.split('?')[1]);
    response.setHeader('cache-control', 'no-cache');
    if (/^(?:piece|worker|style|file|map)\//.test(path)) {
      if (project.isOpening && (await this.#answerKept(pathToId(decodePath(path) ?? ''), { query, request, response })))
        return true;
      await project.settled();
    }
    if (path === 'client.js') sendTagged(request, response, { tag: clientTag, type: scriptType, parts: [clientScript] });
    else if (path === 'session') this.#sendSession(request, response);
    else if (path === 'traffic') this.#sendTraffic(query, response);
    else if (path === 'error') await this.#workerError(query, request, response);
    else if (path === 'open') this.#openEditor(query, response);
    else return this.#answerFile(pathToId(decodePath(path) ?? ''), { query, request, response });
    return true;
  }

  /** Answers what the last start answered, while modules are being read. Returns whether there was such an answer. */
  async #answerKept(path: string, { query, request, response }: Asked): Promise<boolean> {
    const { project, answers } = this.#options;
    const last = await answers.last();
    const [, folder, name = ''] = /^(piece|style)\/(.+)$/.exec(path) ?? [];
    const piece = folder === 'piece' && /^(?:page|lazy)\//.test(name) ? last?.piece(name.replace(/\.js$/, '')) : undefined;
    const version = query.get('v') ?? '';
    const sheet = folder === 'style' ? last?.sheet(name, version) : undefined;
    if (piece) {
      answers.given(piece);
      project.waitFor(sendKept(request, response, piece));
    } else if (sheet !== undefined) this.#sendSheet(name, version, sheet, { request, response });
    return piece !== undefined || sheet !== undefined;
  }

  /** Scripts, maps, sheets and files. */
  async #answerFile(path: string, { query, request, response }: Asked): Promise<boolean> {
    const { project, pieces } = this.#options;
    const page = /^piece\/page\/(.+)\/(packages|app)\.js$/.exec(path);
    const shown = page && project.pages.get(page[1]!);
    const start = /^piece\/page\/(.+)\/start-(\d+)\.js$/.exec(path);
    const entry = start && project.pages.get(start[1]!)?.runs[Number(start[2])]?.entry;
    const update = /^piece\/update\/(\d+)\.js$/.exec(path);
    const code = update && pieces.updateCode(Number(update[1]));
    const [, folder, name = ''] = /^(worker|piece\/lazy|map|file|style)\/(.+)$/.exec(path) ?? [];
    const id = name.replace(/\.js$/, '');
    if (shown) sendPiece(request, response, pieces.ofPage(shown, page[2] as 'packages' | 'app'));
    else if (entry) sendText(response, 200, scriptType, `self["~vine"].start(${JSON.stringify(entry)});\n`);
    else if (code) sendText(response, 200, scriptType, code);
    else if (folder === 'worker' && project.graph.has(id)) sendPiece(request, response, pieces.worker(id, workerScript));
    else if (folder === 'piece/lazy') await this.#sendLazy(id, request, response);
    else if (folder === 'map') await this.#sendMap(name.replace(/\.json$/, ''), query.get('of') ?? '', response);
    else if (folder === 'file' && isKnownAsset(project, name))
      sendStatic(request, response, outsideFile(project.paths.fileOf(name)));
    else if (folder === 'style') this.#sendStyle(name, query.get('v'), { request, response });
    else return false;
    return true;
  }

  #sendSession(request: IncomingMessage, response: ServerResponse): void {
    const { live, trust } = this.#options;
    // Readable by our own pages only: others get no permission to read it.
    if (!isOwnOrigin(request, trust)) return sendText(response, 403, jsonType, '{}');
    sendText(response, 200, jsonType, JSON.stringify({ key: live.key, session: live.session }));
  }

  /** The newest exchanges with backends, as JSON. They may hold what nobody else should see, so the key is needed. */
  #sendTraffic(query: URLSearchParams, response: ServerResponse): void {
    if (query.get('key') !== this.#options.live.key) return sendText(response, 403, jsonType, '{}');
    const exchanges = this.#options.exchanges.map(({ rule, from, ...report }) => ({
      rule: rule.label,
      backend: rule.to.label,
      ...report,
    }));
    sendText(response, 200, jsonType, JSON.stringify({ exchanges }));
  }

  /** An error of a worker, which has no channel of its own. */
  async #workerError(query: URLSearchParams, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const plain = 'text/plain; charset=utf-8';
    if (query.get('key') !== this.#options.live.key || request.method !== 'POST') return sendText(response, 403, plain, '');
    let body = '';
    for await (const chunk of request.setEncoding('utf8')) {
      body += chunk;
      if (body.length > longestErrorBody) return sendText(response, 413, plain, '');
    }
    const { readPageMessage } = await import('./page-message.js');
    const message = readPageMessage(body);
    const worker = pathToId(decodePath(query.get('worker') ?? '') ?? '').replace(/^.*?~vine\/worker\/|\.js$/g, '');
    const from = { number: 0, browser: browserName(request.headers['user-agent']), page: worker };
    if (message?.type === 'error') this.#options.onPageError(from, message);
    sendText(response, 204, plain, '');
  }

  /**
   * Opens a file of the project in the user's editor. Only with the key, which pages of other origins can't know. The
   * answer is empty, so that the page whose link was followed stays.
   */
  #openEditor(query: URLSearchParams, response: ServerResponse): void {
    const { project } = this.#options;
    const plain = 'text/plain; charset=utf-8';
    if (query.get('key') !== this.#options.live.key)
      return sendText(response, 403, plain, 'This link is of an earlier run of the server; reload the page.\n');
    const id = query.get('file') ?? '';
    if (!project.isOwnFile(id)) return sendText(response, 404, plain, `There is no file ${id} in this project.\n`);
    const [line, column] = ['line', 'column'].map((name) => Math.max(1, Number.parseInt(query.get(name) ?? '', 10) || 1));
    openInEditor({ file: project.paths.fileOf(id), line: line!, column: column! }, (problem) =>
      this.#options.onEditorProblem(problem),
    );
    sendText(response, 204, plain, '');
  }

  async #sendLazy(id: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { project } = this.#options;
    // Only what some module really imports that way, not any file somebody asks for.
    const isAskedFor = project.graph.importers(id).length > 0;
    if (!isAskedFor || !(await project.ensure(id)) || !project.isWhole(project.graph.reachable([id]))) {
      return sendText(response, 404, 'text/plain; charset=utf-8', `The module ${id} could not be built.\n`);
    }
    sendPiece(request, response, this.#options.pieces.lazy(id));
  }

  async #sendMap(name: string, tag: string, response: ServerResponse): Promise<void> {
    await this.#options.answers.checked();
    const style = /^style\/(.+)$/.exec(name);
    const sheet = style && this.#options.project.sheets.render(style[1]!, tag || undefined);
    const map = sheet ? [await sheet.map()] : await this.#options.pieces.map(name, tag);
    if (map === undefined)
      return sendText(
        response,
        404,
        'text/plain; charset=utf-8',
        'This piece has been replaced; reload the page for a new map.\n',
      );
    sendParts(response, { type: jsonType, parts: map });
  }

  #sendStyle(id: string, version: string | null, { request, response }: Pick<Asked, 'request' | 'response'>): void {
    const { project } = this.#options;
    const tag = version ?? project.sheets.versionOf(id);
    const sheet = project.sheets.render(id, tag);
    if (!sheet)
      return sendText(response, 404, 'text/css; charset=utf-8', `/* There is no style sheet ${id.replaceAll('*/', '')}. */\n`);
    this.#sendSheet(id, tag, sheet.text, { request, response });
  }

  #sendSheet(id: string, tag: string, text: string, { request, response }: Pick<Asked, 'request' | 'response'>): void {
    const { base } = this.#options.project.options;
    const mapUrl = `${base}~vine/map/style/${idToPath(id)}.json?of=${tag}`;
    const parts = [text, `\n/*# sourceMappingURL=${mapUrl} */\n`];
    sendTagged(request, response, { tag, type: 'text/css; charset=utf-8', parts });
  }
}
