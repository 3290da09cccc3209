import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { join } from 'node:path';
import type { Duplex } from 'node:stream';
import type { PageErrorMessage, ResumeMessage, UpdateMessage } from '../core/live/messages.js';
import type { Problem } from '../core/problem.js';
import { lanes } from '../core/trace.js';
import type { BackendChange } from '../forward/backend-states.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { Forwarder, type Tape } from '../forward/forwarder.js';
import type { CompiledRule, ForwardRule } from '../forward/rule.js';
import type { Project } from '../project/project.js';
import { TypedEvents } from '../project/typed-events.js';
import type { ProjectUpdate } from '../project/update-maker.js';
import { mostHeaderBytes, onClientError } from './client-errors.js';
import { KeptAnswers } from './kept-answers.js';
import { type ListenOptions, listen } from './listen.js';
import { LiveChannel, type LivePage } from './live-channel.js';
import { mapError } from './map-stack.js';
import { notFoundPage } from './not-found.js';
import { looksLikeFile, type PageRoute, PageRoutes } from './page-routes.js';
import { PieceStore } from './piece-store.js';
import { renderPage, renderStart, sheetsOf } from './render-page.js';
import { refuseHost, refuseUpgrade, sendText } from './respond.js';
import { resume } from './resume.js';
import { findServedFile } from './served-files.js';
import { decodePath, sendStatic } from './static-file.js';
import { ToolUrls } from './tool-urls.js';
import { isOwnHost, isOwnOrigin, type Trust } from './trust.js';
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
  readonly errors = new TypedEvents<{ error: { from: LivePage; problem: Problem }; editor: Problem; note: string }>();
  /** What goes on between browsers and backends. */
  readonly traffic = new TypedEvents<{ exchange: ExchangeReport; backend: BackendChange }>();
  #options: VineServerOptions;
  #answers: KeptAnswers;
  #forwarder: Forwarder;
  #routes: PageRoutes;
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
  #port = 0;

  constructor(options: VineServerOptions) {
    this.#options = options;
    this.#routes = new PageRoutes(options.routes);
    this.#pieces = this.#piecesOf(options.project);
    this.#answers = new KeptAnswers(options.project, this.#pieces);
    this.#tool = this.#toolOf(options);
    this.#forwarder = this.#forwarderOf(options.forward);
    this.#server = createServer({ maxHeaderSize: mostHeaderBytes }, (request, response) => this.#onRequest(request, response));
    this.#server.on('checkContinue', (request, response) => this.#onRequest(request, response, true));
    this.#server.on('clientError', onClientError);
    this.#server.on('upgrade', (request, socket, head) => this.#onUpgrade(request, socket, head));
    this.#server.on('connection', (socket) => {
      this.#sockets.add(socket);
      socket.on('close', () => this.#sockets.delete(socket));
    });
    // A forwarded event stream may go on for hours.
    this.#server.requestTimeout = 0;
    this.live.on('message', ({ from, message }) => {
      if (message.type === 'error') void this.#pageError(from, message);
      if (message.type === 'resume') void this.#resume(from, message);
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
    this.#routes = new PageRoutes(served.routes);
    this.#pieces = this.#piecesOf(served.project);
    this.#answers = new KeptAnswers(served.project, this.#pieces);
    this.#tool = this.#toolOf(served);
    this.forwardBy(served.forward);
    this.#settingsProblems = [];
    this.live.restart(served.project.build, reason);
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

  #piecesOf(project: Project): PieceStore {
    return new PieceStore(project, (note) => this.errors.emit('note', note));
  }

  #toolOf({ project, trust }: Served): ToolUrls {
    return new ToolUrls({
      project,
      pieces: this.#pieces,
      answers: this.#answers,
      live: this.live,
      trust,
      exchanges: this.#exchanges,
      onPageError: (from, message) => void this.#pageError(from, message),
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

  /** Does what can wait until nothing else is going on: keeps what pages were answered for the next start. */
  async rest(): Promise<void> {
    await this.#pieces.prepareMaps();
    await this.keepAnswers();
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
    return `${this.url}~vine/open?${query}`;
  }

  get #origin(): string {
    const { host } = this.#options;
    const name = host === '0.0.0.0' || host === '::' || host === '' ? 'localhost' : host.includes(':') ? `[${host}]` : host;
    return `http://${name}:${this.#port}`;
  }

  /**
   * Starts to listen, on the wanted port or the next free one.
   *
   * @throws VineError `port-taken` or `address-unavailable`.
   */
  async listen(): Promise<void> {
    this.#port = await listen(this.#server, this.#options);
    this.#forwarder.watch();
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
    this.live.send(from, await resume(this.#options.project, message, () => this.live.buildOf(from)));
  }

  async #pageError(from: LivePage, message: PageErrorMessage): Promise<void> {
    await this.#answers.checked();
    const problem = await mapError(message, (frame) => this.#pieces.originOf(frame, message.pieces));
    this.errors.emit('error', { from, problem });
    // What fails later is the application's own business; a page that an update broke, or that stays empty, must say so.
    this.live.send(from, { type: 'failed', problem, isShown: message.during !== 'life' });
  }

  #messageOf(update: ProjectUpdate): UpdateMessage {
    const { id, changed, removed, styles, files, reload } = update;
    const scripts = this.#pieces.ofUpdate(update, this.#origin);
    return { type: 'update', id, changed, removed, styles, scripts, files, ...(reload.length > 0 ? { reload } : {}) };
  }

  #onRequest(request: IncomingMessage, response: ServerResponse, isContinued = false): void {
    const { trace } = this.#options.project.options;
    const from = trace.now();
    if (from > 0)
      response.once('close', () => trace.overlapping('request', `${request.method} ${request.url}`, from, {}, lanes.main));
    this.#answer(request, response, isContinued).catch((error: unknown) => {
      if (response.headersSent) response.destroy();
      else
        sendText(
          response,
          500,
          'text/plain; charset=utf-8',
          `Vine Spark failed on ${request.url}: ${error instanceof Error ? error.message : String(error)}\n`,
        );
    });
  }

  async #answer(request: IncomingMessage, response: ServerResponse, isContinued: boolean): Promise<void> {
    if (!isOwnHost(request, this.#options.trust)) return refuseHost(request, response);
    const { project } = this.#options;
    const { base } = project.options;
    const whole = (request.url ?? '/').replace(/^[a-z]+:\/\/[^/]*/i, '');
    const path = whole.replace(/[?#].*$/, '');
    if (path === workspacePath) return sendWorkspace(project.options.root, request, response);
    if (path.startsWith(`${base}~vine/`)) return this.#answerOwn(path.slice(`${base}~vine/`.length), request, response);
    const first = this.#forwarder.find(request, 'first');
    if (first) return this.#forward(request, response, { rule: first, isContinued });
    if (isContinued) response.writeContinue();
    const inBase = path.startsWith(base) ? `/${path.slice(base.length)}` : path === base.slice(0, -1) ? '/' : undefined;
    if (inBase !== undefined && (request.method === 'GET' || request.method === 'HEAD')) {
      if (await this.#frontEnd(inBase, request, response)) return;
    }
    const missing = this.#forwarder.find(request, 'missing');
    if (missing) return this.#forward(request, response, { rule: missing, isContinued: false });
    // Browsers ask for this by themselves; a 404 would only be noise in their console.
    if (path === '/favicon.ico') return sendText(response, 204, 'image/x-icon', '');
    this.#notFound(path, inBase, response);
  }

  #forward(request: IncomingMessage, response: ServerResponse, how: { rule: CompiledRule; isContinued: boolean }): void {
    const refuse = (status: number, text: string) => sendText(response, status, 'text/plain; charset=utf-8', `${text}\n`);
    if (this.#forwarder.isAmbiguous(request, how.rule))
      return refuse(
        400,
        'This path means something else to a backend that reads escaped slashes as slashes. Write it without them.',
      );
    if (this.#isLoop(request, how.rule))
      return refuse(
        508,
        `The rule for ${how.rule.label} sends requests back to this server. Correct its address ${how.rule.to.label}: it must be that of the backend.`,
      );
    this.#forwarder.handle(request, response, how);
  }

  /** Whether a rule leads back here, directly or over other servers. */
  #isLoop(request: IncomingMessage, { to }: CompiledRule): boolean {
    const ownNames = ['localhost', '127.0.0.1', '::1', '0.0.0.0', '::', this.#options.host];
    if (to.socketPath === undefined && to.port === this.#port && ownNames.includes(to.hostname)) return true;
    return String(request.headers['x-forwarded-for'] ?? '').split(',').length > mostForwards;
  }

  /** Pages and files. Returns whether there was an answer. */
  async #frontEnd(path: string, request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const exact = this.#routes.at(path);
    if (exact !== undefined) {
      await this.#sendPage(exact, request, response);
      return true;
    }
    const { project } = this.#options;
    // Which files of packages are used shows when modules were read.
    if (project.isOpening && path.includes('/node_modules/')) await project.opened();
    const file = findServedFile(project, path);
    if (file) {
      const shown = decodePath(path);
      if (shown !== undefined) project.noteServed(join(file.folder, file.path), project.options.base + shown.slice(1));
      sendStatic(request, response, file);
      return true;
    }
    const covering = this.#routes.covering(path);
    if (covering === undefined || looksLikeFile(path) || !(request.headers.accept ?? '*/*').match(/text\/html|\*\/\*/))
      return false;
    await this.#sendPage(covering, request, response);
    return true;
  }

  async #sendPage(id: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { project, hot } = this.#options;
    response.setHeader('cache-control', 'no-store');
    if (project.isOpening && request.method === 'GET') return this.#sendEarlyPage(id, response);
    await project.settled();
    const page = project.pages.get(id)!;
    const input = { project, page, session: this.live.session, hot, build: project.build, sheets: sheetsOf(project, page) };
    sendText(response, 200, htmlType, request.method === 'HEAD' ? '' : renderPage(input));
  }

  /** The page while its modules are still being read for the first time: what doesn't depend on them comes at once. */
  async #sendEarlyPage(id: string, response: ServerResponse): Promise<void> {
    const { project, hot } = this.#options;
    const page = project.pages.get(id)!;
    const input = { project, page, session: this.live.session, hot, build: project.build };
    const start = renderStart(input);
    response.writeHead(200, { 'content-type': htmlType });
    response.write(start);
    const kept = await this.#answers.sheetsFor(id);
    if (!kept) await project.opened();
    const sheets = kept ?? sheetsOf(project, page);
    response.end(renderPage({ ...input, sheets }).slice(start.length));
  }

  /** What belongs to the tool itself. */
  async #answerOwn(path: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    if (!(await this.#tool.answer(path, request, response))) this.#notFound(`~vine/${path}`, undefined, response);
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
      notFoundPage({ path, base, routes: this.#routes.routes, lookedFor, forwards }),
    );
  }

  #onUpgrade(request: IncomingMessage, socket: Duplex, head: Buffer): void {
    socket.on('error', () => socket.destroy());
    const { trust, project } = this.#options;
    const url = new URL(request.url ?? '/', 'http://localhost');
    if (!isOwnHost(request, trust)) return refuseUpgrade(socket, '403 Forbidden');
    if (url.pathname === `${project.options.base}~vine/live`) {
      const isAllowed = isOwnOrigin(request, trust) && url.searchParams.get('key') === this.live.key;
      return isAllowed ? this.live.accept(request, socket, head) : refuseUpgrade(socket, '403 Forbidden');
    }
    const rule = this.#forwarder.find(request, 'first') ?? this.#forwarder.find(request, 'missing');
    if (!rule) return refuseUpgrade(socket, '404 Not Found');
    if (this.#forwarder.isAmbiguous(request, rule)) return refuseUpgrade(socket, '400 Bad Request');
    if (this.#isLoop(request, rule)) return refuseUpgrade(socket, '508 Loop Detected');
    this.#forwarder.upgrade(request, socket, head, rule);
  }
}

const htmlType = 'text/html; charset=utf-8';
/** Exchanges that can be looked at afterwards. */
const keptExchanges = 500;
/** More servers than this don't stand in a row: it's a circle. */
const mostForwards = 20;
