import { type ChildProcess, spawn } from 'node:child_process';
import { createServer } from 'node:net';
import { delimiter, join } from 'node:path';
import { createInterface } from 'node:readline';
import { setTimeout as delay } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import { endTree, killTree, spawnOptions } from './process-tree.js';
import { isReady } from './readiness.js';
import type { RunEvent, RunRule } from './run-rule.js';

/** One that ends by itself is started again after these times, the last one again and again. */
const restartsMs = [250, 500, 1000, 2000, 5000, 10_000];
/** One that ran for so long begins with the first of them again. */
const steadyMs = 10_000;
const lookEveryMs = 50;
/** One that isn't ready after so long holds nobody up any more. */
const patienceMs = 60_000;
const longestLine = 4000;

export interface AlongsideOptions {
  root: string;
  /** Variables beside those of this process and of the rule. */
  env: Readonly<Record<string, string>>;
  tell(event: RunEvent): void;
}

/** A program that runs beside the dev server: started, watched, started over, ended with everything that it started. */
export class Alongside {
  readonly rule: RunRule;
  readonly #options: AlongsideOptions;
  #child: ChildProcess | undefined;
  #isWanted = false;
  #crashes = 0;
  #inspectPort: number | undefined;
  #timer: NodeJS.Timeout | undefined;
  /** Counts its runs: what an earlier one still says means nothing. */
  #run = 0;
  #work: Promise<void> = Promise.resolve();

  constructor(rule: RunRule, options: AlongsideOptions) {
    this.rule = rule;
    this.#options = options;
  }

  /** Starts it. Settles when it's ready, or when it's clear that it won't be soon. */
  async start(why?: string): Promise<void> {
    this.#isWanted = true;
    clearTimeout(this.#timer);
    const run = ++this.#run;
    const from = performance.now();
    const { name, ready } = this.rule;
    const args = await this.#commandLine();
    if (!args || run !== this.#run) return;
    const [program = '', ...rest] = args;
    const isOther = ready !== undefined && (await isReady(ready, () => ''));
    if (run !== this.#run) return;
    this.#options.tell({
      event: 'command',
      name,
      state: 'starts',
      command: this.rule.command.join(' '),
      ...(why === undefined ? {} : { why }),
    });
    const child = spawn(program, rest, {
      cwd: this.rule.cwd,
      env: this.#environment(),
      stdio: ['ignore', 'pipe', 'pipe'],
      shell: this.rule.shell,
      ...spawnOptions,
    });
    this.#child = child;
    let said = '';
    const spawned = new Promise<boolean>((resolve) => {
      child.once('spawn', () => resolve(true));
      child.on('error', (error: NodeJS.ErrnoException) => {
        if (child.pid !== undefined) return; // it could not be signalled
        this.#isWanted = false;
        const why = error.code === 'ENOENT' ? `there is no program ${program}` : error.message;
        const hint = 'The setting run names it; packages of the project are found by their names, other programs by the system.';
        this.#options.tell({ event: 'command', name, state: 'failed', why, hint });
        resolve(false);
      });
    });
    for (const stream of ['stdout', 'stderr'] as const)
      createInterface({ input: child[stream] }).on('line', (line) => {
        const text = line.slice(0, longestLine);
        if (typeof ready === 'string' && said.length < 1_000_000) said += `${text}\n`;
        // Node.js says this at each start; the port is told once it's ready.
        if (!/^(?:Debugger listening on ws:|For help, see: https:\/\/nodejs\.org|Debugger attached\.$)/.test(line))
          this.#options.tell({ event: 'output', name, stream, text });
      });
    child.once('exit', (code, signal) => this.#ended(run, from, code, signal));
    if (!(await spawned)) return;
    const isHere = () => this.#run === run && child.exitCode === null && child.signalCode === null;
    const until = performance.now() + patienceMs;
    while (isHere() && performance.now() < until && !(await isReady(ready, () => said))) await delay(lookEveryMs);
    if (!isHere() || performance.now() >= until) return;
    const inspect = this.#inspectPort === undefined ? {} : { inspect: `127.0.0.1:${this.#inspectPort}` };
    const other = isOther ? { isOther, ready: typeof ready === 'number' ? `port ${ready}` : ready! } : {};
    this.#options.tell({ event: 'command', name, state: 'ready', ms: performance.now() - from, ...inspect, ...other });
  }

  /** Starts it over, one request after another. */
  restart(why: string): Promise<void> {
    this.#work = this.#work.then(async () => {
      this.#crashes = 0;
      await this.#end();
      await this.start(why);
    });
    return this.#work;
  }

  /** Ends it for good. */
  async stop(): Promise<void> {
    await this.#end();
  }

  /** The same without waiting. */
  kill(): void {
    this.#isWanted = false;
    this.#run++;
    clearTimeout(this.#timer);
    if (this.#child) killTree(this.#child);
  }

  async #end(): Promise<void> {
    this.#isWanted = false;
    this.#run++;
    clearTimeout(this.#timer);
    const child = this.#child;
    this.#child = undefined;
    if (child) await endTree(child);
  }

  #ended(run: number, from: number, code: number | null, signal: NodeJS.Signals | null): void {
    const child = this.#child;
    if (run !== this.#run || !this.#isWanted) return;
    // What it started may live on, and hold its port.
    if (child) void endTree(child);
    this.#child = undefined;
    if (performance.now() - from > steadyMs) this.#crashes = 0;
    const isDone = code === 0;
    const restartMs = restartsMs[Math.min(this.#crashes++, restartsMs.length - 1)]!;
    this.#options.tell({
      event: 'command',
      name: this.rule.name,
      state: 'ended',
      code,
      signal,
      ...(isDone ? {} : { restartMs }),
    });
    if (isDone) return;
    this.#timer = setTimeout(() => void this.start('it had ended'), restartMs);
  }

  #environment(): NodeJS.ProcessEnv {
    const path = process.env.PATH ?? '';
    const bin = [join(this.rule.cwd, 'node_modules/.bin'), join(this.#options.root, 'node_modules/.bin')];
    return { ...process.env, PATH: [...bin, path].join(delimiter), ...this.#options.env, ...this.rule.env };
  }

  /** Program and arguments, with what Node.js needs for debuggers and for TypeScript. */
  async #commandLine(): Promise<string[] | undefined> {
    const { command, inspect, shell, name } = this.rule;
    const [program = '', ...rest] = command;
    const isNode = !shell && /^node(?:\.exe)?$/.test(program);
    if (inspect && !isNode) {
      const hint = "Let the command begin with node, such as 'node server.js', or start the debugger's port in what it runs.";
      this.#options.tell({ event: 'command', name, state: 'failed', why: 'inspect needs a command that begins with node', hint });
      return undefined;
    }
    if (!isNode) return [...command];
    const own: string[] = [];
    if (inspect) {
      // The same one each time, so that a debugger finds it again.
      this.#inspectPort ??= await freePort();
      own.push(`--inspect=127.0.0.1:${this.#inspectPort}`);
    }
    const file = rest.find((argument) => !argument.startsWith('-'));
    if (file !== undefined && /\.[mc]?tsx?$/.test(file)) own.push('--import', nodeHook);
    return [process.execPath, ...own, ...rest];
  }
}

/** The file that lets Node.js run TypeScript: `vine-spark/node`. */
const nodeHook = fileURLToPath(new URL('../node/hook.js', import.meta.url));

function freePort(): Promise<number> {
  return new Promise((resolve, reject) => {
    const probe = createServer();
    probe.once('error', reject);
    probe.listen(0, '127.0.0.1', () => {
      const { port } = probe.address() as { port: number };
      probe.close(() => resolve(port));
    });
  });
}
