import type { Problem } from '../core/problem/problem.js';
import type { ProjectOptions } from '../project/options.js';
import type { CompressedSizes } from './compressed-sizes.js';
import type { Limits } from './limits.js';
import type { Manifest } from './manifest.js';
import type { ReportData } from './report.js';
import type { BuildTargets } from './targets.js';

/** How a project is to be built. */
export interface BuildOptions extends ProjectOptions {
  /** Absolute path of the folder to write to. */
  out: string;
  minify: boolean;
  /** What the output has to be understood by. */
  browsers: BuildTargets;
  /** `hidden`: written, and not named by the files that they belong to. */
  sourceMaps: 'on' | 'hidden' | 'off';
  /** Take away what earlier builds wrote. */
  empty: boolean;
  /** Write the list of files into the folder. */
  manifest: boolean;
  /** Absolute path of a file that keeps that list where the folder doesn't. */
  listFile?: string;
  /** Scripts, styles and preloads say what their content has to be. */
  integrity: boolean;
  /** `free`: the program doesn't look at the names of its functions and classes, so that they may be shorter. */
  functionNames: 'kept' | 'free';
  /** Images and fonts up to this size, in bytes, become part of what uses them. */
  inlineBytes: number;
  /**
   * Tells these settings from all others; with the same, what the last build came to may be put in place again while nothing has
   * changed. Absent where that won't do.
   */
  sameAs?: string;
  /** What mustn't be exceeded, in bytes. */
  limits: Limits;
  /** Whether somebody else answers a path, such as a backend, by a rule. */
  isElsewhere(path: string): boolean;
  /** Something begins that may take a while. */
  onStage(stage: string): void;
  onWarning(warning: Problem): void;
  onNote(note: string): void;
}

/** What a build came to. */
export interface BuildResult {
  manifest: Manifest;
  /** Number of modules in the output. */
  modules: number;
  /** Files in the folder that are none of ours. */
  others: string[];
  /** Paths of scripts and styles. */
  texts: readonly string[];
  compressed: CompressedSizes;
  /** Bytes of each module in scripts. */
  sizes: ReadonlyMap<string, number>;
  /** Made when it's asked for; not there with `sameAs`. */
  report?(name: string): ReportData;
  /** What the last build in this folder wrote. */
  before: Manifest | undefined;
  /** Nothing has changed since the last build: it was put in place again. */
  isUnchanged?: true;
  /** Keeps it, so that the next build need not make the same again; can wait until it was told. */
  keep?(): Promise<void>;
}
