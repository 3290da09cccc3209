import { shownText } from '../../core/text/shown-text.js';
import type { LivePage } from '../../server/live/live-channel.js';

/** A page that comes back so soon has only loaded anew. */
const reloadMs = 1500;

/** Says which pages come and go, and nothing of those that only reload. */
export class Presence {
  readonly #say: (text: string) => void;
  /** Pages that have just gone, by browser and page. */
  readonly #gone = new Map<string, NodeJS.Timeout[]>();

  constructor(say: (text: string) => void) {
    this.#say = say;
  }

  joined(page: LivePage): void {
    const key = keyOf(page);
    const timer = this.#gone.get(key)?.pop();
    if (timer) clearTimeout(timer);
    else this.#say(`${key} is open`);
  }

  left(page: LivePage): void {
    const key = keyOf(page);
    const timers = this.#gone.get(key) ?? [];
    this.#gone.set(key, timers);
    const timer = setTimeout(() => {
      timers.splice(timers.indexOf(timer), 1);
      this.#say(`${key} is closed`);
    }, reloadMs);
    timer.unref();
    timers.push(timer);
  }
}

function keyOf({ page, browser, origin }: LivePage): string {
  const name = page.replace(/^~spark\/embed\//, '') || 'a page';
  return `${shownText(name)} in ${shownText(browser)}${origin === undefined ? '' : ` at ${shownText(origin)}`}`;
}
