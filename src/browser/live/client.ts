import {
  type ClientSettings,
  digestVersions,
  liveProtocol,
  type PageMessage,
  type ServerMessage,
  type UpdateMessage,
} from '../../core/live/messages.js';
import { hidePanel, showPanel } from '../panel/panel.js';
import { startErrors } from '../runtime/handle.js';
import { loadedPieces } from '../runtime/load-piece.js';
import { registry } from '../runtime/records.js';
import { started } from '../runtime/runtime.js';
import { sheetVersions } from '../runtime/sheets.js';
import { applyUpdate, NeedsReload } from './apply-update.js';

const firstRetryMs = 250;
const longestRetryMs = 5000;
const mostUnsentErrors = 10;

/** The page's end of the live channel: connects, applies what comes, reports back, and connects again when the server went away. */
export class LiveClient {
  readonly #settings: ClientSettings;
  /** The origin that the client script came from, which need not be that of the page. */
  readonly #origin: string;
  #build: number;
  #session: string;
  #socket: WebSocket | undefined;
  #retryMs = firstRetryMs;
  /** Messages are handled one after another. */
  #queue: Promise<void> = Promise.resolve();
  #hasStarted = false;
  #isReloading = false;
  /** Errors of before the channel was there. */
  readonly #unsentErrors: PageMessage[] = [];

  constructor(settings: ClientSettings, origin: string) {
    this.#settings = settings;
    this.#origin = origin;
    this.#build = settings.build;
    this.#session = settings.session;
    void started.then(() => {
      this.#hasStarted = true;
    });
  }

  /** Tells the server of errors that nothing catches, so that they show in the terminal with the user's own positions. */
  watchErrors(): void {
    addEventListener('error', ({ error, message }) => this.#uncaught(error, message));
    addEventListener('unhandledrejection', ({ reason }) => this.#uncaught(reason, String(reason)));
  }

  #uncaught(error: unknown, text: string): void {
    const isError = error instanceof Error;
    const message = {
      type: 'error',
      message: isError ? `${error.name}: ${error.message}` : text,
      stack: isError ? (error.stack ?? '') : '',
      isStart: isError && startErrors.has(error),
    } as const;
    if (this.#socket?.readyState === WebSocket.OPEN) this.#send(message);
    else this.#unsentErrors.push(message);
  }

  /** Connects, or tries again later. The key is asked for each time: a restarted server has a new one. */
  async connect(): Promise<void> {
    const { base, page } = this.#settings;
    try {
      const response = await fetch(`${this.#origin}${base}~vine/session`, { cache: 'no-store' });
      if (!response.ok) throw new Error(response.statusText);
      const { key } = (await response.json()) as { key: string };
      const query = new URLSearchParams({ key, page, session: this.#session, build: String(this.#build) });
      const socket = new WebSocket(`${this.#origin.replace(/^http/, 'ws')}${base}~vine/live?${query}`, liveProtocol);
      this.#socket = socket;
      socket.onopen = () => {
        this.#retryMs = firstRetryMs;
        for (const message of this.#unsentErrors.splice(0, mostUnsentErrors)) this.#send(message);
        this.#unsentErrors.length = 0;
      };
      socket.onmessage = ({ data }) => this.#receive(String(data));
      socket.onclose = () => this.#retry();
    } catch {
      this.#retry(); // the server is not there; it will be
    }
  }

  #retry(): void {
    if (this.#isReloading) return;
    setTimeout(() => void this.connect(), this.#retryMs);
    this.#retryMs = Math.min(this.#retryMs * 1.6, longestRetryMs);
  }

  #receive(data: string): void {
    const message = JSON.parse(data) as ServerMessage;
    this.#queue = this.#queue.then(() => this.#handle(message)).catch((error: unknown) => this.#failed(error));
  }

  async #handle(message: ServerMessage): Promise<void> {
    switch (message.type) {
      case 'hello':
        if (message.session !== this.#session) this.#resume(message.session, message.build);
        return;
      case 'update':
        return this.#update(message);
      case 'reload':
        return this.#reload(message.reason);
      case 'problem':
        showPanel(message.problems);
        return;
      case 'solved':
        hidePanel();
        // A page that could not start because of the problem starts now.
        if (document.readyState === 'complete' && !this.#hasStarted) this.#reload('the problem is solved');
        return;
      case 'current':
        return;
    }
  }

  /** Asks a restarted server whether this page still runs what it has. */
  #resume(session: string, build: number): void {
    this.#session = session;
    this.#build = build;
    const versions = [...registry.values()].map(({ definition }) => definition.edges.version);
    this.#send({
      type: 'resume',
      page: this.#settings.page,
      digest: digestVersions(versions),
      pieces: [...loadedPieces],
      styles: sheetVersions(),
      html: this.#settings.html,
    });
  }

  async #update(update: UpdateMessage): Promise<void> {
    if (update.id <= this.#build) return;
    this.#build = update.id;
    if (document.readyState === 'loading')
      await new Promise((resolve) => addEventListener('DOMContentLoaded', resolve, { once: true }));
    if (!this.#hasStarted) return this.#reload('the page had not started', update.id);
    const forced = update.reload?.find(({ page }) => page === this.#settings.page);
    if (forced) return this.#reload(forced.reason, update.id);
    if (!this.#settings.hot && update.code) return this.#reload('updates in place are turned off', update.id);
    const from = performance.now();
    try {
      const applied = await applyUpdate(update);
      const applyMs = performance.now() - from;
      this.#send({ type: 'applied', update: update.id, ...applied, styles: update.styles.map(({ id }) => id), applyMs });
      hidePanel();
      const names = [...update.changed, ...update.styles.map(({ id }) => id)];
      if (names.length > 0) console.info(`[vine] updated ${names.join(', ')} in ${applyMs.toFixed(0)} ms`);
    } catch (error) {
      if (error instanceof NeedsReload) return this.#reload(error.why.reason, update.id, error.why.chain);
      throw error;
    }
  }

  #reload(reason: string, update = 0, chain: string[] = []): void {
    this.#isReloading = true;
    this.#send({ type: 'reloaded', update, reason, chain });
    console.info(`[vine] reloading: ${reason}`);
    location.reload();
  }

  #failed(error: unknown): void {
    this.#reload(`the update failed: ${error instanceof Error ? error.message : String(error)}`, this.#build);
  }

  #send(message: PageMessage): void {
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(message));
  }
}
