/** Where each of a module's specifiers leads, as the runtime needs it. */
export interface RuntimeEdges {
  /** Changes whenever the module's code or one of its edges does. */
  version: string;
  /** Targets of static imports, in source order. */
  imports: string[];
  /** Specifier -> target of `import()`, with the URL of its piece; or why there is none, with which it rejects. */
  dynamic?: Record<string, { id: string; piece: string; missing?: string }>;
  /** Specifier -> target of `require`. */
  requires?: Record<string, string>;
  /** Specifier -> target of static imports, where the module names specifiers to `import.meta.live.take`. */
  specifiers?: Record<string, string>;
  /** The module is CommonJS. */
  commonjs?: true;
  /** In a build: further modules whose variables this one reads, and that it does not run before itself; their places go on after those of imports. */
  links?: string[];
  /** In a build: the module has a top-level `await`; `steps` where its function gives what to wait for, one after another. */
  async?: true | 'steps';
  /** The default export is a component without a name, which nothing but the source shows. */
  anonymousComponent?: true;
  /** Nothing is lost when it runs again. */
  stateless?: true;
  /** CommonJS imports follow Node's convention: the default is `module.exports` whatever `__esModule` says. */
  nodeDefault?: true;
  /** It is data or a file: what `require` gives is the default export. */
  value?: true;
  /** URLs of what stands in `new URL('…', import.meta.url)` and `import.meta.resolve('…')`, by place. */
  urls?: string[];
  /** Specifier -> URL of what an expression there may name; while serving those of programs only, since files are where it says. */
  files?: Record<string, string>;
  /** The URL of the file that the module stands for. */
  url?: string;
  /** URL of the style sheet that the page must hold while this module is in use. */
  style?: string;
  /** Several modules that share a scope: what those of them need that name files or other modules, by id. */
  parts?: Record<string, Pick<RuntimeEdges, 'dynamic' | 'files' | 'urls'>>;
  /** The text of that sheet, where it comes with the module: a piece behind a dynamic import brings its sheets along. */
  css?: string;
}
