import { readFileSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { kindOfFile } from '../core/file-kinds.js';
import type { PageErrorMessage } from '../core/live/messages.js';
import { ownHook, pieceEnd } from '../core/pieces/piece.js';
import type { Problem } from '../core/problem/problem.js';
import type { TextParts } from '../core/text/batches.js';
import { contentHash } from '../core/text/content-hash.js';
import {
  entriesOf,
  type OwnUrl,
  ownUrl,
  type PagePart,
  pieceName,
  pieceNameOf,
  readOwnUrl,
  readPieceName,
  readSheetsName,
} from '../core/urls.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { realPathNow } from '../project/files/disk-files.js';
import type { Project } from '../project/project.js';
import { jsonType, refuseElsewhere, scriptType, sendKept, sendParts, sendPiece, sendTagged, sendText } from './http/respond.js';
import { namedFile } from './http/served-files.js';
import { sendStatic } from './http/static-file.js';
import { embedOrigin, isFromThisMachine, isOwnOrigin, isSurelyOwn, originFrom, type Trust } from './http/trust.js';
import { browserName } from './live/browser-name.js';
import type { LiveChannel, LivePage } from './live/live-channel.js';
import { openInEditor } from './open-in-editor.js';
import { embedScript, embedSettings, sendEmbedClient, sendUnknownEntries } from './pages/embed.js';
import { type JoinedSheets, joinedSheets } from './pages/page-sheets.js';
import type { KeptAnswers } from './pieces/kept-answers.js';
import type { StoredPiece } from './pieces/piece-maps.js';
import type { PieceStore } from './pieces/piece-store.js';

export interface ToolUrlsOptions {
  project: Project;
  pieces: PieceStore;
  answers: KeptAnswers;
  live: LiveChannel;
  trust: Trust;
  /** Somebody renders pages that may hold our tag. */
  rendersPages: boolean;
  hot: boolean;
  /** The newest exchanges with backends, oldest first. */
  exchanges: readonly ExchangeReport[];
  onPageError(from: LivePage, message: PageErrorMessage): void;
  onEditorProblem(problem: Problem): void;
}

/** URLs of what is made of the project's files. */
type BuiltUrl = Exclude<
  Extract<OwnUrl, { page: string } | { update: number } | { id: string } | { name: string }>,
  { kind: 'embed' }
>;

const plainType = 'text/plain; charset=utf-8';

/** A request for one of our own URLs. */
export interface Asked {
  query: URLSearchParams;
  request: IncomingMessage;
  response: ServerResponse;
}

const longestErrorBody = 100_000;
const clientScript = readFileSync(new URL('../browser/client.js', import.meta.url), 'utf8');
const clientTag = contentHash(clientScript);
const workerScript = readFileSync(new URL('../browser/worker.js', import.meta.url), 'utf8');

/** The URLs that belong to the tool itself, all under `/~spark/`. */
export class ToolUrls {
  readonly #options: ToolUrlsOptions;

  constructor(options: ToolUrlsOptions) {
    this.#options = options;
  }

  /** Answers a path behind the prefix. Returns whether there was an answer. */
  async answer(path: string, asked: Asked): Promise<boolean> {
    const { request, response } = asked;
    const url = readOwnUrl(path);
    response.setHeader('cache-control', 'no-cache');
    response.setHeader('x-content-type-options', 'nosniff');
    if (!url) return false;
    switch (url.kind) {
      case 'page-script':
        sendTagged(request, response, { tag: clientTag, type: scriptType, parts: [clientScript] });
        return true;
      case 'embed-script':
        this.#sendEmbedClient(response);
        return true;
      case 'embed':
        await this.#sendEmbed(url.page, asked);
        return true;
      case 'session':
        this.#sendSession(asked);
        return true;
      case 'traffic':
        this.#sendTraffic(asked);
        return true;
      case 'error':
        await this.#workerError(asked);
        return true;
      case 'open':
        this.#openEditor(asked);
        return true;
      case 'live':
        return false;
      default:
        return this.#answerBuilt(url, asked);
    }
  }

  /** Answers with something of the build: what the last start gave while modules are being read, else what there is now. */
  async #answerBuilt(url: BuiltUrl, asked: Asked): Promise<boolean> {
    const { project } = this.#options;
    if (project.isOpening && (await this.#answerKept(url, asked))) return true;
    await project.settled();
    return this.#answerNow(url, asked);
  }

  /** Answers what the last start answered. Returns whether there was such an answer. */
  async #answerKept(url: BuiltUrl, { query, request, response }: Asked): Promise<boolean> {
    const { project, answers, live } = this.#options;
    const last = await answers.last();
    if ((url.kind === 'page-piece' || url.kind === 'lazy') && !query.has('apart') && !query.has('whole')) {
      const name = url.kind === 'lazy' ? pieceName.lazy(url.id) : pieceName.ofPage(url.page, url.part);
      const piece = last?.piece(name);
      if (!piece) return false;
      answers.given(piece);
      const end = pieceEnd(live.hookKey, { mapUrl: ownUrl.map(project.options.base, name, piece.tag) });
      project.waitFor(sendKept(request, response, { ...piece, end, hookKey: live.hookKey }));
      return true;
    }
    const version = query.get('v') ?? '';
    const sheet = url.kind === 'style' ? last?.sheet(url.id, version) : undefined;
    if (url.kind !== 'style' || sheet === undefined) return false;
    this.#sendSheet(url.id, version, sheet, { request, response });
    return true;
  }

  /** Answers what the build is now. Returns whether there was an answer. */
  async #answerNow(url: BuiltUrl, asked: Asked): Promise<boolean> {
    const { project, pieces, live } = this.#options;
    const { query, request, response } = asked;
    const send = (piece: StoredPiece) =>
      sendPiece(request, response, piece, { hookKey: live.hookKey, isApart: query.has('apart') });
    switch (url.kind) {
      case 'page-piece': {
        const page = project.pages.get(url.page);
        if (page) send(pieces.ofPage(page, url.part));
        return page !== undefined;
      }
      case 'start': {
        const entry = project.pages.get(url.page)?.runs[url.index]?.entry;
        if (entry !== undefined)
          sendText(response, 200, scriptType, `${ownHook(live.hookKey)}?.start(${JSON.stringify(entry)});\n`);
        return entry !== undefined;
      }
      case 'update': {
        const code = pieces.updateCode(url.update);
        if (code !== undefined) sendText(response, 200, scriptType, code);
        return code !== undefined;
      }
      case 'worker': {
        // Its script holds a client of its own, so whoever gets it can read it.
        const isKnown =
          isSurelyOwn(request) || query.get('key') === live.hookKey || embedOrigin(request, this.#options.trust) !== undefined;
        if (!isKnown) sendText(response, 403, plainType, 'Workers are for pages of this server.\n');
        else if (!project.graph.has(url.id)) return false;
        else send(pieces.worker(url.id, workerScript));
        return true;
      }
      case 'lazy':
        await this.#sendLazy(url.id, asked);
        return true;
      case 'map':
        await this.#sendMap(url.name, asked);
        return true;
      case 'style':
        this.#sendStyle(url.id, asked);
        return true;
      case 'sheets': {
        const page = project.pages.get(url.page);
        const sheets = page && joinedSheets(project, page, url.index);
        if (sheets) this.#sendSheets(url, sheets, asked);
        return sheets !== undefined;
      }
      case 'file': {
        const file = namedFile(project, url.id);
        if (file) sendStatic(request, response, file.real);
        return file !== undefined;
      }
    }
  }

  /** The client for pages that a backend renders; they name what they start. */
  #sendEmbedClient(response: ServerResponse, entries?: readonly string[]): void {
    const { project, live, hot } = this.#options;
    const settings = embedSettings({ project, session: live.session, hookKey: live.hookKey, hot }, '');
    sendEmbedClient(response, { settings, client: clientScript, ...(entries === undefined ? {} : { entries }) });
  }

  /** What a page of a backend starts. Any script of the project may be asked for from this machine, else what the settings name. */
  async #sendEmbed(id: string, { request, response }: Asked): Promise<void> {
    const { project, live, pieces, hot } = this.#options;
    const page = await project.embed(entriesOf(id) ?? [], this.#mayTry(request));
    if (!page) return sendUnknownEntries(response, id);
    await project.settled();
    const tagOf = (part: PagePart) => pieces.ofPage(page, part).tag;
    sendText(response, 200, scriptType, embedScript({ project, page, session: live.session, hookKey: live.hookKey, hot, tagOf }));
  }

  /** Whether a page may start what no setting lists: one that may hold our tag, of which the browser says so, on this machine. */
  #mayTry(request: IncomingMessage): boolean {
    const { trust, rendersPages } = this.#options;
    if (!rendersPages || !isFromThisMachine(request)) return false;
    return isSurelyOwn(request) || embedOrigin(request, trust) !== undefined;
  }

  /** Answers a path that a backend's template names with what stands for it. Returns whether there is something. */
  async answerFor(id: string, { request, response }: Omit<Asked, 'query'>): Promise<boolean> {
    const { project } = this.#options;
    await project.opened();
    response.setHeader('cache-control', 'no-cache');
    const kind = kindOfFile(id);
    if (kind === 'style') {
      const page = await project.embed([id], false);
      await project.settled();
      if (!page || !project.graph.has(id)) return false;
      const version = project.sheets.versionOf(id);
      this.#sendSheet(id, version, project.sheets.textOf(id), { request, response });
      return true;
    }
    const path = project.paths.fileOf(id);
    const real = kind === 'asset' && project.gate.mayRead(path) ? realPathNow(path) : undefined;
    if (real !== undefined) sendStatic(request, response, real);
    else if (kind !== 'asset') this.#sendEmbedClient(response, [id]);
    return real !== undefined || kind !== 'asset';
  }

  #sendSession({ request, response }: Asked): void {
    const { live, trust } = this.#options;
    // Only for our own pages: others neither get it nor the permission to read it.
    if (!isOwnOrigin(request, trust)) return refuseElsewhere(response, originFrom(request) ?? 'the origin');
    response.setHeader('cache-control', 'no-store');
    sendText(response, 200, jsonType, JSON.stringify({ key: live.key, session: live.session, hook: live.hookKey }));
  }

  /** The newest exchanges with backends, as JSON. They may hold what nobody else should see, so the key is needed. */
  #sendTraffic({ query, response }: Asked): void {
    if (query.get('key') !== this.#options.live.key) return sendText(response, 403, jsonType, '{}');
    const exchanges = this.#options.exchanges.map(({ rule, from, ...report }) => ({
      rule: rule.label,
      backend: rule.to.label,
      ...report,
    }));
    sendText(response, 200, jsonType, JSON.stringify({ exchanges }));
  }

  /** An error of a worker, which has no channel of its own. */
  async #workerError({ query, request, response }: Asked): Promise<void> {
    if (query.get('key') !== this.#options.live.key || request.method !== 'POST') return sendText(response, 403, plainType, '');
    let body = '';
    for await (const chunk of request.setEncoding('utf8')) {
      body += chunk;
      if (body.length > longestErrorBody) return sendText(response, 413, plainType, '');
    }
    const { readPageMessage } = await import('./live/page-message.js');
    const message = readPageMessage(body);
    const name = pieceNameOf(query.get('worker') ?? '', this.#options.project.options.base);
    const worker = readPieceName(name ?? '');
    const page = worker?.kind === 'worker' ? worker.id : '';
    const from = { number: 0, browser: browserName(request.headers['user-agent']), page };
    if (message?.type === 'error') this.#options.onPageError(from, message);
    sendText(response, 204, plainType, '');
  }

  /**
   * Opens a file of the project in the user's editor. Only with the key, which pages of other origins can't know. The
   * answer is empty, so that the page whose link was followed stays.
   */
  #openEditor({ query, response }: Asked): void {
    const { project } = this.#options;
    if (query.get('key') !== this.#options.live.key)
      return sendText(response, 403, plainType, 'This link is of an earlier run of the server; reload the page.\n');
    const id = query.get('file') ?? '';
    if (!project.isOwnFile(id)) return sendText(response, 404, plainType, `There is no file ${id} in this project.\n`);
    const [line, column] = ['line', 'column'].map((name) => Math.max(1, Number.parseInt(query.get(name) ?? '', 10) || 1));
    openInEditor({ file: project.paths.fileOf(id), line: line!, column: column! }, (problem) =>
      this.#options.onEditorProblem(problem),
    );
    sendText(response, 204, plainType, '');
  }

  async #sendLazy(id: string, { query, request, response }: Asked): Promise<void> {
    const { project, pieces, live } = this.#options;
    if (!(await project.ensure(id)) || !project.isWhole(project.graph.reachable([id]))) {
      return sendText(response, 404, plainType, `The module ${id} could not be built.\n`);
    }
    sendPiece(request, response, pieces.lazy(id, query.has('whole')), { hookKey: live.hookKey, isApart: query.has('apart') });
  }

  async #sendMap(name: string, { query, response }: Asked): Promise<void> {
    await this.#options.answers.checked();
    const map = await this.#mapOf(name, query.get('of') ?? '');
    if (map === undefined)
      return sendText(response, 404, plainType, 'This piece has been replaced; reload the page for a new map.\n');
    sendParts(response, { type: jsonType, parts: map });
  }

  async #mapOf(name: string, tag: string): Promise<TextParts | undefined> {
    const { project, pieces } = this.#options;
    const [, kind, rest = ''] = /^(style|sheets)\/(.+)$/s.exec(name) ?? [];
    const joined = kind === 'sheets' ? readSheetsName(rest) : undefined;
    if (joined) {
      const page = project.pages.get(joined.page);
      return page && joinedSheets(project, page, joined.index)?.map(name);
    }
    const sheet = kind === 'style' ? project.sheets.render(rest, tag || undefined) : undefined;
    return sheet ? [await sheet.map()] : pieces.map(name, tag);
  }

  #sendSheets({ page, index }: { page: string; index: number }, { text }: JoinedSheets, { request, response }: Asked): void {
    const tag = contentHash(text);
    const mapUrl = ownUrl.map(this.#options.project.options.base, `sheets/${page}/${index}.css`, tag);
    const parts = [text, `/*# sourceMappingURL=${mapUrl} */\n`];
    sendTagged(request, response, { tag, type: 'text/css; charset=utf-8', parts });
  }

  #sendStyle(id: string, { query, request, response }: Asked): void {
    const { project } = this.#options;
    const tag = query.get('v') ?? project.sheets.versionOf(id);
    const sheet = project.sheets.render(id, tag);
    if (!sheet)
      return sendText(response, 404, 'text/css; charset=utf-8', `/* There is no style sheet ${id.replaceAll('*/', '')}. */\n`);
    this.#sendSheet(id, tag, sheet.text, { request, response });
  }

  #sendSheet(id: string, tag: string, text: string, { request, response }: Pick<Asked, 'request' | 'response'>): void {
    const parts = [text, this.#options.project.sheets.mapComment(id, tag)];
    sendTagged(request, response, { tag: encodeURIComponent(tag), type: 'text/css; charset=utf-8', parts });
  }
}
