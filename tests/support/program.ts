import { type ChildProcess, spawn } from 'node:child_process';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import type * as EventSchema from '../../src/cli/report/event-schema.js';
import { realRequire } from './real-require.js';
import { repository } from './workspace.js';

const { eventSchema } = realRequire(join(repository, 'dist/cli/report/event-schema.js')) as typeof EventSchema;

/** An event that the program prints with `--json`. */
export type ProgramEvent = { event: string } & Record<string, any>;

const main = join(repository, 'dist/cli/main.js');

/** The built program as a child process, with its events. */
export class Program {
  readonly events: ProgramEvent[] = [];
  readonly child: ChildProcess;
  #listeners = new Set<() => void>();
  readonly #strange: string[] = [];
  #output = '';

  constructor(cwd: string, args: readonly string[], child?: ChildProcess) {
    const env = { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1' };
    this.child = child ?? spawn(process.execPath, [main, ...args], { cwd, env });
    createInterface({ input: this.child.stdout! }).on('line', (line) => {
      if (line.startsWith('{')) this.#take(JSON.parse(line));
      for (const listener of this.#listeners) listener();
    });
    this.child.stderr!.on('data', (data) => {
      this.#output += data;
    });
    this.child.on('exit', () => {
      for (const listener of this.#listeners) listener();
    });
  }

  /**
   * Starts `serve` and waits until it's ready. Port 0 unless the arguments say otherwise, and nothing kept for the next start
   * unless they hold `--cache`: workspaces share the packages beside which it's kept.
   */
  static async serve(cwd: string, args: readonly string[] = ['index.html']): Promise<Program> {
    const port = args.includes('--port') ? [] : ['--port', '0'];
    const cache = args.includes('--cache') ? [] : ['--no-cache'];
    const given = args.filter((arg) => arg !== '--cache');
    const program = new Program(cwd, ['serve', ...given, ...port, ...cache, '--json']);
    await program.next('ready');
    return program;
  }

  /** The program in a process that was started in a way of its own. */
  static of(child: ChildProcess): Program {
    return new Program('', [], child);
  }

  /** Every line is one that the documented schema knows. */
  #take(event: ProgramEvent): void {
    this.events.push(event);
    const { success, error } = eventSchema.safeParse(event);
    if (!success) this.#strange.push(`${JSON.stringify(event).slice(0, 400)}: ${error.message}`);
  }

  get url(): string {
    return this.events.find(({ event }) => event === 'ready')!.url;
  }

  /** Number of events so far, to wait only for later ones. */
  get mark(): number {
    return this.events.length;
  }

  /** The next event of that name, from `after` on, that fits. */
  next(
    name: string,
    { after = 0, where = () => true }: { after?: number; where?(event: ProgramEvent): boolean } = {},
  ): Promise<ProgramEvent> {
    return new Promise((resolve, reject) => {
      const look = () => {
        const found = this.events.slice(after).find((event) => event.event === name && where(event));
        if (!found && this.child.exitCode === null) return;
        this.#listeners.delete(look);
        if (this.#strange.length > 0) reject(new Error(`No documented event: ${this.#strange[0]}`));
        else if (found) resolve(found);
        else reject(new Error(`The program ended with ${this.child.exitCode} before '${name}': ${this.#output}`));
      };
      this.#listeners.add(look);
      look();
    });
  }

  /** Does work of which the program sees nothing before all of it is done, such as several files saved at one moment. */
  atOnce(work: () => void): void {
    this.child.kill('SIGSTOP');
    work();
    this.child.kill('SIGCONT');
  }

  async stop(signal: NodeJS.Signals = 'SIGTERM'): Promise<void> {
    if (this.child.exitCode !== null || this.child.signalCode !== null) return;
    const ended = new Promise((resolve) => this.child.once('exit', resolve));
    this.child.kill(signal);
    await ended;
  }
}

/** Runs the program to its end. */
export function runProgram(
  cwd: string,
  args: readonly string[],
  variables: Readonly<Record<string, string>> = {},
): Promise<{ code: number | null; stdout: string; stderr: string }> {
  return new Promise((resolve) => {
    const child = spawn(process.execPath, [main, ...args], {
      cwd,
      env: { ...process.env, NODE_OPTIONS: '', NO_COLOR: '1', ...variables },
    });
    let stdout = '';
    let stderr = '';
    child.stdout.on('data', (data) => {
      stdout += data;
    });
    child.stderr.on('data', (data) => {
      stderr += data;
    });
    child.on('close', (code) => resolve({ code, stdout, stderr }));
  });
}
