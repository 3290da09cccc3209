import { writeFileSync } from 'node:fs';
import { relative } from 'node:path';
import type { BuildResult } from '../../build/options.js';
import { type Problem, VineError } from '../../core/problem/problem.js';
import { buildTable, rebuiltLine } from './build-table.js';
import { colours as pc } from './colours.js';
import { printProblem } from './problem-text.js';

export interface BuildReporterOptions {
  /** The project's name. */
  name: string;
  /** The output folder as it's shown. */
  folder: string;
  json: boolean;
  isWatching: boolean;
  /** Absolute path of the page to write. */
  reportFile?: string;
}

/** What is done sooner than this isn't shown while it's done. */
const patienceMs = 300;

/** Tells people or programs of a build, or of one after another. */
export class BuildReporter {
  readonly #options: BuildReporterOptions;
  #warnings: Problem[] = [];
  #notes: string[] = [];
  #builds = 0;
  readonly #told = new Set<string>();
  #stage = '';
  #isShown = false;
  #timer: NodeJS.Timeout | undefined;

  constructor(options: BuildReporterOptions) {
    this.#options = options;
  }

  /** Something begins that may take a while: a terminal shows it until there is more to say. */
  stage(text: string): void {
    const { json } = this.#options;
    if (json || !process.stdout.isTTY) return;
    this.#stage = text;
    this.#timer ??= setTimeout(() => {
      this.#isShown = true;
      this.#showStage();
    }, patienceMs).unref();
    if (this.#isShown) this.#showStage();
  }

  #showStage(): void {
    process.stdout.write(`\r\u001b[2K  ${pc.dim(this.#stage)}`);
  }

  #endStage(): void {
    clearTimeout(this.#timer);
    this.#timer = undefined;
    if (this.#isShown) process.stdout.write('\r\u001b[2K');
    this.#isShown = false;
  }

  warn(warning: Problem): void {
    this.#warnings.push(warning);
  }

  note(text: string): void {
    this.#notes.push(text);
  }

  /** A build is in place, `ms` after it was begun or something changed. */
  async built(result: BuildResult, ms: number): Promise<void> {
    const { folder, json, isWatching } = this.#options;
    const { summarise } = await import('../../build/summary.js');
    const summary = await summarise(result);
    this.#endStage();
    const report = await this.#writeReport(result);
    const [warnings, notes] = [this.#warnings, this.#notes];
    this.#warnings = [];
    this.#notes = [];
    this.#builds++;
    const { manifest, others } = result;
    const unchanged = result.isUnchanged === true;
    if (json) return this.#print({ event: 'built', manifest, summary, others, warnings, notes, unchanged, ms });
    for (const warning of warnings) this.#warnOnce(warning);
    process.stdout.write(
      this.#builds > 1 ? rebuiltLine(summary, ms) : buildTable({ summary, others, notes, unchanged, ms, folder, report }),
    );
    if (isWatching && this.#builds === 1) process.stdout.write(`  ${pc.dim('waiting for changes')}\n\n`);
  }

  /** Nothing was written. */
  failed(problems: readonly Problem[]): void {
    this.#endStage();
    const warnings = this.#warnings;
    this.#warnings = [];
    if (this.#options.json) this.#print({ event: 'problems', problems, warnings });
    else for (const problem of [...warnings, ...problems]) printProblem(problem);
  }

  /** Returns the path of the page that was written, as it's shown. */
  async #writeReport(result: BuildResult): Promise<string | undefined> {
    const { reportFile, name } = this.#options;
    if (reportFile === undefined || !result.report) return undefined;
    const { reportPage } = await import('../../build/report-page.js');
    const shown = relative(process.cwd(), reportFile);
    try {
      writeFileSync(reportFile, reportPage(result.report(name)));
    } catch (error) {
      const { code } = error as NodeJS.ErrnoException;
      if (code === undefined) throw error;
      const message = `The report cannot be written to ${shown} (${code}).`;
      throw new VineError({ code: 'output-unwritable', message, hint: 'Name a file in a folder that exists.' }, { cause: error });
    }
    return shown;
  }

  /** What a watched build said before isn't said again while it stands. */
  #warnOnce(warning: Problem): void {
    const text = JSON.stringify(warning);
    if (!this.#told.has(text)) printProblem(warning);
    this.#told.add(text);
  }

  #print(event: object): void {
    process.stdout.write(`${JSON.stringify({ ...event, at: new Date().toISOString() })}\n`);
  }
}
