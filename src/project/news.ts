import type { Problem } from '../core/problem/problem.js';
import type { Trace } from '../core/trace.js';
import type { Turns } from './live/turns.js';
import type { ProjectUpdate, UpdateMaker } from './live/update-maker.js';
import type { ProjectGraph } from './project-graph.js';

/** How long changes may wait for others that come in one after another. */
const longestHoldMs = 1000;

/** Who is told. */
export interface NewsListener {
  onUpdate(update: ProjectUpdate): void;
  onProblems(problems: Problem[]): void;
  onSolved(since: number): void;
}

export interface NewsOptions extends NewsListener {
  read: ProjectGraph;
  updates: UpdateMaker;
  turns: Turns;
  trace: Trace;
  /** Number of the last update before. */
  revision: number;
}

/** Tells of updates and problems, each when it's news. */
export class News {
  readonly #options: NewsOptions;
  /** Number of the last update. */
  revision: number;
  /** `performance.now()` of the oldest change that wasn't sent yet. */
  #unsentSince: number | undefined;
  #hasToldProblems = false;
  /** The problems that were told last, while they stand. */
  #toldProblems: string | undefined;
  /** Pages had everything once, so that there is a good state to keep. */
  hasBeenGood = false;

  constructor(options: NewsOptions) {
    this.#options = options;
    this.revision = options.revision;
  }

  /** Pages get what was read first when they load; only what changes from now on has to be sent. */
  begin(): void {
    const { read, updates } = this.#options;
    updates.discard();
    const { problems } = read;
    this.#hasToldProblems = problems.length > 0;
    if (problems.length > 0) this.#toldProblems = JSON.stringify(problems);
    else this.hasBeenGood = true;
  }

  /** Sends what has changed, unless problems keep it back from every page or more of it is on its way. */
  send(changedSince: number): void {
    const { read, turns, onSolved } = this.#options;
    const since = Math.min(this.#unsentSince ?? changedSince, changedSince);
    this.#unsentSince = since;
    // Files that are saved all the time must not keep everything else waiting.
    if (turns.hasChanges && performance.now() - since < longestHoldMs) return;
    const { problems } = read;
    const hadTold = this.#hasToldProblems;
    this.#hasToldProblems = false;
    this.tellProblems();
    const isHeldBack = problems.length > 0 && [...read.pages.byId.keys()].every((page) => read.problemsOf(page).length > 0);
    // How long a problem stood is no part of how long the save that solves it takes.
    this.#unsentSince = undefined;
    if (!isHeldBack) this.#sendUpdate(since);
    if (problems.length > 0) return;
    this.#toldProblems = undefined;
    this.hasBeenGood = true;
    if (hadTold) onSolved(changedSince);
  }

  #sendUpdate(since: number): void {
    const { trace, updates, onUpdate } = this.#options;
    const from = trace.now();
    const update = updates.take(this.revision + 1, since);
    if (!update) return;
    this.revision = update.id;
    trace.span('update', 'make the update', from, { update: update.id, modules: update.modules.length });
    const fromSending = trace.now();
    onUpdate(update);
    trace.span('update', 'send the update', fromSending, { update: update.id });
  }

  /** Tells what is wrong, where anything is and that is news: a save that has nothing to do with it doesn't tell it again. */
  tellProblems(): void {
    const { problems } = this.#options.read;
    if (problems.length === 0) return;
    this.#hasToldProblems = true;
    const told = JSON.stringify(problems);
    if (told === this.#toldProblems) return;
    this.#toldProblems = told;
    this.#options.onProblems(problems);
  }
}
