/** How many pieces of work are done before everything else gets its turn. */
export const together = 32;

/** Lets the event loop answer requests while thousands of modules are loaded without ever waiting for anything. */
export class LoadingTurns {
  readonly #hold: () => Promise<unknown> | undefined;
  readonly #queue: (() => void)[] = [];
  #taken = 0;
  #isScheduled = false;

  /** `hold` gives what is more important just now, if there is something. */
  constructor(hold: () => Promise<unknown> | undefined) {
    this.#hold = hold;
  }

  /** Settles when a piece of work may begin. */
  next(): Promise<void> | undefined {
    this.#schedule();
    if (this.#taken++ < together && !this.#hold()) return undefined;
    return new Promise((resolve) => this.#queue.push(resolve));
  }

  #schedule(): void {
    if (this.#isScheduled) return;
    this.#isScheduled = true;
    setImmediate(async () => {
      await this.#hold();
      this.#release();
    });
  }

  #release(): void {
    this.#isScheduled = false;
    const released = this.#queue.splice(0, together);
    this.#taken = released.length;
    if (released.length > 0) this.#schedule();
    for (const resolve of released) resolve();
  }
}

/** Settles as `work` does, and after `ms` at the latest. */
export async function atMost(ms: number, work: Promise<unknown>): Promise<void> {
  let timer: NodeJS.Timeout | undefined;
  await Promise.race([work, new Promise((resolve) => (timer = setTimeout(resolve, ms)))]);
  clearTimeout(timer);
}
