/** How many pieces of work are done before everything else gets its turn. */
export const together = 32;
/** Reading modules waits so long for an answer on its way. */
const longestWaitMs = 1000;

/** Lets the event loop answer requests while thousands of modules are loaded without ever waiting for anything. */
export class LoadingTurns {
  /** Answers on their way, which are more important just now. */
  readonly #sending = new Set<Promise<void>>();
  readonly #queue: (() => void)[] = [];
  #taken = 0;
  #isScheduled = false;

  /** Lets pieces of work wait for an answer to a page, but not long for one that nobody takes. */
  waitFor(answer: Promise<void>): void {
    const sent = atMost(longestWaitMs, answer);
    this.#sending.add(sent);
    void sent.finally(() => this.#sending.delete(sent));
  }

  /** Settles when a piece of work may begin. */
  next(): Promise<void> | undefined {
    this.#schedule();
    if (this.#taken++ < together && this.#sending.size === 0) return undefined;
    return new Promise((resolve) => this.#queue.push(resolve));
  }

  #schedule(): void {
    if (this.#isScheduled) return;
    this.#isScheduled = true;
    setImmediate(async () => {
      await Promise.all(this.#sending);
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
async function atMost(ms: number, work: Promise<unknown>): Promise<void> {
  let timer: NodeJS.Timeout | undefined;
  await Promise.race([work, new Promise((resolve) => (timer = setTimeout(resolve, ms)))]);
  clearTimeout(timer);
}
