import type { Problem } from '../problem/problem.js';

/** The WebSocket subprotocol of the live channel; a new number when a message changes in a way that old pages can't read. */
export const liveProtocol = 'spark-live';

/** A style sheet of the page, the URL of its new version, and its text. */
export interface SheetChange {
  id: string;
  url: string;
  css: string;
}

/** The code of an update, and where the same can be loaded from by pages that may not evaluate strings. */
export interface UpdateScript {
  code: string;
  url: string;
}

/** A file as pages ask for it, and the URL of its new version. */
export interface FileChange {
  path: string;
  url: string;
}

/** What a save changes on a page. */
export interface UpdateMessage {
  type: 'update';
  /** Number of the update, counting from 1 in every run of the server. */
  id: number;
  /** Modules with new code or edges. */
  changed: string[];
  /** Modules that no page reaches any more. */
  removed: string[];
  styles: SheetChange[];
  /** Scripts that register the changed and the added modules, oldest first; none where only styles or files changed. */
  scripts: UpdateScript[];
  /** Files that are no modules but that pages may use, e.g. images that the HTML names. */
  files: FileChange[];
  /** Reload whatever the modules say, and why, e.g. because the page's HTML changed. */
  reload?: { page: string; reason: string }[];
}

/** From the server to a page. */
export type ServerMessage =
  | { type: 'hello'; session: string; revision: number }
  | UpdateMessage
  | { type: 'reload'; reason: string }
  /** Problems that keep the page from being up to date. */
  | { type: 'problem'; problems: Problem[] }
  | { type: 'solved' }
  /** An error of the page itself, at its place in the user's source. `isShown`: in the panel too. */
  | { type: 'failed'; problem: Problem; isShown: boolean }
  /** Something that happened beside; for the console. */
  | { type: 'said'; text: string }
  /** What the user should know of something that the page did; for the console. */
  | { type: 'told'; problem: Problem }
  /** The page shows what the files say. */
  | { type: 'current' }
  /** Changes came in between: the page should ask again. */
  | { type: 'again' };

/** Why a page could not take an update in place. `chain` goes from the changed module to the page. */
export interface ReloadReason {
  reason: string;
  chain: string[];
}

/** From a page to the server. */
export type PageMessage =
  /** The page runs a build of an earlier run of the server: is it still the newest? */
  | ResumeMessage
  /** Is the channel still there, after sleep or in a tab that comes to the front? Answered with `hello`. */
  | { type: 'ask'; revision: number }
  /** An update is in place. `boundaries` took it, `ran` are the modules that ran again. */
  | AppliedMessage
  | ({ type: 'reloaded'; update: number } & ReloadReason)
  /** An error that nothing in the page caught. */
  | PageErrorMessage
  /** The page called another origin of this machine. */
  | DirectCallMessage
  /** The page printed something. */
  | ConsoleMessage;

/** What an update did to a page. */
export interface AppliedMessage {
  type: 'applied';
  update: number;
  /** Modules that took the update. */
  boundaries: string[];
  /** Modules that ran again. */
  ran: string[];
  /** Sheets and files that were replaced. */
  styles: string[];
  files: string[];
  /** Components whose state starts anew, because their hooks changed or React can't keep it. */
  reset: string[];
  /** Modules that ran again and whose own variables start anew. */
  anew?: string[];
  /** Something failed while the update was applied, so that state may be lost. */
  isBroken?: boolean;
  applyMs: number;
  /** What the page was doing how long, one after another, in milliseconds. */
  stages: [name: string, ms: number][];
  /** What the user should know. */
  notes: string[];
}

/** What a page holds, for a server that doesn't know it. */
export interface ResumeMessage {
  type: 'resume';
  page: string;
  /** The last update of this run of the server that it holds. */
  revision: number;
  /** `digestVersions` of its modules. */
  digest: number;
  /** URLs of the pieces that it asked for later. */
  pieces: string[];
  styles: Record<string, string>;
  html: string;
  /** Paths of other files that it loaded, and when it began to (milliseconds since 1970). */
  files: string[];
  loadedAt: number;
}

/** Something that a page printed, in one line, with the stack as the browser wrote it. */
export interface ConsoleMessage {
  type: 'console';
  level: 'debug' | 'log' | 'info' | 'warn' | 'error';
  text: string;
  stack: string;
  pieces: Record<string, string>;
}

/** A call of a page to another origin of this machine, with the stack as the browser wrote it. */
export interface DirectCallMessage {
  type: 'direct-call';
  url: string;
  how: 'fetch' | 'XMLHttpRequest' | 'EventSource';
  /** The browser gave the page no answer, or sent no cookies along. */
  outcome: 'blocked' | 'no-cookie';
  stack: string;
  pieces: Record<string, string>;
}

/** An error of a page, with the stack as the browser wrote it. */
export interface PageErrorMessage {
  type: 'error';
  message: string;
  stack: string;
  /** What the page was doing: running its modules for the first time, taking an update, or anything later. */
  during: 'start' | 'update' | 'life';
  /** The versions of the pieces that the page runs, by name. */
  pieces: Record<string, string>;
  /** The module that can't be parsed, where that is the error. */
  file?: string;
}

/** What the client script is told by the page that loads it, as JSON in its `data-spark` attribute. */
export interface ClientSettings {
  /** Path of the page's HTML file. */
  page: string;
  session: string;
  /** By this, pieces know their own client. */
  hook: string;
  revision: number;
  /** URL prefix of the front end, with a slash at both ends. */
  base: string;
  /** Version of the page's HTML as it was sent. */
  html: string;
  /** Whether updates may be applied in place; otherwise every update reloads. */
  hot: boolean;
  /** What the page prints is told. */
  console?: boolean;
  /** The page forbids style elements: sheets come as links. */
  links?: boolean;
}

/** One update that does what several do one after another. */
export function mergeUpdates(updates: readonly UpdateMessage[]): UpdateMessage {
  const last = updates.at(-1)!;
  const changed = new Set<string>();
  const removed = new Set<string>();
  for (const update of updates) {
    for (const id of update.removed) {
      removed.add(id);
      changed.delete(id);
    }
    for (const id of update.changed) {
      changed.add(id);
      removed.delete(id);
    }
  }
  const reload = updates.flatMap((update) => update.reload ?? []);
  return {
    type: 'update',
    id: last.id,
    changed: [...changed],
    removed: [...removed],
    styles: [...new Map(updates.flatMap(({ styles }) => styles).map((style) => [style.id, style])).values()],
    scripts: updates.flatMap(({ scripts }) => scripts),
    files: [...new Map(updates.flatMap(({ files }) => files).map((file) => [file.path, file])).values()],
    ...(reload.length > 0 ? { reload } : {}),
  };
}

/**
 * Adds up module versions, so that server and page can tell whether they hold the same modules. Versions are
 * hexadecimal; the sum stays below 2^48 and does not depend on the order.
 */
export function digestVersions(versions: Iterable<string>): number {
  let sum = 0;
  for (const version of versions) sum = (sum + Number.parseInt(version.slice(0, 12), 16)) % 2 ** 48;
  return sum;
}
