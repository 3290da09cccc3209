import { connect } from 'node:net';
import type { Target } from './target.js';

/** A backend answers, after so many milliseconds, or it doesn't, and why. */
export interface BackendChange {
  /** `Target.label`. */
  backend: string;
  isUp: boolean;
  /** How long the connection took; only where it was looked for. */
  ms?: number;
  /** How long the backend was away. */
  awayMs?: number;
  /** What the connection failed with. */
  code?: string;
}

const signsOfAbsence = new Set(['ECONNREFUSED', 'EHOSTUNREACH', 'ENETUNREACH', 'ENOENT', 'ENOTFOUND', 'EAI_AGAIN', 'ETIMEDOUT']);
const lookEveryMs = 1000;
const patienceMs = 3000;

interface State {
  target: Target;
  isUp: boolean | undefined;
  /** `performance.now()` since when it's down. */
  downSince: number;
  timer?: NodeJS.Timeout;
}

/**
 * Which backends answer:
 *
 *   unknown ──▶ up ◀──▶ down
 *
 * Exchanges say so as they come; one that is down is looked for again and again.
 */
export class BackendStates {
  readonly #states: Map<string, State>;
  readonly #onChange: (change: BackendChange) => void;
  #isClosed = false;

  constructor(targets: readonly Target[], onChange: (change: BackendChange) => void) {
    this.#states = new Map(targets.map((target) => [target.label, { target, isUp: undefined, downSince: 0 }]));
    this.#onChange = onChange;
  }

  watch(): void {
    for (const state of this.#states.values()) void this.#look(state);
  }

  answered({ label }: Target): void {
    const state = this.#states.get(label);
    if (state && state.isUp !== true) this.#isUp(state);
  }

  failed({ label }: Target, code: string): void {
    const state = this.#states.get(label);
    // Anything else, such as a slow answer or a certificate that isn't trusted, comes from a backend that is there.
    if (state && signsOfAbsence.has(code)) this.#isDown(state, code);
  }

  close(): void {
    this.#isClosed = true;
    for (const { timer } of this.#states.values()) clearTimeout(timer);
  }

  #isUp(state: State, ms?: number): void {
    const wasDown = state.isUp === false;
    clearTimeout(state.timer);
    state.isUp = true;
    const backend = state.target.label;
    this.#onChange({
      backend,
      isUp: true,
      ...(ms === undefined ? {} : { ms }),
      ...(wasDown ? { awayMs: performance.now() - state.downSince } : {}),
    });
  }

  #isDown(state: State, code: string): void {
    if (state.isUp !== false) {
      state.downSince = performance.now();
      state.isUp = false;
      this.#onChange({ backend: state.target.label, isUp: false, code });
    }
    if (this.#isClosed) return;
    clearTimeout(state.timer);
    state.timer = setTimeout(() => void this.#look(state), lookEveryMs);
    state.timer.unref();
  }

  async #look(state: State): Promise<void> {
    const from = performance.now();
    const code = await tryToConnect(state.target);
    if (this.#isClosed) return;
    if (code !== undefined) this.#isDown(state, code);
    else if (state.isUp !== true) this.#isUp(state, performance.now() - from);
  }
}

/** Connects and hangs up. Returns what it failed with. */
export function tryToConnect({ hostname, port, socketPath }: Target): Promise<string | undefined> {
  return new Promise((resolve) => {
    const socket = connect(socketPath === undefined ? { host: hostname, port } : { path: socketPath });
    const settle = (code: string | undefined) => {
      resolve(code);
      socket.destroy();
    };
    socket.setTimeout(patienceMs, () => settle('ETIMEDOUT'));
    socket.once('connect', () => settle(undefined));
    socket.once('error', (error: NodeJS.ErrnoException) => settle(error.code ?? error.message));
  });
}
