import type { parse } from 'es-module-lexer';
import type { Edit, Shift } from './edits.js';

/** How a module asks for another. */
export type RequestKind = 'import' | 'dynamic' | 'require' | 'url' | 'worker';

/** One specifier in a module, with its place in the translated text. */
export interface ModuleRequest {
  kind: RequestKind;
  specifier: string;
  /** `specifier` holds `*`, which stands for anything but a slash: every file that matches may be meant. */
  isPattern?: true;
  /** Nothing says that it's imported, but it stands there, and what is imported does not show. */
  isGuess?: true;
  /** A script by its URL that is registered as a service worker. */
  isService?: true;
  /** A `require` outside of any function, branch or `try`: where it fails, the module fails. */
  isCertain?: true;
  /** An `import()` of WebAssembly of which nothing but the default export is taken: its URL. */
  wantsUrl?: true;
  /** The `type` import attribute, if there is one. */
  type?: string;
  /** Offsets of the specifier in the translated text. */
  start: number;
  end: number;
}

/** A name that a module imports, for checking against what the other exports. */
export interface ImportRecord {
  request: number;
  name: string;
  /** The name is only exported again; in TypeScript it may be that of a type. */
  isPassedOn: boolean;
}

/**
 * A module in the form in which the browser runs it: one function whose parameter is its handle.
 * `code` starts right behind `vine.add("id", {edges}, ` and ends before `);`. Its body begins on the second line at
 * column 0 and keeps every line where the translated text has it.
 */
export interface Linked {
  format: 'module' | 'commonjs';
  code: string;
  /** Line ends in `code`. */
  lineEnds: number;
  /** Where body columns differ from those of the translated text. */
  shifts: Shift[];
  requests: ModuleRequest[];
  /** Imported names; empty for CommonJS. */
  imports: ImportRecord[];
  /** Names exported by the module itself or passed on by name; `undefined` for CommonJS, which decides as it runs. */
  exports?: string[];
  /** Those passed on by name; `imported` is `null` for a whole namespace. Absent where there are none. */
  passedOn?: { exported: string; request: number; imported: string | null }[];
  /** Requests behind `export * from`. */
  stars: number[];
  /** Assignments to imported names, by their offsets in the translated text. */
  importWrites: { name: string; start: number; end: number }[];
  /** The module reads variables of other modules. */
  hasBindings: boolean;
  /** Some export is a function that others can call before the module has run. */
  isEarly: boolean;
  /** An engine has parsed the body on the way, as that of a module. */
  isParsed?: true;
  /** Made without a syntax tree: which requests are certain is not known. */
  isScanned?: true;
}

/** What linking a CommonJS module needs to know of it. */
export interface Found {
  isScanned?: true;
  edits: Edit[];
  requests: ModuleRequest[];
}

/** What every linking needs beside the text. */
export interface LinkInput {
  text: string;
  /** The module's name for the runtime, not used by the text itself. */
  handle: string;
  /** Expressions that are known at build time, by their source text, e.g. `process.env.NODE_ENV` -> `"development"`. */
  constants: Readonly<Record<string, string>>;
  /**
   * Link in the checked form, for modules whose imports may be read before the exporter has run, as in cycles: every
   * read of an import asks the runtime first, so that it throws where the standard does.
   */
  checked?: boolean;
  /** There are no updates: `import.meta.live` is `undefined`, so that a minifier takes away what stands behind it. */
  isBuilt?: boolean;
  /** What the lexer found in `text`, where it was asked before. */
  records?: LexerRecords;
}

/** Import and export records of the lexer. */
export type LexerRecords = ReturnType<typeof parse>;
