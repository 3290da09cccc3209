import type { Mode } from '../core/mode.js';
import type { Trace } from '../core/trace.js';
import type { Adapter } from '../core/translate/adapter.js';
import type { ScriptTargets } from '../core/translate/translate-script.js';

/** What a project is opened with. */
export interface ProjectOptions {
  /** Absolute path, links resolved. */
  root: string;
  /** Ids of the HTML pages. */
  pages: readonly string[];
  /** The HTML of pages that have no file, by id. */
  generated: Readonly<Record<string, string>>;
  /** Absolute path of the folder whose HTML files are the pages; absent where they are named. */
  pageFolder?: string;
  /** HTML for the end of every page's head and body. */
  insert: { head: string; body: string };
  /** Entries that pages of a backend may start, and modules, sheets and files that stand for paths of its templates, as ids. */
  embedded: readonly string[];
  /** Globs, from the project's folder, of files that are no modules and whose changes somebody wants to know. */
  noticed: readonly string[];
  base: string;
  mode: Mode;
  alias: Readonly<Record<string, string>>;
  roots: readonly string[];
  conditions: readonly string[];
  constants: Readonly<Record<string, string>>;
  adapters: readonly Adapter[];
  /** What a build's scripts have to be understood by; absent where nobody is asked. */
  targets?: ScriptTargets | undefined;
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
