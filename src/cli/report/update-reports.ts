import type { PageMessage } from '../../core/live/messages.js';
import { lanes, type Trace } from '../../core/trace.js';
import type { ProjectUpdate } from '../../project/live/update-maker.js';
import type { Project } from '../../project/project.js';
import type { LiveChannel, LivePage } from '../../server/live/live-channel.js';
import type { PageReport, Reporter } from './reporter.js';

/** How long a page may take to say what it made of an update before the line is printed without it. */
const patienceMs = 2000;

/** Updates that pages which were held back or away may still report on. */
const keptUpdates = 50;

interface Pending {
  update: ProjectUpdate;
  /** Numbers of pages. */
  waitingFor: Set<number>;
  reports: PageReport[];
  timer: NodeJS.Timeout;
}

/** Collects what the pages say of each update, so that a save is told once, when all have answered. */
export class UpdateReports {
  readonly #reporter: Reporter;
  readonly #live: LiveChannel;
  readonly #trace: Trace;
  readonly #pending = new Map<number, Pending>();
  readonly #updates = new Map<number, ProjectUpdate>();

  constructor(live: LiveChannel, reporter: Reporter, trace: Trace) {
    this.#live = live;
    this.#trace = trace;
    this.#reporter = reporter;
    live.on('left', (page) => this.#forget(page));
    live.on('message', ({ from, message }) => {
      if (message.type === 'applied' || message.type === 'reloaded') this.#take(from, message);
    });
  }

  /** Reports the updates of a project, after they were sent. */
  follow(project: Project): void {
    project.on('update', (update) =>
      this.#begin({ ...update, openPages: this.#live.pages.length }, this.#live.pagesAt(update.id)),
    );
  }

  #begin(update: ProjectUpdate, pages: LivePage[]): void {
    this.#updates.set(update.id, update);
    this.#updates.delete(update.id - keptUpdates);
    const pending: Pending = {
      update,
      waitingFor: new Set(pages.map(({ number }) => number)),
      reports: [],
      timer: setTimeout(() => this.#finish(pending), patienceMs),
    };
    pending.timer.unref();
    this.#pending.set(update.id, pending);
    if (pages.length === 0) this.#finish(pending);
  }

  #take(from: LivePage, message: Extract<PageMessage, { type: 'applied' | 'reloaded' }>): void {
    const update = this.#updates.get(message.update);
    if (!update) return;
    this.#note(update, from, message);
    const report = { ...message, from, ms: performance.now() - update.since };
    const pending = this.#pending.get(message.update);
    if (!pending?.waitingFor.delete(from.number))
      return this.#reporter.tell({ event: 'update', update, reports: [report], silent: 0 });
    pending.reports.push(report);
    if (pending.waitingFor.size === 0) this.#finish(pending);
  }

  #note(update: ProjectUpdate, { browser, number }: LivePage, message: PageMessage): void {
    const what = { update: update.id, browser, page: number };
    this.#trace.overlapping('update', `update ${update.id}, from the save on`, update.since, what, lanes.browser);
    if (message.type === 'applied') this.#trace.stages('browser', message.stages, what);
  }

  #forget(page: LivePage): void {
    for (const pending of this.#pending.values())
      if (pending.waitingFor.delete(page.number) && pending.waitingFor.size === 0) this.#finish(pending);
  }

  #finish(pending: Pending): void {
    clearTimeout(pending.timer);
    if (!this.#pending.delete(pending.update.id)) return;
    const { update, reports, waitingFor } = pending;
    this.#reporter.tell({ event: 'update', update, reports, silent: waitingFor.size });
  }
}
