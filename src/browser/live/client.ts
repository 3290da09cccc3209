import {
  type ClientSettings,
  digestVersions,
  liveProtocol,
  type PageMessage,
  type ServerMessage,
  type UpdateMessage,
} from '../../core/live/messages.js';
import { shownIds } from '../../core/module-id.js';
import type { Problem } from '../../core/problem/problem.js';
import { ownUrl } from '../../core/urls.js';
import { hideAway, showAway } from '../panel/away.js';
import { hidePanel, showPanel } from '../panel/panel.js';
import { ours } from '../runtime/base-path.js';
import { setHookKey, setRevision } from '../runtime/hook.js';
import { loadedPieces } from '../runtime/load-piece.js';
import { thrownText } from '../runtime/page-values.js';
import { registry } from '../runtime/records.js';
import { entriesSettled } from '../runtime/run-modules.js';
import { started } from '../runtime/runtime.js';
import { sheetVersionsEverywhere } from '../runtime/sheets.js';
import { type Applied, applyUpdate } from './apply-update.js';
import { watchConsole } from './console-lines.js';
import { watchDirectCalls } from './direct-calls.js';
import { PageErrors } from './page-errors.js';
import { NeedsReload } from './plan-update.js';
import { loadedPaths } from './replace-file.js';

const firstRetryMs = 250;
const longestRetryMs = 5000;
/** How long the server may take to answer whether it's still there. */
const answerMs = 4000;
/** How long the server may be gone before the page says so. */
const awayMs = 1500;
const mostUnsentErrors = 10;
/** How long an update waits for a page that is still starting, and how long it may take itself. */
const longestStartMs = 5000;
const longestUpdateMs = 15_000;

/** The page's end of the live channel: connects, applies what comes, reports back, and connects again when the server went away. */
export class LiveClient {
  readonly #settings: ClientSettings;
  /** The page as the server knows it. */
  #page: string;
  #revision: number;
  #session: string;
  #socket: WebSocket | undefined;
  #key = '';
  #retryMs = firstRetryMs;
  #retryTimer: ReturnType<typeof setTimeout> | undefined;
  #awayTimer: ReturnType<typeof setTimeout> | undefined;
  #answerTimer: ReturnType<typeof setTimeout> | undefined;
  /** Messages are handled one after another. */
  #queue: Promise<void> = Promise.resolve();
  #isRefusalTold = false;
  #hasStarted = false;
  #isReloading = false;
  /** Something failed while the last update was applied. */
  #wasBroken = false;
  /** Problems of the build, and errors that updates led to: both show in the panel. */
  #problems: readonly Problem[] = [];
  #failures: readonly Problem[] = [];
  readonly #errors = new PageErrors((message) => this.#tellError(message));
  /** Errors of before the channel was there. */
  readonly #unsentErrors: PageMessage[] = [];

  constructor(settings: ClientSettings) {
    this.#settings = settings;
    this.#page = settings.page;
    this.#revision = settings.revision;
    this.#session = settings.session;
    watchDirectCalls((message) => this.#tellError(message));
    if (settings.console) watchConsole((message) => this.#tellError(message));
    // Otherwise a page with many files forgets which it loaded.
    performance.setResourceTimingBufferSize(20_000);
    void started.then(() => {
      this.#hasStarted = true;
    });
    // After sleep, or in a tab that was in the background for long, the connection may be dead without anybody having said so.
    document.addEventListener('visibilitychange', () => this.#ask());
    document.addEventListener('resume', () => this.#ask());
    addEventListener('online', () => this.#ask());
    addEventListener('pageshow', () => this.#ask());
  }

  #tellError(message: PageMessage): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#send(message);
    else this.#unsentErrors.push(message);
  }

  /** Connects, or tries again later. The key is asked for each time: a restarted server has a new one. */
  async connect(): Promise<void> {
    const page = this.#page;
    try {
      const response = await fetch(this.#url('session'), { cache: 'no-store' });
      if (response.status === 403) return this.#refused(await response.text());
      if (!response.ok) throw new Error(response.statusText);
      const { key, hook } = (await response.json()) as { key: string; hook: string };
      this.#key = key;
      setHookKey(hook);
      const query = new URLSearchParams({ key: this.#key, page, session: this.#session, revision: String(this.#revision) });
      const socket = new WebSocket(`${this.#url('live').replace(/^http/, 'ws')}?${query}`, liveProtocol);
      this.#socket = socket;
      socket.onopen = () => {
        this.#retryMs = firstRetryMs;
        clearTimeout(this.#awayTimer);
        this.#awayTimer = undefined;
        hideAway();
        for (const message of this.#unsentErrors.splice(0, mostUnsentErrors)) this.#send(message);
        this.#unsentErrors.length = 0;
      };
      socket.onmessage = ({ data }) => this.#receive(String(data));
      socket.onclose = () => {
        if (this.#socket === socket) this.#retry();
      };
    } catch {
      this.#retry(); // the server is not there; it will be
    }
  }

  /** Connects later. `isAway`: nobody answers, which the page says if it lasts. */
  #retry(isAway = true): void {
    if (this.#isReloading) return;
    // A server that starts over is back before anybody needs to know.
    if (isAway) this.#awayTimer ??= setTimeout(() => this.#isReloading || showAway(), awayMs);
    this.#retryTimer = setTimeout(() => void this.connect(), this.#retryMs);
    this.#retryMs = Math.min(this.#retryMs * 1.6, longestRetryMs);
  }

  /** One of our own URLs, where the script of this page came from. */
  #url(name: 'session' | 'live' | 'open'): string {
    return new URL(ours(ownUrl.plain(this.#settings.base, name)), location.origin).href;
  }

  /** The server has nothing for pages of this origin: updates won't come, and that is said. */
  #refused(why: string): void {
    if (!this.#isRefusalTold) console.warn(`Vine Spark: this page gets no updates: ${why.trim()}`);
    this.#isRefusalTold = true;
    this.#retryMs = longestRetryMs;
    this.#retry(false);
  }

  /** The page has more modules of its own from now on, and is known by another name. */
  follow(page: string): void {
    if (page === this.#page) return;
    this.#page = page;
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
    clearTimeout(this.#retryTimer);
    void this.connect();
  }

  /** Makes sure that the channel is alive: asks, and connects anew where no answer comes. */
  #ask(): void {
    const socket = this.#socket;
    if (document.visibilityState !== 'visible' || !socket || this.#isReloading) return;
    if (socket.readyState === WebSocket.CLOSED) {
      clearTimeout(this.#retryTimer);
      void this.connect();
      return;
    }
    this.#send({ type: 'ask', revision: this.#revision });
    clearTimeout(this.#answerTimer);
    this.#answerTimer = setTimeout(() => {
      if (this.#socket !== socket) return;
      socket.close();
      void this.connect();
    }, answerMs);
  }

  #receive(data: string): void {
    clearTimeout(this.#answerTimer);
    const message = JSON.parse(data) as ServerMessage;
    this.#queue = this.#queue.then(() => this.#handle(message)).catch((error: unknown) => this.#failed(error));
  }

  async #handle(message: ServerMessage): Promise<void> {
    switch (message.type) {
      case 'hello':
        if (message.session === this.#session) return;
        this.#session = message.session;
        this.#revision = message.revision;
        setRevision(message.revision);
        return this.#resume();
      case 'again':
        return this.#resume();
      case 'update':
        return this.#update(message);
      case 'reload':
        return this.#reload(message.reason);
      case 'problem':
        this.#problems = message.problems;
        for (const problem of message.problems) this.#logPlace(problem);
        return this.#showProblems();
      case 'failed':
        if (message.isShown) this.#failures = [...this.#failures, message.problem];
        this.#logPlace(message.problem);
        return this.#showProblems();
      case 'solved':
        this.#problems = [];
        this.#showProblems();
        // A page that could not start because of the problem starts now.
        if (document.readyState === 'complete' && !this.#hasStarted) this.#reload('the problem is solved');
        return;
      case 'said':
        return console.info(`Vine Spark: ${message.text}`);
      case 'told':
        return this.#logPlace(message.problem);
      case 'current':
        return;
    }
  }

  #showProblems(): void {
    const all = [...this.#problems, ...this.#failures];
    if (all.length > 0) showPanel(all, (file, line, column) => this.#editorUrl(file, line, column));
    else hidePanel();
  }

  #editorUrl(file: string, line: number, column: number): string {
    const query = new URLSearchParams({ key: this.#key, file, line: String(line), column: String(column) });
    return `${this.#url('open')}?${query}`;
  }

  /** Where a problem is, with a link that the console makes clickable. */
  #logPlace({ message, file, position, hint, severity }: Problem): void {
    const advice = severity === 'warning' && hint ? `\n${hint}` : '';
    if (!file || !position) {
      if (advice !== '') console.warn(`Vine Spark: ${message}${advice}`);
      return;
    }
    const { line, column } = position;
    const log = advice === '' ? console.info : console.warn;
    log(`Vine Spark: ${message} at ${file}:${line}:${column + 1}${advice}\n${this.#editorUrl(file, line, column + 1)}`);
  }

  /** Asks a restarted server whether this page still runs what it has. */
  #resume(): void {
    const versions = [...registry.values()].map(({ definition }) => definition.edges.version);
    this.#send({
      type: 'resume',
      page: this.#page,
      revision: this.#revision,
      digest: digestVersions(versions),
      pieces: [...loadedPieces],
      styles: sheetVersionsEverywhere(),
      html: this.#settings.html,
      files: loadedPaths().slice(0, 5000),
      loadedAt: performance.timeOrigin,
    });
  }

  async #update(update: UpdateMessage): Promise<void> {
    if (update.id <= this.#revision) return;
    this.#revision = update.id;
    setRevision(update.id);
    if (document.readyState === 'loading')
      await new Promise((resolve) => addEventListener('DOMContentLoaded', resolve, { once: true }));
    const forced = update.reload?.find(({ page }) => page === this.#page);
    if (forced) return this.#reload(forced.reason, update.id);
    if (!this.#hasStarted && update.scripts.length > 0) return this.#reload('the page had not started', update.id);
    if (!this.#settings.hot) return this.#reload('updates in place are turned off', update.id);
    if (!(await withinTime(entriesSettled(), longestStartMs))) return this.#reload('the page was still starting', update.id);
    const from = performance.now();
    this.#errors.updating();
    const errors = this.#errors.count;
    try {
      const applied = await applyInTime(update);
      applied.isBroken = this.#errors.count > errors && applied.ran.length > 0;
      // What a failed update has thrown away doesn't come back with the one that mends it.
      if (this.#wasBroken && applied.ran.length > 0 && !applied.isBroken) applied.reset.push('what had failed');
      if (applied.ran.length > 0) this.#wasBroken = applied.isBroken;
      for (const key of ['boundaries', 'ran', 'anew', 'restyled'] as const) applied[key] = shownIds(applied[key]);
      const applyMs = performance.now() - from;
      this.#send({ type: 'applied', update: update.id, ...applied, styles: applied.restyled, applyMs });
      // What failed before has run again and is told again if it failed again: that message comes after this one.
      if (applied.ran.length > 0) this.#failures = [];
      this.#showProblems();
      this.#log(update, applied, applyMs);
    } catch (error) {
      if (error instanceof NeedsReload) return this.#reload(error.why.reason, update.id, shownIds(error.why.chain));
      throw error;
    }
  }

  #log({ changed }: UpdateMessage, { files, reset, notes, restyled, isBroken }: Applied, applyMs: number): void {
    const names = new Set([...changed, ...restyled, ...files]);
    if (names.size === 0) return;
    const state = isBroken
      ? '; something failed on the way, so state may be lost'
      : reset.length > 0
        ? `; state starts anew in ${reset.join(', ')}`
        : '';
    console.info(
      `Vine Spark: updated ${[...names].join(', ')} in ${applyMs.toFixed(0)} ms${state}${notes.map((note) => `; ${note}`).join('')}`,
    );
  }

  #reload(reason: string, update = 0, chain: string[] = []): void {
    this.#isReloading = true;
    this.#send({ type: 'reloaded', update, reason, chain });
    console.info(`Vine Spark: reloading: ${reason}${chain.length > 1 ? ` (${chain.join(' → ')})` : ''}`);
    PageErrors.reloading();
    location.reload();
  }

  #failed(error: unknown): void {
    this.#reload(`the update failed: ${thrownText(error)}`, this.#revision);
  }

  #send(message: PageMessage): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(message));
  }
}

/** An update that hangs, e.g. in a top-level `await`, must not keep all later ones waiting. */
async function applyInTime(update: UpdateMessage): Promise<Applied> {
  const applying = applyUpdate(update);
  if (await withinTime(applying, longestUpdateMs)) return applying;
  throw new NeedsReload(`the update was not done after ${longestUpdateMs / 1000} seconds`, update.changed.slice(0, 1));
}

/** Whether a promise settles in time. */
async function withinTime(promise: Promise<unknown>, limitMs: number): Promise<boolean> {
  let timer: ReturnType<typeof setTimeout> | undefined;
  const late = new Promise<false>((resolve) => {
    timer = setTimeout(() => resolve(false), limitMs);
  });
  const settled = promise.then(
    () => true,
    () => true,
  );
  const isInTime = await Promise.race([settled, late]);
  clearTimeout(timer);
  return isInTime;
}
