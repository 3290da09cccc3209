import picomatch from 'picomatch';
import { Alongside, type AlongsideOptions } from './alongside.js';
import type { RunRule } from './run-rule.js';

/** All programs that run beside the dev server. */
export class RunAll {
  readonly #programs: Alongside[];
  readonly #matches: { program: Alongside; isFor(id: string): boolean }[];

  constructor(rules: readonly RunRule[], options: AlongsideOptions) {
    this.#programs = rules.map((rule) => new Alongside(rule, options));
    this.#matches = this.#programs.map((program) => {
      const matches = picomatch([...program.rule.restartOn], { dot: true });
      return { program, isFor: (id) => program.rule.restartOn.length > 0 && matches(id) };
    });
  }

  /** Starts one after another: each waits until those before it are ready. */
  async start(): Promise<void> {
    for (const program of this.#programs) await program.start();
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
    await Promise.all(this.#programs.map((program) => program.stop()));
  }

  kill(): void {
    for (const program of this.#programs) program.kill();
  }
}
