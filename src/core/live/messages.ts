import type { Problem } from '../problem.js';

/** The WebSocket subprotocol of the live channel; a new number when a message changes in a way that old pages can't read. */
export const liveProtocol = 'vine-live.1';

/** A style sheet of the page and the URL of its new version. */
export interface SheetChange {
  id: string;
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
  /** The script that registers the changed and the added modules; empty where only styles changed. */
  code: string;
  /** Where the same script can be loaded from, for pages that may not evaluate strings. */
  url: string;
  /** Reload whatever the modules say, and why, e.g. because the page's HTML changed. */
  reload?: { page: string; reason: string }[];
}

/** From the server to a page. */
export type ServerMessage =
  | { type: 'hello'; session: string; build: number }
  | UpdateMessage
  | { type: 'reload'; reason: string }
  | { type: 'problem'; problems: Problem[] }
  | { type: 'solved' }
  | { type: 'current' };

/** Why a page could not take an update in place. `chain` goes from the changed module to the page. */
export interface ReloadReason {
  reason: string;
  chain: string[];
}

/** From a page to the server. */
export type PageMessage =
  /** The page runs a build of an earlier run of the server: is it still the newest? */
  | { type: 'resume'; page: string; digest: number; pieces: string[]; styles: Record<string, string>; html: string }
  /** An update is in place. `boundaries` took it, `ran` are the modules that ran again. */
  | { type: 'applied'; update: number; boundaries: string[]; ran: string[]; styles: string[]; applyMs: number; notes: string[] }
  | ({ type: 'reloaded'; update: number } & ReloadReason)
  /** An error that nothing in the page caught. `isStart`: a module of the page failed while it ran. */
  | { type: 'error'; message: string; stack: string; isStart: boolean };

/** What the client script is told by the page that loads it, as JSON in its `data-vine` attribute. */
export interface ClientSettings {
  /** Path of the page's HTML file. */
  page: string;
  session: string;
  build: number;
  /** URL prefix of the front end, with a slash at both ends. */
  base: string;
  /** Version of the page's HTML as it was sent. */
  html: string;
  /** Whether updates may be applied in place; otherwise every update reloads. */
  hot: boolean;
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
