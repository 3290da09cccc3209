import { countLineEnds } from '../line-index.js';
import type { Linked } from '../link/linked.js';
import type { MapInput } from '../maps/module-map.js';
import type { RuntimeEdges } from './runtime-edges.js';

/** One module as it goes into a piece. It stays the same object as long as nothing about it changes. */
export interface PieceModule {
  id: string;
  linked: Linked;
  edges: RuntimeEdges;
  /** What its map is made of, where it has one. */
  map?: MapInput;
  /** The statement that registers it, up to its code; made when it's needed first. */
  head?: string;
}

/** A module in a piece, and the line on which its body starts, counted from 0. */
export interface PiecePlace {
  module: PieceModule;
  bodyLine: number;
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

/** A classic script that registers modules. Module texts are not touched, so that their maps stay valid as they are. */
export class Piece {
  readonly #modules: readonly PieceModule[];
  readonly #options: PieceOptions;

  constructor(options: PieceOptions) {
    this.#modules = [...options.modules];
    this.#options = options;
  }

  /** The text in parts, to be sent one after another. */
  *parts(): Generator<string | readonly string[]> {
    const { before = '', after, sourceUrl, mapUrl } = this.#options;
    yield `${before}(vine => {\n`;
    for (const module of this.#modules) {
      module.head ??= `vine.add(${JSON.stringify(module.id)}, ${JSON.stringify(module.edges)}, `;
      yield [module.head, module.linked.code, ');\n'];
    }
    if (after) yield `${after}\n`;
    yield '})(self["~vine"]);\n';
    if (sourceUrl) yield `//# sourceURL=${sourceUrl}\n`;
    yield `//# sourceMappingURL=${mapUrl}\n`;
  }

  /** Where each module stands. */
  *places(): Generator<PiecePlace> {
    let line = countLineEnds(this.#options.before ?? '') + 1;
    for (const module of this.#modules) {
      yield { module, bodyLine: line + 1 };
      line += module.linked.lineEnds + 1;
    }
  }
}
