import { createHash } from 'node:crypto';
import { readFileSync, statSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import { basename, dirname, join } from 'node:path';
import type { Duplex } from 'node:stream';
import type { PageErrorMessage, ResumeMessage, ServerMessage, UpdateMessage } from '../core/live/messages.js';
import { idToPath, pathToId } from '../core/pieces/id-path.js';
import type { Problem } from '../core/problem.js';
import { isAssetPath } from '../core/translate/kinds.js';
import type { BackendChange } from '../forward/backend-states.js';
import type { ExchangeReport } from '../forward/exchange.js';
import { Forwarder, type Tape } from '../forward/forwarder.js';
import type { CompiledRule, ForwardRule } from '../forward/rule.js';
import { contentHash } from '../project/content-hash.js';
import type { Project, ProjectUpdate } from '../project/project.js';
import { TypedEvents } from '../project/typed-events.js';
import { browserName } from './browser-name.js';
import { type ListenOptions, listen } from './listen.js';
import { LiveChannel, type LivePage, readPageMessage } from './live-channel.js';
import { mapError } from './map-stack.js';
import { notFoundPage } from './not-found.js';
import { openInEditor } from './open-in-editor.js';
import { looksLikeFile, type PageRoute, PageRoutes } from './page-routes.js';
import { PieceStore } from './piece-store.js';
import { renderPage } from './render-page.js';
import { jsonType, refuseHost, refuseUpgrade, scriptType, sendParts, sendPiece, sendTagged, sendText } from './respond.js';
import { decodePath, findStatic, type StaticFile, sendStatic } from './static-file.js';
import { isFromThisMachine, isOwnHost, isOwnOrigin, type Trust } from './trust.js';

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
  #forwarder: Forwarder;
  #routes: PageRoutes;
  #pieces: PieceStore;
  /** Forwarders of earlier rules, which may still have streams open. */
  readonly #oldForwarders: Forwarder[] = [];
  readonly #server: Server;
  readonly #client: string;
  readonly #clientTag: string;
  readonly #worker: string;
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
    this.#forwarder = this.#forwarderOf(options.forward);
    this.#client = readFileSync(new URL('../browser/client.js', import.meta.url), 'utf8');
    this.#clientTag = contentHash(this.#client);
    this.#worker = readFileSync(new URL('../browser/worker.js', import.meta.url), 'utf8');
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
      if (message.type === 'error') this.#pageError(from, message);
      if (message.type === 'resume') void this.#resume(message).then((answer) => this.live.send(from, answer));
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

  #follow(project: Project): void {
    for (const unsubscribe of this.#unsubscribe) unsubscribe();
    this.#unsubscribe = [
      project.on('update', (update) => this.live.update(this.#messageOf(update))),
      project.on('problems', () => this.#problemsChanged()),
      project.on('solved', () => this.#problemsChanged()),
    ];
    if (project.problems.length > 0) this.#problemsChanged();
  }

  #problemsChanged(): void {
    const { project } = this.#options;
    this.live.problemsChanged((page) => {
      const problems = project.problems.length > 0 && project.pages.has(page) ? project.problemsOf(page) : [];
      return { problems: [...this.#settingsProblems, ...problems], holdsBack: problems.length > 0 };
    });
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
  #pageError(from: LivePage, message: PageErrorMessage): void {
    const problem = mapError(message, (frame) => this.#pieces.originOf(frame, message.pieces));
    this.errors.emit('error', { from, problem });
    // What fails later is the application's own business; a page that an update broke, or that stays empty, must say so.
    this.live.send(from, { type: 'failed', problem, isShown: message.during !== 'life' });
  }

  #messageOf(update: ProjectUpdate): UpdateMessage {
    const { id, changed, removed, styles, files, reload } = update;
    const scripts = this.#pieces.ofUpdate(update, this.#origin);
    return { type: 'update', id, changed, removed, styles, scripts, files, ...(reload.length > 0 ? { reload } : {}) };
  }

  /** Whether a page of an earlier run still shows what the files say. */
  async #resume(message: ResumeMessage): Promise<ServerMessage> {
    const { project } = this.#options;
    const page = project.pages.get(message.page);
    const stale = { type: 'reload', reason: 'the server was restarted and files had changed' } as const;
    if (!page || page.version !== message.html) return stale;
    const prefix = `${project.options.base}~vine/piece/lazy/`;
    const lazy = message.pieces
      .filter((url) => url.startsWith(prefix))
      .map((url) => pathToId(decodeURIComponent(url.slice(prefix.length, -'.js'.length))));
    for (const id of lazy) if (!(await project.ensure(id))) return stale;
    const ids = new Set([...project.pageOrder(page), ...project.graph.reachable(lazy)]);
    if (project.pieces.digest(ids) !== message.digest) return stale;
    for (const [id, url] of Object.entries(message.styles))
      if (!project.graph.has(id) || project.sheets.urlOf(id) !== url) return stale;
    for (const path of message.files) {
      const file = this.#fileOf(path);
      if (!file) continue;
      project.noteServed(file, path);
      if ((statSync(file, { throwIfNoEntry: false })?.mtimeMs ?? 0) > message.loadedAt) return stale;
    }
    return { type: 'current' } as const;
  }

  #onRequest(request: IncomingMessage, response: ServerResponse, isContinued = false): void {
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
    if (path === workspacePath) return this.#sendWorkspace(request, response);
    if (path.startsWith(`${base}~vine/`)) return this.#own(path.slice(`${base}~vine/`.length), whole, request, response);
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

  /**
   * Where the sources lie, so that edits made in the browser's debugger land in the files. A browser on another machine
   * could not reach them, and has no business knowing.
   */
  #sendWorkspace(request: IncomingMessage, response: ServerResponse): void {
    const { root } = this.#options.project.options;
    if (!isFromThisMachine(request)) return sendText(response, 404, 'text/plain; charset=utf-8', '');
    response.setHeader('cache-control', 'no-cache');
    sendText(response, 200, jsonType, JSON.stringify({ workspace: { root, uuid: uuidOf(root) } }));
  }

  /** Pages and files. Returns whether there was an answer. */
  async #frontEnd(path: string, request: IncomingMessage, response: ServerResponse): Promise<boolean> {
    const exact = this.#routes.at(path);
    if (exact !== undefined) {
      await this.#sendPage(exact, request, response);
      return true;
    }
    const file = this.#findFile(path);
    if (file) {
      const { project } = this.#options;
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

  /** A file that is sent as it is. */
  #findFile(path: string): StaticFile | undefined {
    const { verbatim, root } = this.#options.project.options;
    return (
      findStatic(verbatim, path) ??
      (isAssetPath(path) && !path.includes('/node_modules/') ? findStatic([root], path) : undefined) ??
      this.#knownAsset(path) ??
      this.#classicScript(path)
    );
  }

  /** The file behind a path as browsers ask for it. */
  #fileOf(path: string): string | undefined {
    const { base } = this.#options.project.options;
    const file = path.startsWith(base) ? this.#findFile(`/${encodeURI(path.slice(base.length))}`) : undefined;
    return file && join(file.folder, file.path);
  }

  /** A script that a page loads as it is. */
  #classicScript(path: string) {
    const { project } = this.#options;
    const id = decodePath(path)?.slice(1);
    const isNamed = id !== undefined && [...project.pages.values()].some(({ classic }) => classic.includes(id));
    return isNamed ? { folder: project.options.root, path: `/${id}` } : undefined;
  }

  /** A file of a package is sent only if the application uses it. */
  #knownAsset(path: string) {
    const { project } = this.#options;
    const id = decodePath(path)?.slice(1);
    return id !== undefined && this.#isKnownAsset(id) ? { folder: project.options.root, path: `/${id}` } : undefined;
  }

  #isKnownAsset(id: string): boolean {
    return [id, `${id}?url`].some((known) => this.#options.project.graph.content(known)?.kind === 'asset');
  }

  async #sendPage(id: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { project, hot } = this.#options;
    await project.settled();
    const page = project.pages.get(id)!;
    const html = renderPage({ project, page, session: this.live.session, hot });
    response.setHeader('cache-control', 'no-store');
    sendText(response, 200, 'text/html; charset=utf-8', request.method === 'HEAD' ? '' : html);
  }

  /** URLs of the tool itself. */
  async #own(path: string, whole: string, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { project } = this.#options;
    response.setHeader('cache-control', 'no-cache');
    if (path.startsWith('piece/') || path.startsWith('worker/') || path.startsWith('style/')) await project.settled();
    if (path === 'client.js')
      return sendTagged(request, response, { tag: this.#clientTag, type: scriptType, parts: [this.#client] });
    if (path === 'session') {
      // Readable by our own pages only: others get no permission to read it.
      if (!isOwnOrigin(request, this.#options.trust)) return sendText(response, 403, jsonType, '{}');
      return sendText(response, 200, jsonType, JSON.stringify({ key: this.live.key, session: this.live.session }));
    }
    if (path === 'traffic') return this.#sendTraffic(new URLSearchParams(whole.split('?')[1]), response);
    if (path === 'error') return this.#workerError(new URLSearchParams(whole.split('?')[1]), request, response);
    if (path === 'open') return this.#openEditor(new URLSearchParams(whole.split('?')[1]), response);
    const decoded = pathToId(decodePath(path) ?? '');
    const page = /^piece\/page\/(.+)\/(packages|app)\.js$/.exec(decoded);
    if (page && project.pages.has(page[1]!)) {
      return sendPiece(request, response, this.#pieces.ofPage(project.pages.get(page[1]!)!, page[2] as 'packages' | 'app'));
    }
    const start = /^piece\/page\/(.+)\/start-(\d+)\.js$/.exec(decoded);
    const entry = start && project.pages.get(start[1]!)?.runs[Number(start[2])]?.entry;
    if (entry) return sendText(response, 200, scriptType, `self["~vine"].start(${JSON.stringify(entry)});\n`);
    const worker = /^worker\/(.+)\.js$/.exec(decoded);
    if (worker && project.graph.has(worker[1]!))
      return sendPiece(request, response, this.#pieces.worker(worker[1]!, this.#worker));
    const lazy = /^piece\/lazy\/(.+)\.js$/.exec(decoded);
    if (lazy) return this.#sendLazy(lazy[1]!, request, response);
    const update = /^piece\/update\/(\d+)\.js$/.exec(decoded);
    const code = update && this.#pieces.updateCode(Number(update[1]));
    if (code) return sendText(response, 200, scriptType, code);
    const map = /^map\/(.+)\.json$/.exec(decoded);
    if (map) return this.#sendMap(map[1]!, new URLSearchParams(whole.split('?')[1]).get('of') ?? '', response);
    const file = /^file\/(.+)$/.exec(decoded);
    if (file && this.#isKnownAsset(file[1]!)) return sendStatic(request, response, locate(project.paths.fileOf(file[1]!)));
    const style = /^style\/(.+)$/.exec(decoded);
    if (style) return this.#sendStyle(style[1]!, new URLSearchParams(whole.split('?')[1]).get('v'), request, response);
    this.#notFound(`~vine/${path}`, undefined, response);
  }

  /** The newest exchanges with backends, as JSON. They may hold what nobody else should see, so the key is needed. */
  #sendTraffic(query: URLSearchParams, response: ServerResponse): void {
    if (query.get('key') !== this.live.key) return sendText(response, 403, jsonType, '{}');
    const exchanges = this.#exchanges.map(({ rule, from, ...report }) => ({
      rule: rule.label,
      backend: rule.to.label,
      ...report,
    }));
    sendText(response, 200, jsonType, JSON.stringify({ exchanges }));
  }

  /** An error of a worker, which has no channel of its own. */
  async #workerError(query: URLSearchParams, request: IncomingMessage, response: ServerResponse): Promise<void> {
    const plain = 'text/plain; charset=utf-8';
    if (query.get('key') !== this.live.key || request.method !== 'POST') return sendText(response, 403, plain, '');
    let body = '';
    for await (const chunk of request.setEncoding('utf8')) {
      body += chunk;
      if (body.length > longestErrorBody) return sendText(response, 413, plain, '');
    }
    const message = readPageMessage(body);
    const worker = pathToId(decodePath(query.get('worker') ?? '') ?? '').replace(/^.*?~vine\/worker\/|\.js$/g, '');
    const from = { number: 0, browser: browserName(request.headers['user-agent']), page: worker };
    if (message?.type === 'error') this.#pageError(from, message);
    sendText(response, 204, plain, '');
  }

  /**
   * Opens a file of the project in the user's editor. Only with the key, which pages of other origins can't know. The
   * answer is empty, so that the page whose link was followed stays.
   */
  #openEditor(query: URLSearchParams, response: ServerResponse): void {
    const { project } = this.#options;
    const plain = 'text/plain; charset=utf-8';
    if (query.get('key') !== this.live.key)
      return sendText(response, 403, plain, 'This link is of an earlier run of the server; reload the page.\n');
    const id = query.get('file') ?? '';
    if (!project.isOwnFile(id)) return sendText(response, 404, plain, `There is no file ${id} in this project.\n`);
    const [line, column] = ['line', 'column'].map((name) => Math.max(1, Number.parseInt(query.get(name) ?? '', 10) || 1));
    openInEditor({ file: project.paths.fileOf(id), line: line!, column: column! }, (problem) =>
      this.errors.emit('editor', problem),
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
    sendPiece(request, response, this.#pieces.lazy(id));
  }

  #sendMap(name: string, tag: string, response: ServerResponse): void {
    const style = /^style\/(.+)$/.exec(name);
    const sheet = style && this.#options.project.sheets.render(style[1]!, tag || undefined);
    const map = sheet ? [sheet.map()] : this.#pieces.map(name, tag);
    if (map === undefined)
      return sendText(
        response,
        404,
        'text/plain; charset=utf-8',
        'This piece has been replaced; reload the page for a new map.\n',
      );
    sendParts(response, { type: jsonType, parts: map });
  }

  #sendStyle(id: string, version: string | null, request: IncomingMessage, response: ServerResponse): void {
    const { project } = this.#options;
    const tag = version ?? project.sheets.versionOf(id);
    const sheet = project.sheets.render(id, tag);
    if (!sheet)
      return sendText(response, 404, 'text/css; charset=utf-8', `/* There is no style sheet ${id.replaceAll('*/', '')}. */\n`);
    const path = idToPath(id);
    const parts = [sheet.text, `\n/*# sourceMappingURL=${project.options.base}~vine/map/style/${path}.json?of=${tag} */\n`];
    sendTagged(request, response, { tag, type: 'text/css; charset=utf-8', parts });
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

/** Exchanges that can be looked at afterwards. */
const keptExchanges = 500;
const longestErrorBody = 100_000;
/** Of a request's head. */
const mostHeaderBytes = 64 << 10;
/** More servers than this don't stand in a row: it's a circle. */
const mostForwards = 20;

const clientErrors: Record<string, [status: string, text: string]> = {
  HPE_HEADER_OVERFLOW: [
    '431 Request Header Fields Too Large',
    `The head of the request is longer than ${mostHeaderBytes >> 10} kB.`,
  ],
  ERR_HTTP_REQUEST_TIMEOUT: ['408 Request Timeout', 'The head of the request did not come in time.'],
};

/** What is no request, or one that two servers could read differently, is refused: it must not reach a backend. */
function onClientError(error: NodeJS.ErrnoException, socket: Duplex): void {
  if (error.code === 'ECONNRESET' || !socket.writable) return void socket.destroy();
  const [status, text] = clientErrors[error.code ?? ''] ?? [
    '400 Bad Request',
    `This is no valid HTTP request: ${error.message}.`,
  ];
  const body = `${text}\n`;
  socket.end(
    `HTTP/1.1 ${status}\r\nconnection: close\r\ncontent-type: text/plain; charset=utf-8\r\ncontent-length: ${Buffer.byteLength(body)}\r\n\r\n${body}`,
  );
}

/** Where Chromium's debugger asks for the folder of a page's sources. */
const workspacePath = '/.well-known/appspecific/com.chrome.devtools.json';

/** A UUID that stays the same for a folder (RFC 9562, 5.8: version 8, values of our own). */
function uuidOf(folder: string): string {
  const hex = createHash('sha256').update(folder).digest('hex');
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-8${hex.slice(13, 16)}-a${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}

/** A file outside the project that a module uses. */
function locate(file: string): StaticFile {
  return { folder: dirname(file), path: `/${basename(file)}` };
}
