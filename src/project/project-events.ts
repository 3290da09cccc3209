import type { Problem } from '../core/problem/problem.js';
import type { ProjectUpdate } from './live/update-maker.js';

/** What a project tells. */
export interface ProjectEvents {
  update: ProjectUpdate;
  problems: Problem[];
  solved: { since: number };
  /** A file of the settings changed, appeared or went. */
  settings: { since: number };
  /** A page may have come or gone in the folder that holds them. */
  pages: { since: number };
  /** Files changed that are no modules but that the options name; their ids. */
  noticed: { since: number; files: string[] };
  /** Something in a module that need not be wrong. */
  warning: Problem;
  /** Something the user should know and need not act on. */
  note: string;
  /** Something in the tool itself failed; the project goes on with the next change. */
  failure: Error;
}
