import type { RawMap } from './translate-script.js';

/** What an adapter is told beside the source. */
export interface AdapterContext {
  /** Absolute path of the file. */
  file: string;
  /** Path relative to the project. */
  id: string;
  /** Says that another file went into the result: when it changes, `translate` is called again. Absolute, or relative to `file`. */
  dependOn(path: string): void;
}

/** What an adapter makes of a file: an ECMAScript module, with a map back to the source if lines are to be found again. */
export interface AdapterResult {
  code: string;
  map?: RawMap;
}

/** A file kind of the user's own. */
export interface Adapter {
  /** For messages. */
  name: string;
  /** Which files, by their paths relative to the project. */
  files: RegExp;
  /** Makes a module of a file's text. What it throws becomes a problem at `line` and `column` (1-based) of the error, if it has them. */
  translate(source: string, context: AdapterContext): AdapterResult | string | Promise<AdapterResult | string>;
  /** Finds what a specifier means: an absolute path, or nothing to leave it to Vine Spark. */
  resolve?(specifier: string, importer: string): string | undefined;
}
