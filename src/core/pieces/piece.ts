import { countLineEnds } from '../line-index.js';
import type { Linked } from '../link/linked.js';

/** Where each of a module's specifiers leads, as the runtime needs it. */
export interface RuntimeEdges {
  /** Changes whenever the module's code or one of its edges does. */
  version: string;
  /** Targets of static imports, in source order. */
  imports: string[];
  /** Specifier -> target of `import()`, with the URL of its piece. */
  dynamic?: Record<string, { id: string; piece: string }>;
  /** Specifier -> target of `require`. */
  requires?: Record<string, string>;
  /** Specifier -> target of static imports, where the module names specifiers to `import.meta.live.take`. */
  specifiers?: Record<string, string>;
  /** The module is CommonJS. */
  commonjs?: true;
  /** The default export is a component without a name, which nothing but the source shows. */
  anonymousComponent?: true;
  /** CommonJS imports follow Node's convention: the default is `module.exports` whatever `__esModule` says. */
  nodeDefault?: true;
  /** URLs of what stands in `new URL('…', import.meta.url)`, by place. */
  urls?: string[];
  /** The URL of the file that the module stands for. */
  url?: string;
  /** URL of the style sheet that the page must hold while this module is in use. */
  style?: string;
}

/** One module as it goes into a piece. */
export interface PieceModule {
  id: string;
  linked: Linked;
  edges: RuntimeEdges;
}

/** The lines that a module takes in a piece, counted from 0, and the line on which its body starts. */
export interface PiecePlace {
  module: PieceModule;
  bodyLine: number;
}

/** A script that registers modules, and where each of them stands in it. */
export interface Piece {
  /** Parts of the text, to be sent one after another. */
  parts: string[];
  places: PiecePlace[];
}

export interface PieceOptions {
  modules: Iterable<PieceModule>;
  /** Text in front, e.g. a worker's runtime. */
  before?: string;
  /** Statements that follow the modules, e.g. the start of the page; `vine` is the runtime. */
  after?: string;
  /** URL of the source map, absolute or relative to the piece. */
  mapUrl: string;
  /** URL by which the piece is known in the debugger, needed where it is evaluated from a string. */
  sourceUrl?: string;
}

/** Joins modules into one classic script. Module texts are not touched, so that their maps stay valid as they are. */
export function joinPiece({ modules, before = '', after, mapUrl, sourceUrl }: PieceOptions): Piece {
  const parts = [before, '(vine => {\n'];
  const places: PiecePlace[] = [];
  let line = countLineEnds(before) + 1;
  for (const module of modules) {
    places.push({ module, bodyLine: line + 1 });
    parts.push(`vine.add(${JSON.stringify(module.id)}, ${JSON.stringify(module.edges)}, `, module.linked.code, ');\n');
    line += module.linked.lineEnds + 1;
  }
  if (after) parts.push(`${after}\n`);
  parts.push('})(self["~vine"]);\n');
  if (sourceUrl) parts.push(`//# sourceURL=${sourceUrl}\n`);
  parts.push(`//# sourceMappingURL=${mapUrl}\n`);
  return { parts, places };
}
