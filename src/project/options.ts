import type { Adapter } from '../core/adapter.js';
import type { Mode } from '../core/mode.js';
import type { Problem } from '../core/problem/problem.js';
import type { Trace } from '../core/trace.js';
import type { ProjectUpdate } from './live/update-maker.js';

/** What a project is opened with. */
export interface ProjectOptions {
  /** Absolute path, links resolved. */
  root: string;
  /** Ids of the HTML pages. */
  pages: readonly string[];
  base: string;
  mode: Mode;
  alias: Readonly<Record<string, string>>;
  roots: readonly string[];
  conditions: readonly string[];
  constants: Readonly<Record<string, string>>;
  adapters: readonly Adapter[];
  /** Folders, absolute, that are served as they are. */
  verbatim: readonly string[];
  /** Folders, absolute, whose changes mean nothing. */
  ignored: readonly string[];
  poll: boolean;
  /** Absolute paths of files whose change may give other options; told by the `settings` event. */
  settingsFiles: readonly string[];
  /** Absolute path of the folder that keeps results for the next start; absent where nothing is kept. */
  cacheFolder?: string;
  trace: Trace;
  /** Number of the last update before this project was opened, where it takes the place of another. */
  revision: number;
}

/** What a project tells. */
export interface ProjectEvents {
  update: ProjectUpdate;
  problems: Problem[];
  solved: { since: number };
  /** A file of the settings changed, appeared or went. */
  settings: { since: number };
  /** Something in a module that need not be wrong. */
  warning: Problem;
  /** Something the user should know and need not act on. */
  note: string;
  /** Something in the tool itself failed; the project goes on with the next change. */
  failure: Error;
}
