import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import { refusedLine } from '../core/link/compiles.js';
import type { PageErrorMessage, ResumeMessage, UpdateMessage } from '../core/live/messages.js';
import { type Problem, problemAt, VineError } from '../core/problem/problem.js';
import { lineStarts } from '../core/text/line-index.js';
import { lanes } from '../core/trace.js';
import { TypedEvents } from '../core/typed-events.js';
import { ownPrefix, ownUrl } from '../core/urls.js';
import type { BackendChange } from '../forward/backend-states.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { Forwarder, type Tape } from '../forward/forwarder.js';
import type { ForwardRule } from '../forward/rule.js';
import type { ProjectUpdate } from '../project/live/update-maker.js';
import type { Project } from '../project/project.js';
import { FrontEnd } from './front-end.js';
import { mostHeaderBytes, onClientError } from './http/client-errors.js';
import { Forwarding, originAt } from './http/forwarding.js';
import { type ListenOptions, listen } from './http/listen.js';
import { pathOf, queryOf } from './http/request-target.js';
import { refuseElsewhere, refuseHost, refuseUpgrade, sendText } from './http/respond.js';
import { isFromElsewhere, isNavigation, isOwnHost, isOwnOrigin, protect, type Trust } from './http/trust.js';
import { LiveChannel, type LivePage } from './live/live-channel.js';
import { resume } from './live/resume.js';
import { MissingFiles } from './pages/missing-file.js';
import { notFoundPage } from './pages/not-found.js';
import type { PageRoute } from './pages/page-routes.js';
import { KeptAnswers } from './pieces/kept-answers.js';
import { mapError } from './pieces/map-stack.js';
import { PieceStore } from './pieces/piece-store.js';
import { type Asked, ToolUrls } from './tool-urls.js';
import { sendWorkspace, workspacePath } from './workspace-folder.js';

/** What the server serves; may be exchanged while it runs. */
export interface Served {
  project: Project;
  routes: readonly PageRoute[];
  forward: readonly ForwardRule[];
  trust: Trust;
}

export interface VineServerOptions extends Served, ListenOptions {
  /** Updates are applied in place; otherwise every one reloads. */
  hot: boolean;
  /** Exchanges with backends are written down, or answered from what was. */
  tape?: Tape;
}

/** The dev server: pages, pieces, maps, styles and files over HTTP, and the live channel. */
export class VineServer {
  readonly live = new LiveChannel();
  /** Errors of pages, with the user's own positions. */
  readonly errors = new TypedEvents<{
    error: { from: LivePage; problem: Problem };
    editor: Problem;
    /** A file that a page names and that was asked for in vain. */
    missing: Problem;
    note: string;
    failure: Failure;
  }>();
  /** What goes on between browsers and backends. */
  readonly traffic = new TypedEvents<{ exchange: ExchangeReport; backend: BackendChange }>();
  #options: VineServerOptions;
  #answers: KeptAnswers;
  #forwarder: Forwarder;
  readonly #forwarding: Forwarding;
  #frontEnd: FrontEnd;
  #pieces: PieceStore;
  #tool: ToolUrls;
  /** Forwarders of earlier rules, which may still have streams open. */
  readonly #oldForwarders: Forwarder[] = [];
  readonly #server: Server;
  /** The newest exchanges with backends, oldest first. */
  readonly #exchanges: ExchangeReport[] = [];
  #settingsProblems: readonly Problem[] = [];
  #unsubscribe: (() => void)[] = [];
  readonly #sockets = new Set<Duplex>();
  readonly #missing = new MissingFiles();
  #port = 0;
  /** `performance.now()` of the newest request. */
  #askedAt = 0;

  constructor(options: VineServerOptions) {
    this.#options = options;
    this.#pieces = this.#piecesOf(options.project);
    this.#answers = new KeptAnswers(options.project, this.#pieces);
    this.#frontEnd = this.#frontEndOf(options);
    this.#tool = this.#toolOf(options);
    this.#forwarder = this.#forwarderOf(options.forward);
    this.#forwarding = new Forwarding({
      forwarder: () => this.#forwarder,
      host: options.host,
      port: () => this.#port,
      requestFailed: (request, response, error) => this.#requestFailed(request, response, error),
      failed: (what, error) => this.#failed(what, error),
    });
    this.#server = createServer(
      { maxHeaderSize: mostHeaderBytes, headersTimeout: headMs, keepAliveTimeout: idleMs },
      (request, response) => this.#onRequest(request, response),
    );
    this.#server.on('checkContinue', (request, response) => this.#onRequest(request, response, true));
    this.#server.on('clientError', onClientError);
    this.#server.on('upgrade', (request, socket, head) => this.#onUpgrade(request, socket, head));
    this.#server.on('connection', (socket) => {
      this.#sockets.add(socket);
      socket.on('close', () => this.#sockets.delete(socket));
    });
    this.#server.maxConnections = mostConnections;
    // The body of a forwarded request may come for hours.
    this.#server.requestTimeout = 0;
    this.live.on('message', ({ from, message }) => {
      const answer =
        message.type === 'error'
          ? this.#pageError(from, message)
          : message.type === 'resume'
            ? this.#resume(from, message)
            : undefined;
      answer?.catch((error: unknown) => this.#failed('a message of a page', error));
    });
    this.#follow(options.project);
  }

  /** The rules in force. */
  get forwarder(): Forwarder {
    return this.#forwarder;
  }

  /** Serves something else from now on, e.g. after a change of the settings. Pages reload; open streams go on. */
  use(served: Served, reason: string): void {
    this.#options = { ...this.#options, ...served };
    this.#pieces = this.#piecesOf(served.project);
    this.#answers = new KeptAnswers(served.project, this.#pieces);
    this.#frontEnd = this.#frontEndOf(this.#options);
    this.#tool = this.#toolOf(served);
    this.forwardBy(served.forward);
    this.#settingsProblems = [];
    this.live.restart(served.project.revision, reason);
    this.#follow(served.project);
  }

  /** Forwards by other rules from now on. Open streams go on, and pages need not reload. */
  forwardBy(rules: readonly ForwardRule[]): void {
    this.#oldForwarders.push(this.#forwarder);
    this.#forwarder.retire();
    this.#forwarder = this.#forwarderOf(rules);
    this.#forwarder.watch();
  }

  #forwarderOf(rules: readonly ForwardRule[]): Forwarder {
    const listener = {
      ended: (report: ExchangeReport) => {
        this.#exchanges.push(report);
        if (this.#exchanges.length > keptExchanges) this.#exchanges.shift();
        this.traffic.emit('exchange', report);
      },
      changed: (change: BackendChange) => this.traffic.emit('backend', change),
    };
    return new Forwarder(rules, listener, this.#options.tape);
  }

  #frontEndOf({ project, routes, trust, hot }: VineServerOptions): FrontEnd {
    return new FrontEnd({ project, routes, trust, hot, pieces: this.#pieces, answers: this.#answers, live: this.live });
  }

  #piecesOf(project: Project): PieceStore {
    return new PieceStore(project, this.live.hookKey, (note) => this.errors.emit('note', note));
  }

  #toolOf({ project, trust }: Served): ToolUrls {
    return new ToolUrls({
      project,
      pieces: this.#pieces,
      answers: this.#answers,
      live: this.live,
      trust,
      exchanges: this.#exchanges,
      onPageError: (from, message) => {
        this.#pageError(from, message).catch((error: unknown) => this.#failed('an error of a worker', error));
      },
      onEditorProblem: (problem) => this.errors.emit('editor', problem),
    });
  }

  #follow(project: Project): void {
    for (const unsubscribe of this.#unsubscribe) unsubscribe();
    this.#unsubscribe = [
      project.on('update', (update) => this.live.update(this.#messageOf(update))),
      project.on('problems', () => this.#problemsChanged()),
      project.on('solved', () => this.#problemsChanged()),
    ];
    if (!project.isOpening) this.#problemsFound(project);
    // What is wrong from the start is told when all is known. Whoever opens the project hears of a failure.
    else
      void project.opened().then(
        () => this.#problemsFound(project),
        () => {},
      );
  }

  #problemsFound(project: Project): void {
    if (project === this.#options.project && project.problems.length > 0) this.#problemsChanged();
  }

  #problemsChanged(): void {
    const { project } = this.#options;
    this.live.problemsChanged((page) => {
      const problems = project.problems.length > 0 && project.pages.has(page) ? project.problemsOf(page) : [];
      return { problems: [...this.#settingsProblems, ...problems], holdsBack: problems.length > 0 };
    });
  }

  /** Loads what maps need, which the first one would wait for. */
  async prepareMaps(): Promise<void> {
    await this.#pieces.prepareMaps();
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

  /** Keeps what pages were answered for the next start. */
  async keepAnswers(): Promise<void> {
    await this.#answers.keep();
  }

  /** What is wrong with the settings, whose last good state stays in force. */
  showSettingsProblems(problems: readonly Problem[]): void {
    this.#settingsProblems = problems;
    this.#problemsChanged();
  }

  get boundPort(): number {
    return this.#port;
  }

  /** Where the front end is, as a browser on this machine reaches it. */
  get url(): string {
    return `${this.#origin}${this.#options.project.options.base}`;
  }

  /** The URL that opens a place in the user's editor: `line` and `column` count from 1. */
  editorUrl(file: string, line: number, column: number): string {
    const query = new URLSearchParams({ key: this.live.key, file, line: String(line), column: String(column) });
    return `${this.#origin}${ownUrl.plain(this.#options.project.options.base, 'open')}?${query}`;
  }

  get #origin(): string {
    return originAt(this.#options.host, this.#port);
  }

  /**
   * Starts to listen, on the wanted port or the next free one, and not where a backend is expected.
   *
   * @throws VineError `port-taken` or `address-unavailable`.
   */
  async listen(): Promise<void> {
    this.#port = await listen(this.#server, { ...this.#options, isReserved: (port) => this.expectsBackendAt(port) });
    // Connections that can't be taken, e.g. for want of file descriptors, are the client's loss and not the server's end.
    this.#server.on('error', (error) => this.#failed('a new connection', error));
    this.#forwarder.watch();
  }

  /** See `Forwarding.expectsBackendAt`. */
  expectsBackendAt(port: number): boolean {
    return this.#forwarding.expectsBackendAt(port);
  }

  async close(): Promise<void> {
    for (const unsubscribe of this.#unsubscribe) unsubscribe();
    this.live.close();
    for (const forwarder of [...this.#oldForwarders, this.#forwarder]) forwarder.close();
    this.#options.tape?.recorder?.close();
    for (const socket of this.#sockets) socket.destroy();
    await new Promise((resolve) => this.#server.close(resolve));
  }

  /** An error that nothing in a page caught, at its place in the user's source. */
  async #resume(from: LivePage, message: ResumeMessage): Promise<void> {
    this.live.send(from, await resume(this.#options.project, message, () => this.live.revisionOf(from)));
  }

  async #pageError(from: LivePage, message: PageErrorMessage): Promise<void> {
    await this.#answers.checked();
    const mapped = await mapError(message, (frame) => this.#pieces.originOf(frame, message.pieces));
    const problem = message.file === undefined ? mapped : { ...(await this.#refusedPlace(message.file)), ...mapped };
    this.errors.emit('error', { from, problem });
    // What fails later is the application's own business; a page that an update broke, or that stays empty, must say so.
    this.live.send(from, { type: 'failed', problem, isShown: message.during !== 'life' });
  }

  /** Where an engine can't parse a module: the place is known where ours can't either. */
  async #refusedPlace(id: string): Promise<Partial<Problem>> {
    const { project } = this.#options;
    const content = project.graph.content(id);
    if (content?.kind !== 'script') return {};
    const hint = 'The page goes on without this module. Another form of what stands there may run in this browser.';
    const line = refusedLine(content.linked.code);
    const text = content.source.text;
    const start = line === undefined ? undefined : lineStarts(text)[Math.max(0, line - 2)];
    return start === undefined
      ? { file: id, hint }
      : { ...problemAt({ file: id, text, start }, { code: 'run-error', message: '' }), hint };
  }

  #messageOf(update: ProjectUpdate): UpdateMessage {
    const { id, changed, removed, styles, files, reload } = update;
    const scripts = this.#pieces.ofUpdate(update, this.#origin);
    return { type: 'update', id, changed, removed, styles, scripts, files, ...(reload.length > 0 ? { reload } : {}) };
  }

  #onRequest(request: IncomingMessage, response: ServerResponse, isContinued = false): void {
    const { trace } = this.#options.project.options;
    const from = trace.now();
    this.#askedAt = performance.now();
    if (from > 0)
      response.once('close', () => trace.overlapping('request', `${request.method} ${request.url}`, from, {}, lanes.main));
    // A client that goes away in the middle is told by `close`.
    request.on('error', () => {});
    response.on('error', () => {});
    this.#answer(request, response, isContinued).catch((error: unknown) => this.#requestFailed(request, response, error));
  }

  /** Something failed here and not at a client or a backend: the request gets a 500, and everything else goes on. */
  #requestFailed(request: IncomingMessage, response: ServerResponse, error: unknown): void {
    this.#failed(`${request.method} ${request.url}`, error);
    if (response.headersSent || response.destroyed) return void response.destroy();
    for (const name of response.getHeaderNames()) response.removeHeader(name);
    const why = error instanceof VineError ? error.message : 'Vine Spark failed on this request; the terminal says how.';
    sendText(response, 500, 'text/plain; charset=utf-8', `${why}\n`);
  }

  #failed(what: string, error: unknown): void {
    this.errors.emit('failure', { what, error: error instanceof Error ? error : new Error(String(error)) });
  }

  async #answer(request: IncomingMessage, response: ServerResponse, isContinued: boolean): Promise<void> {
    const { project, trust } = this.#options;
    if (!isOwnHost(request, trust)) return refuseHost(request, response);
    const { base } = project.options;
    const path = pathOf(request);
    const own = base + ownPrefix;
    if (path === workspacePath || path.startsWith(own)) {
      protect(request, response, trust);
      if (isFromElsewhere(request, trust)) return refuseElsewhere(response, originOf(request));
      if (path === workspacePath) return sendWorkspace(project.options.root, request, response);
      return this.#answerOwn(path.slice(own.length), { query: queryOf(request), request, response });
    }
    const first = this.#forwarder.find(request, 'first');
    if (first) return this.#forwarding.forward(request, response, { rule: first, isContinued });
    if (isContinued) response.writeContinue();
    const inBase = path.startsWith(base) ? `/${path.slice(base.length)}` : path === base.slice(0, -1) ? '/' : undefined;
    // Whether there is anything at a path is nobody else's business either.
    const isElsewhere = isFromElsewhere(request, trust) && !isNavigation(request);
    if (inBase !== undefined && (request.method === 'GET' || request.method === 'HEAD') && !isElsewhere) {
      if (await this.#frontEnd.answer(inBase, request, response)) return;
    }
    const missing = this.#forwarder.find(request, 'missing');
    if (missing) return this.#forwarding.forward(request, response, { rule: missing, isContinued: false });
    // Browsers ask for this by themselves; a 404 would only be noise in their console.
    protect(request, response, trust);
    if (isElsewhere) return refuseElsewhere(response, originOf(request));
    if (path === '/favicon.ico') return sendText(response, 204, 'image/x-icon', '');
    const named = this.#missing.placeOf(project, path);
    if (named) this.errors.emit('missing', named);
    this.#notFound(path, inBase, response);
  }

  /** What belongs to the tool itself. */
  async #answerOwn(path: string, asked: Asked): Promise<void> {
    if (!(await this.#tool.answer(path, asked))) this.#notFound(ownPrefix + path, undefined, asked.response);
  }

  #notFound(path: string, inBase: string | undefined, response: ServerResponse): void {
    const { project } = this.#options;
    const { base } = project.options;
    const lookedFor = ['a page of that path'];
    if (inBase === undefined && base !== '/') lookedFor.push(`the front end itself, which is under ${base}`);
    if (project.options.verbatim.length > 0)
      lookedFor.push(`a file in ${project.options.verbatim.map((folder) => project.paths.idOf(folder)).join(', ')}`);
    lookedFor.push('an image, font or other file in the project', 'a rule that forwards the path to a backend');
    const forwards = this.#forwarder.rules.map(({ label, to }) => ({ label, origin: to.label }));
    sendText(
      response,
      404,
      'text/html; charset=utf-8',
      notFoundPage({ path, base, routes: this.#options.routes, lookedFor, forwards }),
    );
  }

  #onUpgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    socket.on('error', () => socket.destroy());
    try {
      this.#upgrade(request, socket, head);
    } catch (error) {
      this.#failed(`the upgrade of ${request.url}`, error);
      refuseUpgrade(socket, '500 Internal Server Error');
    }
  }

  #upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    const { trust, project } = this.#options;
    const path = pathOf(request);
    if (!isOwnHost(request, trust)) return refuseUpgrade(socket, '403 Forbidden');
    if (path === ownUrl.plain(project.options.base, 'live')) {
      const isAllowed = isOwnOrigin(request, trust) && queryOf(request).get('key') === this.live.key;
      return isAllowed ? this.live.accept(request, socket, head) : refuseUpgrade(socket, '403 Forbidden');
    }
    this.#forwarding.upgrade(request, socket, { head, trust });
  }
}

/** What failed, and on what. */
export interface Failure {
  what: string;
  error: Error;
}

function originOf({ headers }: IncomingMessage): string {
  return headers.origin ?? 'the origin';
}

/** How long the head of a request may take. */
const headMs = 20_000;
/** How long a connection stays for the next request: closed soon, it would be closed under one that is on its way. */
const idleMs = 60_000;
/** Nobody needs an answer soon after so long without a request, and work that can wait waits no longer than this. */
const quietMs = 300;
const longestBusyMs = 10_000;
/** How many connections there may be at once. */
const mostConnections = 4096;
/** Exchanges that can be looked at afterwards. */
const keptExchanges = 500;
