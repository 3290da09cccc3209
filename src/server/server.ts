import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Duplex } from 'node:stream';
import type { ConsoleMessage, UpdateMessage } from '../core/live/messages.js';
import { type Problem, VineError } from '../core/problem/problem.js';
import { lanes } from '../core/trace.js';
import { TypedEvents } from '../core/typed-events.js';
import { entriesOf, ownUrl } from '../core/urls.js';
import type { BackendChange } from '../forward/backend-states.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { Forwarder, type Tape } from '../forward/forwarder.js';
import type { ForwardRule } from '../forward/rule.js';
import type { ProjectUpdate } from '../project/live/update-maker.js';
import type { Project } from '../project/project.js';
import { FrontEnd } from './front-end.js';
import { Forwarding, originAt } from './http/forwarding.js';
import { type Certificate, FrontDoor } from './http/front-door.js';
import type { ListenOptions } from './http/listen.js';
import { refuseUpgrade, sendText } from './http/respond.js';
import type { Trust } from './http/trust.js';
import { LiveChannel, type LivePage } from './live/live-channel.js';
import { PageReports } from './live/page-reports.js';
import { backendsAnswer } from './live/template-changes.js';
import type { PageRoute } from './pages/page-routes.js';
import { KeptAnswers } from './pieces/kept-answers.js';
import { PieceStore } from './pieces/piece-store.js';
import { type Handling, Requests } from './requests.js';
import { ToldOnce } from './told-once.js';
import { ToolUrls } from './tool-urls.js';

/** What the server serves; may be exchanged while it runs. */
export interface Served {
  project: Project;
  routes: readonly PageRoute[];
  forward: readonly ForwardRule[];
  trust: Trust;
  /** Path that a backend's template names -> id of what stands for it. */
  embedUrls: Readonly<Record<string, string>>;
}

export interface VineServerOptions extends Served, ListenOptions {
  /** Talk by TLS. */
  certificate?: Certificate | undefined;
  /** It's part of a server of the user's, which listens itself and answers what is nobody's here. */
  isInside?: boolean;
  /** Updates are applied in place; otherwise every one reloads. */
  hot: boolean;
  /** What pages print is told. */
  console?: boolean;
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
    /** Something in a page that need not be wrong: a file that it names and nobody has, a call that goes past us. */
    warning: Problem;
    note: string;
    /** Something that a page printed; `place` is the file and line that did. */
    printed: { from: LivePage; level: ConsoleMessage['level']; text: string; place?: string };
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
  readonly #door: FrontDoor;
  /** The newest exchanges with backends, oldest first. */
  readonly #exchanges: ExchangeReport[] = [];
  #settingsProblems: readonly Problem[] = [];
  /** What is wrong with types, which holds nothing back. */
  #typeProblems: readonly Problem[] = [];
  #unsubscribe: (() => void)[] = [];
  readonly #requests = new Requests(() => ({
    ...this.#options,
    frontEnd: this.#frontEnd,
    forwarder: this.#forwarder,
    forwarding: this.#forwarding,
    pieces: this.#pieces,
    tool: this.#tool,
    live: this.live,
    onWarning: (problem) => this.errors.emit('warning', problem),
    onNote: (text) => this.#noteOnce(text),
  }));
  readonly #reports = new PageReports({
    live: this.live,
    shown: () => ({
      project: this.#options.project,
      pieces: this.#pieces,
      answers: this.#answers,
      rules: this.#forwarder.rules,
    }),
    onError: (from, problem) => this.errors.emit('error', { from, problem }),
    onDirectCall: (problem) => {
      const key = JSON.stringify([problem.message, problem.file, problem.position]);
      if (this.#told.isNews(key)) this.errors.emit('warning', problem);
    },
    onPrinted: (printed) => this.errors.emit('printed', printed),
  });
  #port = 0;
  readonly #told = new ToldOnce();

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
    this.#door = new FrontDoor({
      onRequest: (request, response, isContinued) => this.handle(request, response, { isContinued }),
      onUpgrade: (request, socket, head) => void this.upgrade(request, socket, head),
      failed: (what, error) => this.#failed(what, error),
      certificate: options.certificate,
    });
    this.live.on('message', ({ from, message }) => {
      this.#reports.take(from, message).catch((error: unknown) => this.#failed('a message of a page', error));
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
    this.#tool = this.#toolOf(this.#options);
    this.forwardBy(served.forward);
    this.#settingsProblems = [];
    this.live.restart(served.project.revision, reason);
    this.#follow(served.project);
  }

  /** Serves pages at other paths from now on. */
  routeBy(routes: readonly PageRoute[]): void {
    this.#options = { ...this.#options, routes };
    this.#frontEnd = this.#frontEndOf(this.#options);
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

  #frontEndOf({ project, routes, trust, hot, console = false }: VineServerOptions): FrontEnd {
    const onNote = (text: string) => this.#noteOnce(text);
    return new FrontEnd({
      project,
      routes,
      trust,
      hot,
      console,
      pieces: this.#pieces,
      answers: this.#answers,
      live: this.live,
      onNote,
    });
  }

  #piecesOf(project: Project): PieceStore {
    return new PieceStore(project, this.live.hookKey, (note) => this.errors.emit('note', note));
  }

  #toolOf({ project, trust, hot, forward, isInside = false }: VineServerOptions): ToolUrls {
    return new ToolUrls({
      hot,
      rendersPages: isInside || trust.origins.length > 0 || forward.some(({ when }) => when === 'missing'),
      project,
      pieces: this.#pieces,
      answers: this.#answers,
      live: this.live,
      trust,
      exchanges: this.#exchanges,
      onPageError: (from, message) => {
        this.#reports.error(from, message).catch((error: unknown) => this.#failed('an error of a worker', error));
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
      return { problems: [...this.#settingsProblems, ...problems, ...this.#typeProblems], holdsBack: problems.length > 0 };
    });
  }

  /**
   * Files changed that a backend makes its pages of: those that show any of its pages reload when it answers. Returns how many.
   */
  async templatesChanged(files: readonly string[]): Promise<number> {
    const shown = () => this.live.pages.filter(({ page }) => entriesOf(page) !== undefined);
    const backends = this.#forwarder.rules.filter(({ when }) => when === 'missing').map(({ to }) => to.label);
    await backendsAnswer(shown().flatMap(({ origin }) => origin ?? backends));
    const pages = shown();
    this.live.reload(pages, `${files[0]} changed`);
    return pages.length;
  }

  /** Loads what maps need, which the first one would wait for. */
  async prepareMaps(): Promise<void> {
    await this.#pieces.prepareMaps();
  }

  /** See `Requests.quiet`. */
  async quiet(): Promise<void> {
    await this.#requests.quiet();
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

  /** What is wrong with types: pages show it and go on. */
  showTypeProblems(problems: readonly Problem[]): void {
    this.#typeProblems = problems.slice(0, mostTypeProblems);
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
    return originAt(this.#options.host, this.#port, this.#door.isSecure);
  }

  /**
   * Starts to listen, on the wanted port or the next free one, and not where a backend is expected.
   *
   * @throws VineError `port-taken` or `address-unavailable`.
   */
  async listen(): Promise<void> {
    this.#port = await this.#door.listen({ ...this.#options, isReserved: (port) => this.expectsBackendAt(port) });
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
    if (!this.#options.isInside) await this.#door.close();
  }

  #messageOf(update: ProjectUpdate): UpdateMessage {
    const { id, changed, removed, styles, files, reload } = update;
    const scripts = this.#pieces.ofUpdate(update, this.#origin);
    return { type: 'update', id, changed, removed, styles, scripts, files, ...(reload.length > 0 ? { reload } : {}) };
  }

  /** Answers with another certificate from now on. */
  renew(certificate: Certificate): void {
    this.#door.renew(certificate);
  }

  /** Answers a request. */
  handle(request: IncomingMessage, response: ServerResponse, { isContinued = false, next }: Handling = {}): void {
    const { trace } = this.#options.project.options;
    const from = trace.now();
    if (from > 0)
      response.once('close', () => trace.overlapping('request', `${request.method} ${request.url}`, from, {}, lanes.main));
    // A client that goes away in the middle is told by `close`.
    request.on('error', () => {});
    response.on('error', () => {});
    // Where somebody else listens, the first request tells where.
    if (this.#options.isInside) this.#port ||= request.socket.localPort ?? 0;
    const answer = this.#requests.answer(request, response, { isContinued, next });
    answer.catch((error: unknown) => this.#requestFailed(request, response, error));
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

  #noteOnce(text: string): void {
    if (this.#told.isNews(text)) this.errors.emit('note', text);
  }

  /** Takes a connection that changes protocols. Returns whether it's one for us, or for a backend of ours. */
  upgrade(request: IncomingMessage, socket: Duplex, head: Buffer): boolean {
    try {
      return this.#requests.upgrade(request, socket, head);
    } catch (error) {
      this.#failed(`the upgrade of ${request.url}`, error);
      refuseUpgrade(socket, '500 Internal Server Error');
      return true;
    }
  }
}

/** What failed, and on what. */
export interface Failure {
  what: string;
  error: Error;
}

/** So many problems with types a page shows. */
const mostTypeProblems = 5;
/** Exchanges that can be looked at afterwards. */
const keptExchanges = 500;
