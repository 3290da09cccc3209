import type { PageMessage } from '../../core/live/messages.js';
import type { Problem } from '../../core/problem/problem.js';
import type { BackendChange } from '../../forward/backend-states.js';
import type { ExchangeReport } from '../../forward/exchange.js';
import type { ProjectUpdate } from '../../project/live/update-maker.js';
import type { RunEvent } from '../../run/run-rule.js';
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
  /** The same at the addresses of this machine in its networks, where it listens there. */
  networkUrls?: readonly string[];
  /** A code that opens the page on a phone. */
  code?: { url: string; lines: readonly string[] };
  forwards: readonly { label: string; origin: string }[];
  routes: readonly { pattern: string; page: string }[];
  settingsFile?: string;
}

/** What the reporter is told when everything stands. */
export interface ReadyReport extends ListeningReport {
  /** What the user should know of the pages. */
  notes: readonly string[];
  modules: number;
  /** What is served was built before. */
  built?: { folder: string; files: number };
  ms: number;
}

/** How one page took one update. */
export type PageReport = { from: LivePage; ms: number } & Extract<PageMessage, { type: 'applied' | 'reloaded' }>;

/** Everything that is told while a server runs, for people and for programs alike. */
export type ReportEvent =
  /** Pages can be asked for. */
  | { event: 'listening'; report: ListeningReport }
  /** Everything stands. */
  | { event: 'ready'; report: ReadyReport }
  /** Everything stands inside of a server of the user's. */
  | { event: 'inside'; report: { project: string; modules: number; ms: number } }
  /** What an update did; `silent` counts pages that have not said. */
  | { event: 'update'; update: ProjectUpdate; reports: readonly PageReport[]; silent: number }
  /** What keeps pages from being up to date. `isStart`: the page could not be made at all yet. */
  | { event: 'problems'; problems: readonly Problem[]; isStart: boolean }
  | { event: 'solved'; ms: number }
  /** Something that was asked for beside that did not work. */
  | { event: 'problem'; problem: Problem }
  /** Something in a module or a page that need not be wrong: the page goes on. */
  | { event: 'warning'; warning: Problem }
  /** Something the user should know and need not act on. */
  | { event: 'note'; text: string }
  /** The settings changed and are in force. `needsRestart` names those that are not. */
  | { event: 'settings'; ms: number; needsRestart: readonly string[] }
  /** What a program that runs alongside does, and a line that it prints. */
  | RunEvent
  /** A backend's templates changed, and pages that show them reloaded. */
  | { event: 'templates'; files: readonly string[]; pages: number; ms: number }
  /** Pages came or went. */
  | { event: 'pages'; routes: readonly { pattern: string; page: string }[]; added: readonly string[]; gone: readonly string[] }
  /** A backend answers, or doesn't any more. */
  | { event: 'backend'; change: BackendChange }
  /** A forwarded request, or a connection joined with a backend, has ended. */
  | { event: 'exchange'; report: ExchangeReport }
  /** What checking types came to. */
  | { event: 'types'; problems: readonly Problem[]; ms: number }
  /** Something that a page printed. */
  | { event: 'console'; from: LivePage; level: string; text: string; place?: string }
  /** How far a start is that takes a while. `reading`: what has been taking long. */
  | { event: 'progress'; done: number; known: number; reading?: string }
  /** What single keys do. */
  | { event: 'keys'; keys: readonly { key: string; what: string }[] }
  /** What stands: problems, and which pages are open. */
  | { event: 'state'; problems: readonly Problem[]; pages: readonly { browser: string; page: string }[] }
  | { event: 'joined'; page: LivePage }
  | { event: 'left'; page: LivePage }
  /** A page threw an error that nothing caught. */
  | { event: 'error'; from: LivePage; problem: Problem };

/** Shows what happens: as lines for people or as NDJSON for programs. */
export interface Reporter {
  tell(event: ReportEvent): void;
}

const problemEvents: ReadonlySet<ReportEvent['event']> = new Set(['problems', 'problem', 'warning']);

/** Tells of problems and of nothing else. */
export function problemsOnly(reporter: Reporter): Reporter {
  return { tell: (event) => problemEvents.has(event.event) && reporter.tell(event) };
}
