import { setTimeout } from 'node:timers/promises';
import { noticedMs, takeInputs } from './inputs.js';
import { keepStart, LastStart, type StartAnswers } from './last-start.js';
import { isAllKnown, optionsKey, type ProjectRead, readOf } from './read-of.js';

export interface StartKeeperOptions extends ProjectRead {
  /** Told what the user should know. */
  onNote(note: string): void;
}

/** Keeps what a start answered, with everything that it was made of, and finds it again. */
export class StartKeeper {
  readonly #parts: StartKeeperOptions;

  constructor(parts: StartKeeperOptions) {
    this.#parts = parts;
  }

  /** What the last start answered, where that still holds. */
  async find(): Promise<LastStart | undefined> {
    const { cacheFolder, revision, trace } = this.#parts.options;
    if (cacheFolder === undefined || revision > 0) return undefined;
    // Whoever waits for a connection comes first.
    await new Promise((resolve) => setImmediate(resolve));
    const from = trace.now();
    const found = LastStart.find(cacheFolder, optionsKey(this.#parts.options), this.#parts.onNote);
    trace.span('start', found ? 'the last start still holds' : 'the last start does not hold', from);
    return found;
  }

  /** Keeps answers, where all that they were made of can be told. `since`: no file was read before that time (as of `Date.now()`). */
  async keep(answers: StartAnswers, since: number): Promise<void> {
    const { options } = this.#parts;
    if (!isAllKnown(this.#parts) || options.cacheFolder === undefined) return;
    const take = () => takeInputs(readOf(this.#parts), since);
    let inputs = take();
    if (!inputs) {
      // Perhaps something was written a moment ago.
      await setTimeout(noticedMs);
      inputs = take();
    }
    if (inputs) await keepStart(options.cacheFolder, optionsKey(options), inputs, answers);
  }
}
