/** Pieces of work that are done one at a time, in order of arrival. */
export class Turns {
  #last: Promise<void> = Promise.resolve();
  #waitingChanges = 0;
  /** Ends a pause, if there is one. */
  #wakeUp: (() => void) | undefined;

  /** Whether changes wait for their turn. */
  get hasChanges(): boolean {
    return this.#waitingChanges > 0;
  }

  /** Does some work when what came before is done. Settles as the work does. */
  take(work: () => Promise<void>): Promise<void> {
    const run = this.#last.then(work);
    this.#last = run.catch(() => {});
    return run;
  }

  /** Takes a turn for a change, for which a pause is ended. */
  takeChange(work: () => Promise<void>): Promise<void> {
    this.#waitingChanges++;
    this.#wakeUp?.();
    return this.take(() => {
      this.#waitingChanges--;
      return work();
    });
  }

  /** Settles when there is no more work. */
  async ended(): Promise<void> {
    for (let last: Promise<void> | undefined; last !== this.#last; ) {
      last = this.#last;
      await last;
    }
  }

  /** Waits until a time, as of `performance.now()`, or until something changes. */
  async pauseUntil(time: number): Promise<void> {
    const ms = time - performance.now();
    if (ms <= 0 || this.hasChanges) return;
    await new Promise<void>((resolve) => {
      const timer = setTimeout(resolve, ms);
      this.#wakeUp = () => {
        clearTimeout(timer);
        resolve();
      };
    });
    this.#wakeUp = undefined;
  }
}
