import type { PageMessage } from '../../core/live/messages.js';
import type { Problem } from '../../core/problem/problem.js';
import type { BackendChange } from '../../forward/backend-states.js';
import type { ExchangeReport } from '../../forward/exchange.js';
import type { ProjectUpdate } from '../../project/live/update-maker.js';
import type { LivePage } from '../../server/live/live-channel.js';

/** What the reporter is told when pages can be asked for. */
export interface ListeningReport {
  version: string;
  /** The project's own name, or that of its folder. */
  project: string;
  url: string;
  /** The port that was wanted, if another had to be taken. */
  wantedPort?: number;
  /** A rule leads to the port that was wanted. */
  isForBackend?: boolean;
  port: number;
  forwards: readonly { label: string; origin: string }[];
  routes: readonly { pattern: string; page: string }[];
  settingsFile?: string;
}

/** What the reporter is told when everything stands. */
export interface ReadyReport extends ListeningReport {
  /** What the user should know of the pages. */
  notes: readonly string[];
  modules: number;
  ms: number;
}

/** How one page took one update. */
export type PageReport = { from: LivePage; ms: number } & Extract<PageMessage, { type: 'applied' | 'reloaded' }>;

/** Shows what happens: as lines for people or as NDJSON for programs. */
export interface Reporter {
  listening(report: ListeningReport): void;
  ready(report: ReadyReport): void;
  updated(update: ProjectUpdate, reports: readonly PageReport[], silent: number): void;
  /** `isStart`: the page could not be made at all yet. */
  problems(problems: readonly Problem[], isStart: boolean): void;
  /** Something that was asked for beside the build did not work. */
  problem(problem: Problem): void;
  /** Something in a module that need not be wrong: the page goes on. */
  warning(warning: Problem): void;
  /** Something the user should know and need not act on. */
  note(text: string): void;
  solved(ms: number): void;
  /** The settings changed and are in force. `needsRestart` names those that are not. */
  settings(ms: number, needsRestart: readonly string[]): void;
  /** A backend answers, or doesn't any more. */
  backend(change: BackendChange): void;
  /** A forwarded request, or a connection joined with a backend, has ended. */
  exchange(report: ExchangeReport): void;
  joined(page: LivePage): void;
  left(page: LivePage): void;
  /** A page threw an error that nothing caught. */
  failed(from: LivePage, problem: Problem): void;
}
