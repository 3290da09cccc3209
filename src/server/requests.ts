import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import type { Problem } from '../core/problem/problem.js';
import { decoded, ownPrefix, ownUrl, type PagePart, pieceName, servicePath } from '../core/urls.js';
import type { Forwarder } from '../forward/forwarder.js';
import type { PageInserts } from '../forward/relay-page.js';
import type { CompiledRule } from '../forward/rule.js';
import type { Project } from '../project/project.js';
import type { FrontEnd } from './front-end.js';
import type { Forwarding } from './http/forwarding.js';
import { pathOf, queryOf } from './http/request-target.js';
import { refuseElsewhere, refuseHost, refuseUpgrade, sendText, sendToBase } from './http/respond.js';
import { isFromElsewhere, isNavigation, isOwnHost, isOwnOrigin, originFrom, protect, type Trust } from './http/trust.js';
import type { LiveChannel } from './live/live-channel.js';
import { embedHtml, sendStrangerScript, strangerText } from './pages/embed.js';
import { MissingFiles } from './pages/missing-file.js';
import { notFoundPage } from './pages/not-found.js';
import { isPageRequest, type PageRoute, wantsPage } from './pages/page-routes.js';
import type { PieceStore } from './pieces/piece-store.js';
import type { Asked, ToolUrls } from './tool-urls.js';
import { sendWorkspace, workspacePath } from './workspace-folder.js';

/** What answers at the moment; parts of it are exchanged while the server runs. */
export interface Answering {
  project: Project;
  routes: readonly PageRoute[];
  trust: Trust;
  /** Path that a backend's template names -> id of what stands for it. */
  embedUrls: Readonly<Record<string, string>>;
  /** Updates are applied in place. */
  hot: boolean;
  /** It's part of a server of the user's. */
  isInside?: boolean;
  frontEnd: FrontEnd;
  forwarder: Forwarder;
  forwarding: Forwarding;
  pieces: PieceStore;
  tool: ToolUrls;
  live: LiveChannel;
  /** Something in a page that need not be wrong. */
  onWarning(problem: Problem): void;
  /** Something that the user should know; told once. */
  onNote(text: string): void;
}

/** Nobody needs an answer soon after so long without a request, and work that can wait waits no longer than this. */
const quietMs = 300;
const longestBusyMs = 10_000;

/** How a request is handled. */
export interface Handling {
  /** The client waits for a `100 Continue`. */
  isContinued?: boolean;
  /** Answers what is nobody's here, in the place of a 404. */
  next?: (() => void) | undefined;
}

/** Finds out what a request is for, and lets that answer. */
export class Requests {
  readonly #answering: () => Answering;
  readonly #missing = new MissingFiles();
  /** `performance.now()` of the newest request. */
  #askedAt = 0;

  constructor(answering: () => Answering) {
    this.#answering = answering;
  }

  get #now(): Answering {
    return this.#answering();
  }

  /** Settles when nobody has asked for anything for a while, or somebody asks all the time. */
  async quiet(): Promise<void> {
    const until = performance.now() + longestBusyMs;
    for (;;) {
      const waitMs = Math.min(until, this.#askedAt + quietMs) - performance.now();
      if (waitMs <= 0) return;
      await new Promise((resolve) => setTimeout(resolve, waitMs).unref());
    }
  }

  /** Answers a request with what it's for: the tool's own, a backend, the front end, or the page that says what was looked for. */
  async answer(request: IncomingMessage, response: ServerResponse, { isContinued = false, next }: Handling = {}): Promise<void> {
    this.#askedAt = performance.now();
    const { project, trust, frontEnd, forwarding } = this.#now;
    if (!isOwnHost(request, trust)) return refuseHost(request, response);
    const { base } = project.options;
    const path = pathOf(request);
    const own = base + ownPrefix;
    if (path === workspacePath || path.startsWith(own)) {
      protect(request, response, trust);
      if (isFromElsewhere(request, trust)) return this.#refuseElsewhere(path, request, response);
      if (path === workspacePath) return sendWorkspace(project.options.root, request, response);
      return this.#answerOwn(path.slice(own.length), { query: queryOf(request), request, response });
    }
    const isRead = request.method === 'GET' || request.method === 'HEAD';
    // Whether there is anything at a path is nobody else's business either.
    const isElsewhere = isFromElsewhere(request, trust) && !isNavigation(request);
    const source = isRead && !isElsewhere ? this.#sourceFor(path) : undefined;
    if (source !== undefined && (await this.#answerSource(source, request, response))) return;
    const service = isRead && !isElsewhere ? serviceAt(path, request, project) : undefined;
    if (service !== undefined) {
      protect(request, response, trust);
      const piece = ownUrl.piece('', pieceName.worker(service)).slice(ownPrefix.length);
      return this.#answerOwn(piece, { query: queryOf(request), request, response });
    }
    const first = this.#now.forwarder.find(request, 'first');
    if (first) return forwarding.forward(request, response, { rule: first, isContinued });
    const inBase = path.startsWith(base) ? `/${path.slice(base.length)}` : path === base.slice(0, -1) ? '/' : undefined;
    if (inBase !== undefined && isRead && !isElsewhere) {
      if (isContinued) response.writeContinue();
      if (await frontEnd.answer(inBase, request, response)) return;
    } else if (isContinued) response.writeContinue();
    const missing = this.#now.forwarder.find(request, 'missing');
    if (missing) return this.#forwardPage(request, response, missing);
    if (next) return next();
    protect(request, response, trust);
    if (isElsewhere) return this.#refuseElsewhere(path, request, response);
    if (path === '/' && base !== '/' && isPageRequest(request, path)) return sendToBase(response, base);
    // Browsers ask for this by themselves; a 404 would only be noise in their console.
    if (path === '/favicon.ico') return sendText(response, 204, 'image/x-icon', '');
    const named = this.#missing.placeOf(project, path);
    if (named) this.#now.onWarning(named);
    this.#notFound(path, inBase, response);
  }

  /** What stands for a path that a template of the backend names; `undefined` for other paths. */
  #sourceFor(path: string): string | undefined {
    const { embedUrls } = this.#now;
    const named = decoded(path) ?? path;
    return Object.hasOwn(embedUrls, named) ? embedUrls[named] : undefined;
  }

  #answerSource(source: string, request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    protect(request, response, this.#now.trust);
    return this.#now.tool.answerFor(source, { request, response });
  }

  /** Sends what the front end doesn't have to a backend, whose pages get what keeps them up to date. */
  #forwardPage(request: IncomingMessage, response: ServerResponse, rule: CompiledRule): void {
    const pages = rule.html === 'ours' && wantsPage(request) ? this.#insertsFor(rule) : undefined;
    this.#now.forwarding.forward(request, response, { rule, isContinued: false, ...(pages ? { pages } : {}) });
  }

  /** What is put into the pages that a rule brings: the client, and what the rule says that they start. */
  #insertsFor({ entries }: CompiledRule): PageInserts {
    const { project, hot, live, pieces, onNote } = this.#now;
    return {
      prepare: async () => {
        const page = await project.embed(entries, false);
        await project.settled();
        const { session, hookKey } = live;
        const tagOf = (part: PagePart) => pieces.ofPage(page!, part).tag;
        return (nonce) => (page ? embedHtml({ project, page, session, hookKey, hot, tagOf }, nonce) : { start: '', end: '' });
      },
      onNote,
    };
  }

  /** Another site asks: it gets nothing, but for the sentence that says so where a tag of ours stands in one of its pages. */
  #refuseElsewhere(path: string, request: IncomingMessage, response: ServerResponse): void {
    const origin = originFrom(request);
    if (path === ownUrl.plain(this.#now.project.options.base, 'embed.js')) {
      this.#tellStranger(origin);
      return sendStrangerScript(response, origin);
    }
    refuseElsewhere(response, origin ?? 'the origin');
  }

  /** A page of an origin that isn't listed wants our modules: that is told once. */
  #tellStranger(origin: string | undefined): void {
    this.#now.onNote(strangerText(origin));
  }

  /** What belongs to the tool itself. */
  async #answerOwn(path: string, asked: Asked): Promise<void> {
    if (!(await this.#now.tool.answer(path, asked))) this.#notFound(ownPrefix + path, undefined, asked.response);
  }

  #notFound(path: string, inBase: string | undefined, response: ServerResponse): void {
    const { project, routes, forwarder } = this.#now;
    const { base } = project.options;
    const lookedFor = ['a page of that path'];
    if (inBase === undefined && base !== '/') lookedFor.push(`the front end itself, which is under ${base}`);
    if (project.options.verbatim.length > 0)
      lookedFor.push(`a file in ${project.options.verbatim.map((folder) => project.paths.idOf(folder)).join(', ')}`);
    lookedFor.push('an image, font or other file in the project', 'a rule that forwards the path to a backend');
    const forwards = forwarder.rules.map(({ label, to }) => ({ label, origin: to.label }));
    sendText(response, 404, 'text/html; charset=utf-8', notFoundPage({ path, base, routes, lookedFor, forwards }));
  }

  /** Takes a connection that changes protocols. Returns whether it's one for us, or for a backend of ours. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): boolean {
    const { trust, project, isInside, forwarder, forwarding, live } = this.#now;
    const path = pathOf(request);
    const isLive = path === ownUrl.plain(project.options.base, 'live');
    if (isInside && !isLive && !forwarder.find(request, 'first') && !forwarder.find(request, 'missing')) return false;
    if (!isOwnHost(request, trust)) refuseUpgrade(socket, '403 Forbidden');
    else if (!isLive) forwarding.upgrade(request, socket, { head, trust });
    else if (isOwnOrigin(request, trust) && queryOf(request).get('key') === live.key) live.accept(request, socket, head);
    else refuseUpgrade(socket, '403 Forbidden');
    return true;
  }
}

/** The module that a request for a service worker asks for, if some module registers it. */
function serviceAt(path: string, request: IncomingMessage, { graph, options }: Project): string | undefined {
  if (!request.url?.includes('?service=')) return undefined;
  const id = queryOf(request).get('service');
  if (id === null || decoded(path) !== options.base + servicePath(id)) return undefined;
  const isNamed = graph.importers(id).some((importer) => {
    const content = graph.content(importer);
    return content?.kind === 'script' && content.urls.some(({ target, isService }) => isService && target === id);
  });
  return isNamed ? id : undefined;
}
