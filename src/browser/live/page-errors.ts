import type { PageErrorMessage } from '../../core/live/messages.js';
import { ownPrefix } from '../../core/urls.js';
import { asked, isError, thrownText } from '../runtime/page-values.js';
import { watchRefusedPieces } from '../runtime/refused.js';
import { startErrors } from '../runtime/run-modules.js';
import { pieceTags } from '../runtime/runtime.js';

/** How long after an update what goes wrong is taken for its doing. */
const aftermathMs = 200;
/** Set when an update makes the page reload, so that errors of the start are known to come from it. */
const reloadKey = '~spark reloaded';
const mostKnown = 100;

/** Catches errors that nothing else in the page catches, and tells what the page was doing. */
export class PageErrors {
  readonly #report: (message: PageErrorMessage) => void;
  /** Texts of errors that came by themselves: they don't come from an update that they happen to follow. */
  readonly #known = new Set<string>();
  readonly #seen = new WeakSet<object>();
  /** How many errors nothing caught so far. */
  count = 0;
  #isUpdating: boolean;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(report: (message: PageErrorMessage) => void) {
    this.#report = report;
    this.#isUpdating = takeMark();
    watchRefusedPieces((id, error) => {
      const message = `${String(error)} (in ${id})`;
      this.#report({ type: 'error', message, stack: '', during: 'start', pieces: pieceTags, file: id });
    });
    if (this.#isUpdating) addEventListener('load', () => this.updating(), { once: true });
    // What the user does next has consequences of its own.
    for (const action of ['pointerdown', 'keydown'])
      addEventListener(action, () => this.#ended(), { capture: true, passive: true });
    addEventListener('error', ({ error, message, filename, lineno, colno }) => {
      // Errors of workers come here too, without what was thrown; the worker has told them itself.
      if (!isError(error) && filename.includes(`/${ownPrefix}piece/worker/`)) return;
      this.#uncaught(error, message, `    at ${filename}:${lineno}:${colno}`);
    });
    addEventListener('unhandledrejection', ({ reason }) => this.#uncaught(reason, thrownText(reason)));
  }

  /** An update begins; what fails from now on until shortly after it comes from it. */
  updating(): void {
    this.#isUpdating = true;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#ended(), aftermathMs);
  }

  #ended(): void {
    this.#isUpdating = false;
  }

  /** The page is about to reload because of an update. */
  static reloading(): void {
    try {
      sessionStorage.setItem(reloadKey, '1');
    } catch {
      // Storage may be forbidden; then errors of the start only aren't known to come from the update.
    }
  }

  #uncaught(error: unknown, text: string, place = ''): void {
    const isKnownError = isError(error);
    // React reports some errors twice.
    if (isKnownError && this.#seen.has(error)) return;
    if (isKnownError) this.#seen.add(error);
    this.count++;
    const message = describeThrown(error, text);
    const isStart = isKnownError && startErrors.has(error);
    const isFromUpdate = this.#isUpdating && !this.#known.has(message);
    if (!isFromUpdate && this.#known.size < mostKnown) this.#known.add(message);
    this.#report({
      type: 'error',
      message,
      stack: isKnownError ? (asked(() => error.stack, '') ?? '') : place,
      during: isStart ? 'start' : isFromUpdate ? 'update' : 'life',
      pieces: pieceTags,
    });
  }
}

/** What was thrown, as text: an error with what caused it, an object with what it holds. */
function describeThrown(thrown: unknown, text: string): string {
  if (isError(thrown)) {
    const cause = asked(() => thrown.cause, undefined);
    const because =
      cause === undefined || cause === thrown ? '' : ` (cause: ${isError(cause) ? thrownText(cause) : shown(cause)})`;
    return `${thrownText(thrown)}${because}`;
  }
  return typeof thrown === 'object' && thrown !== null ? shown(thrown) : text;
}

function shown(value: unknown): string {
  try {
    return JSON.stringify(value)?.slice(0, 500) ?? String(value);
  } catch {
    return thrownText(value); // it holds itself
  }
}

function takeMark(): boolean {
  try {
    const mark = sessionStorage.getItem(reloadKey);
    sessionStorage.removeItem(reloadKey);
    return mark !== null;
  } catch {
    return false;
  }
}
