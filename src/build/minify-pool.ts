import { availableParallelism } from 'node:os';
import { fileURLToPath } from 'node:url';
import workerpool, { type Pool } from 'workerpool';
import type { Mapped } from './mapped.js';
import { type SmallerOptions, smallerScript } from './minify.js';

/** So many scripts, or so much text, are made smaller without other threads: starting those takes longer. */
const fewScripts = 12;
const shortText = 400_000;
const mostThreads = 8;

interface Job {
  mapped: Mapped;
  options: SmallerOptions;
  done(result: Promise<Mapped>): void;
}

/** Makes scripts smaller, in several threads where there are many, the longest first. Has to be closed. */
export class MinifyPool {
  readonly #threads = Math.min(mostThreads, availableParallelism());
  #pool: Pool | undefined;
  #waiting: Job[] = [];
  #running = 0;
  #scripts = 0;
  #length = 0;

  async smaller(mapped: Mapped, options: SmallerOptions): Promise<Mapped> {
    this.#scripts++;
    this.#length += mapped.text.length;
    const isLittle = this.#scripts <= fewScripts && this.#length < shortText;
    if (!this.#pool && isLittle) return smallerScript(mapped, options);
    this.#pool ??= workerpool.pool(fileURLToPath(new URL('./minify-worker.js', import.meta.url)), {
      workerType: 'thread',
      maxWorkers: this.#threads,
    });
    return new Promise((resolve) => {
      this.#waiting.push({ mapped, options, done: resolve });
      setImmediate(() => this.#next());
    });
  }

  #next(): void {
    if (this.#running >= this.#threads || this.#waiting.length === 0) return;
    let longest = 0;
    for (const [at, { mapped }] of this.#waiting.entries())
      if (mapped.text.length > this.#waiting[longest]!.mapped.text.length) longest = at;
    const [{ mapped, options, done }] = this.#waiting.splice(longest, 1) as [Job];
    this.#running++;
    const exec = this.#pool!.exec('smallerScript', [mapped, options]) as PromiseLike<Mapped>;
    // A thread that ends for want of memory takes no more than one script with it, which stays as it is.
    const result = Promise.resolve(exec).catch(() => mapped);
    const ended = () => {
      this.#running--;
      this.#next();
    };
    result.then(ended, ended);
    done(result);
  }

  async close(): Promise<void> {
    await this.#pool?.terminate();
    this.#pool = undefined;
    this.#scripts = 0;
    this.#length = 0;
  }
}
