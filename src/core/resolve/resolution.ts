import type { Files } from '../files.js';
import type { Mode } from '../mode.js';

/** Why a specifier leads nowhere. */
export type Failure =
  /** `similar` is a file beside it with nearly that name; `isCase`: only upper and lower case differ. */
  | { reason: 'file-missing'; tried: string; similar?: string; isCase?: boolean }
  | { reason: 'package-missing'; packageName: string }
  /** `offers` are the paths that the package lists; `isListed`: this one is among them, but its file isn't there. */
  | { reason: 'entry-missing'; packageName: string; subpath: string; offers?: string[]; isListed?: boolean }
  | { reason: 'builtin'; name: string }
  | { reason: 'internal-missing'; specifier: string }
  /** There is a file, but not one to be read; `file` is its path with all links followed. */
  | { reason: 'refused'; why: RefusalReason; file: string };

/** Why a file may not be read: it lies elsewhere, or its name begins with a dot. */
export type RefusalReason = 'outside' | 'hidden';

/** Where a specifier leads. */
export type Resolution =
  | { found: string }
  /** The package says that there is nothing here for browsers. */
  | { empty: true }
  | { failure: Failure };

export interface ResolverOptions {
  files: Files;
  root: string;
  alias: Readonly<Record<string, string>>;
  /** Folders, relative to the root, where bare specifiers are looked for before packages. */
  roots: readonly string[];
  /** Absolute paths that the project's own mapping gives for a specifier in a folder, best first. */
  mapped(specifier: string, folder: string): readonly string[];
  /** A condition too. */
  mode: Mode;
  /** Conditions of `exports` and `imports` beside those of the platform. */
  conditions: readonly string[];
  /** Those of the frameworks that the project uses. */
  frameworkConditions(): readonly string[];
  /** Why the file at `path` may not be read, if so. `real` is `path` with all links followed. */
  refusal(path: string, real: string): RefusalReason | undefined;
}
