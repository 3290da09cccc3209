import type Picomatch from 'picomatch';
import { lazily } from '../core/lazily.js';
import { Alongside, type AlongsideOptions } from './alongside.js';
import { killEnding } from './process-tree.js';
import type { RunRule } from './run-rule.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** All programs that run beside the dev server. */
export class RunAll {
  readonly #programs: Alongside[];
  /** What isn't started yet never is. */
  #isStopped = false;
  readonly #matches: { program: Alongside; isFor(id: string): boolean }[];

  constructor(rules: readonly RunRule[], options: AlongsideOptions) {
    this.#programs = rules.map((rule) => new Alongside(rule, options));
    this.#matches = this.#programs.map((program) => {
      const { restartOn } = program.rule;
      const matches = restartOn.length === 0 ? () => false : picomatch()([...restartOn], { dot: true });
      return { program, isFor: (id) => matches(id) };
    });
  }

  /** Starts one after another: each waits until those before it are ready. */
  async start(): Promise<void> {
    for (const program of this.#programs) if (!this.#isStopped) await program.start();
  }

  /** Files changed, by their paths from the project's folder: those for which that counts start over. */
  async changed(files: readonly string[]): Promise<void> {
    const work = this.#matches.flatMap(({ program, isFor }) => {
      const file = files.find(isFor);
      return file === undefined ? [] : [program.restart(`${file} changed`)];
    });
    await Promise.all(work);
  }

  async stop(): Promise<void> {
    this.#isStopped = true;
    await Promise.all(this.#programs.map((program) => program.stop()));
  }

  kill(): void {
    this.#isStopped = true;
    for (const program of this.#programs) program.kill();
    // What is being ended belongs to no program any more.
    killEnding();
  }
}
