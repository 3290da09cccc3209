import { type ChildProcess, spawn } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import type { Problem } from '../core/problem/problem.js';
import { parseJson } from '../core/text/json.js';
import { endTree, killTree, spawnOptions } from '../run/process-tree.js';
import { readTypeProblems } from './tsc-output.js';

/** The project's own compiler, and how it's called. */
export interface Compiler {
  /** Absolute path of its program. */
  program: string;
  version: string;
  args: readonly string[];
}

/** The end of each turn of the compiler's watch mode. */
const turnEnd = /Found (\d+) errors?\. Watching for file changes\.|error TS\d+: .*Watching for file changes/;

/** Changes that come so soon one after another are checked together. */
const pauseMs = 60;

/** Finds the compiler of a project; a problem that says what is missing where there is none. */
export function findCompiler(root: string, installCommand: string): Compiler | Problem {
  const missing = (message: string, hint: string): Problem => ({ code: 'type-check-missing', severity: 'error', message, hint });
  let description: string;
  try {
    description = createRequire(join(root, 'package.json')).resolve('typescript/package.json');
  } catch {
    return missing(
      'Types cannot be checked: the project has no TypeScript.',
      `${installCommand} typescript, or leave out --types.`,
    );
  }
  const { version, bin } = parseJson(readFileSync(description, 'utf8')) as { version: string; bin?: Record<string, string> };
  const program = join(dirname(description), bin?.tsc ?? 'bin/tsc');
  const config = ['tsconfig.json', 'jsconfig.json'].map((name) => join(root, name)).find((file) => existsSync(file));
  if (!config) return missing('Types cannot be checked: there is no tsconfig.json.', 'Write one: npx tsc --init');
  // A configuration that only refers to others is checked by building them.
  const isSolution =
    /"references"\s*:/.test(readFileSync(config, 'utf8')) && /"files"\s*:\s*\[\s*\]/.test(readFileSync(config, 'utf8'));
  return {
    program,
    version,
    args: [...(isSolution ? ['--build', config] : ['--project', config]), '--noEmit', '--pretty', 'false'],
  };
}

/** Checks a project's types once. */
export function checkTypes(root: string, { program, args }: Compiler): Promise<Problem[]> {
  return new Promise((resolve) => {
    const child = spawn(process.execPath, [program, ...args], { cwd: root, stdio: ['ignore', 'pipe', 'ignore'] });
    let output = '';
    child.stdout.on('data', (data: Buffer) => {
      output += data;
    });
    child.on('error', () => resolve([]));
    child.on('close', () => resolve(problemsIn(output, root)));
  });
}

/** Checks a project's types again and again beside everything else, as a process of its own. */
export class TypeChecker {
  readonly #root: string;
  readonly #onProblems: (problems: Problem[], ms: number) => void;
  #child: ChildProcess | undefined;
  #isStopped = false;
  #compiler: Compiler | undefined;
  #timer: NodeJS.Timeout | undefined;
  #output = '';
  #since = performance.now();

  constructor(root: string, onProblems: (problems: Problem[], ms: number) => void) {
    this.#root = root;
    this.#onProblems = onProblems;
  }

  start(compiler: Compiler): void {
    this.#compiler = compiler;
    // The watch mode of version 7 misses changes; it's quick enough to start over.
    if (Number.parseInt(compiler.version, 10) >= 7) this.#again();
    else this.#watch(compiler);
  }

  /** Files changed; for compilers that don't watch by themselves. */
  changed(): void {
    if (this.#isStopped || !this.#compiler || Number.parseInt(this.#compiler.version, 10) < 7) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => this.#again(), pauseMs);
    this.#timer.unref();
  }

  /** Runs the compiler once more; an earlier run means nothing any more. */
  #again(): void {
    const { program, args } = this.#compiler!;
    this.kill();
    const from = performance.now();
    const child = spawn(process.execPath, [program, ...args], {
      cwd: this.#root,
      stdio: ['ignore', 'pipe', 'ignore'],
      ...spawnOptions,
    });
    this.#child = child;
    let output = '';
    child.on('error', () => {});
    child.stdout.on('data', (data: Buffer) => {
      output += data;
    });
    child.on('close', (_, signal) => {
      if (this.#child !== child || signal !== null) return;
      this.#child = undefined;
      this.#onProblems(problemsIn(output, this.#root), performance.now() - from);
    });
  }

  #watch({ program, args }: Compiler): void {
    const child = spawn(process.execPath, [program, ...args, '--watch', '--preserveWatchOutput'], {
      cwd: this.#root,
      stdio: ['ignore', 'pipe', 'ignore'],
      ...spawnOptions,
    });
    this.#child = child;
    child.on('error', () => {});
    child.stdout.on('data', (data: Buffer) => {
      this.#output += data;
      if (/File change detected|Starting compilation/.test(String(data))) this.#since = performance.now();
      for (let end = turnEnd.exec(this.#output); end; end = turnEnd.exec(this.#output)) {
        const turn = this.#output.slice(0, end.index);
        this.#output = this.#output.slice(end.index + end[0].length);
        this.#onProblems(problemsIn(turn, this.#root), performance.now() - this.#since);
      }
    });
  }

  async stop(): Promise<void> {
    this.#isStopped = true;
    clearTimeout(this.#timer);
    if (this.#child) await endTree(this.#child);
  }

  kill(): void {
    if (this.#child) killTree(this.#child);
  }
}

function problemsIn(output: string, root: string): Problem[] {
  const readText = (file: string) => (existsSync(file) ? readFileSync(file, 'utf8') : undefined);
  return readTypeProblems(output, { root, cwd: root, readText });
}
