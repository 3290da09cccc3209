import type { RawMap } from '../maps/raw-map.js';
import type { Mode } from '../mode.js';
import type { Problem } from '../problem/problem.js';

/** The languages that Vine Spark itself translates to JavaScript. */
export type ScriptLanguage = 'js' | 'jsx' | 'ts' | 'tsx';

/** What an adapter is told beside the source. */
export interface AdapterContext {
  /** Absolute path of the file. */
  file: string;
  /** Path relative to the project. */
  id: string;
  mode: Mode;
  /** Absolute path of the project. */
  root: string;
  /** Says that another file went into the result: when it changes, `translate` is called again. Absolute, or relative to `file`. */
  dependOn(path: string): void;
  /**
   * The text of another file (absolute path), which then went into the result. `undefined` where there is none, or where it belongs
   * neither to the project nor to its workspace and packages.
   */
  read(path: string): string | undefined;
  /**
   * Makes CSS of a text of the project's own: by Sass if `language` is `scss` or `sass`, then by the project's PostCSS plugins.
   * Lines and columns of problems are those of `text`, which stands for the file: put spaces in the place of what is not meant.
   */
  toCss(text: string, language: string): Promise<{ code: string; map?: RawMap }>;
  /** Translates a script as the project's own are. Places are those of `text`, as with `toCss`. */
  toScript(text: string, language: ScriptLanguage): Promise<{ code: string; map?: RawMap }>;
  /** What the adapter that takes blocks of a type (`blocks`) makes of one; nothing where there is none. */
  block?(type: string, text: string, attributes: Readonly<Record<string, string | true>>): Promise<string | undefined>;
}

/** Something about a place of a file, lines and columns counted from 1. */
export interface AdapterMessage {
  message: string;
  line?: number;
  column?: number;
  hint?: string;
}

/** A part of a file that is a module of its own. Its name's extension says what kind of module. */
export interface AdapterPart {
  text: string;
  /** The map from `text` back to the file. Without one, `text` has the lines and columns of the file. */
  map?: RawMap;
  /** Absolute path of another file, where `text` and `map` are of that one. */
  file?: string;
  /** CSS to which nothing is to be done any more. */
  isFinished?: boolean;
  /** When it runs again, nothing that somebody has clicked together is lost. */
  holdsNoState?: boolean;
}

/** What an adapter makes of a file: a module, with a map back to the source if lines are to be found again. */
export interface AdapterResult {
  code: string;
  /** What `code` is written in; `js` unless it says otherwise. */
  language?: ScriptLanguage;
  map?: RawMap;
  /** When it runs again, nothing that somebody has clicked together is lost. */
  holdsNoState?: boolean;
  /** Further modules, by name, which this one and they import as `part:<name>`. */
  parts?: Record<string, AdapterPart>;
  /** What the user should know, though it goes on. */
  warnings?: AdapterMessage[];
}

/** A file kind of the user's own. */
export interface Adapter {
  /** For messages. */
  name: string;
  /** Which files, by their paths relative to the project. */
  files: RegExp;
  /**
   * Makes a module of a file's text. What it throws becomes a problem at `line` and `column` (1-based) of the error, if it has
   * them; several, where the error has a list of such `errors`.
   */
  translate(source: string, context: AdapterContext): AdapterResult | string | Promise<AdapterResult | string>;
  /** Finds what a specifier means: an absolute path, or nothing to leave it to Vine Spark. */
  resolve?(specifier: string, importer: string): string | undefined;
  /** Modules of the adapter's own, by name, that what it makes imports as `adapter:<name>`. JavaScript. */
  helpers?: Record<string, string>;
  /** Types of custom blocks of component files that it takes, e.g. `notice` for `<notice>`. */
  blocks?: string[];
  /** Makes a module of such a block: its default export is called with the component. */
  translateBlock?(
    text: string,
    block: { type: string; file: string; attributes: Readonly<Record<string, string | true>> },
  ): string | Promise<string>;
  /** Works on the CSS of a part when Sass and PostCSS are through with it, e.g. to let it hold for one component only. */
  finishCss?(css: string, part: { file: string; id: string; name: string }): Promise<{ code: string; map?: RawMap }>;
  /**
   * Changes with everything beside files that decides about the result, e.g. the version of a compiler. With it, results are
   * kept for the next start; a function is asked at every start, and may say that nothing can be kept.
   */
  version?: string | (() => string | undefined);
}

/** What an adapter may throw to say more than a message. */
export interface AdapterFailure extends AdapterMessage {
  errors?: AdapterMessage[];
  /** Says it in the words of Vine Spark instead of naming the adapter. */
  problem?: Pick<Problem, 'code' | 'message' | 'hint'>;
}
