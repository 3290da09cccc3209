import type { Linked } from '../link/linked.js';
import type { MapInput } from '../maps/module-map.js';
import { countLineEnds } from '../text/line-index.js';
import type { RuntimeEdges } from './runtime-edges.js';

/** One module as it goes into a piece. It stays the same object as long as nothing about it changes. */
export interface PieceModule {
  id: string;
  linked: Linked;
  edges: RuntimeEdges;
  /** What its map is made of, where it has one. */
  map?: MapInput;
  /** Changes with what its map shows, where that may change though its version doesn't. */
  sourceHash?: string;
  /** The statement that registers it, up to its code; made when it's needed first. */
  head?: string;
  /** Gives the text of the sheet that it stands for, where it's one. */
  css?(): string;
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
  /** Style sheets come along with their texts: the page doesn't hold them. */
  hasSheets?: boolean;
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

  /** The text in parts, to be sent one after another, for pages whose hook has this key. */
  *parts(hookKey: string): Generator<string | readonly string[]> {
    yield* this.inner();
    yield pieceEnd(hookKey, this.#options);
  }

  /**
   * The same with each module as a text of its own, for a browser that refuses the piece as a whole: one module that it can't
   * parse must not take the others with it.
   */
  *apart(hookKey: string): Generator<string | readonly string[]> {
    yield* this.inner(true);
    yield pieceEnd(hookKey, this.#options);
  }

  /** What of the text is the same for all pages: `pieceEnd` completes it. */
  *inner(isApart = false): Generator<string | readonly string[]> {
    const { before = '', after } = this.#options;
    yield `${before}(vine => { if (!vine) return;\n`;
    for (const module of this.#modules) {
      const head = this.#headOf(module);
      const code = isApart
        ? `vine.parse(${JSON.stringify(module.id)}, ${JSON.stringify(module.linked.code)})`
        : module.linked.code;
      yield [head, code, ');\n'];
    }
    if (after) yield `${after}\n`;
  }

  #headOf(module: PieceModule): string {
    if (this.#options.hasSheets && module.css) return headOf(module, { ...module.edges, css: module.css() });
    module.head ??= headOf(module, module.edges);
    return module.head;
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

function headOf({ id }: PieceModule, edges: RuntimeEdges): string {
  return `vine.add(${JSON.stringify(id)}, ${JSON.stringify(edges)}, `;
}

/**
 * The end of a piece, with which it runs where its own client put the hook, and nowhere else. A page of another site may load
 * the piece as a script too, and define a hook of its own: but it doesn't know the key. It's compared in strict code, since the
 * functions below sloppy code can be got at from a getter, with their texts.
 */
export function pieceEnd(hookKey: string, { sourceUrl, mapUrl }: Pick<PieceOptions, 'sourceUrl' | 'mapUrl'>): string {
  const source = sourceUrl === undefined ? '' : `//# sourceURL=${sourceUrl}\n`;
  return `})(${ownHook(hookKey)});\n${source}//# sourceMappingURL=${mapUrl}\n`;
}

/** An expression for the hook where it's that of our own client, else for `undefined`. */
export function ownHook(hookKey: string): string {
  return `(() => { "use strict"; const hook = globalThis["~spark"]; return hook?.key === ${JSON.stringify(hookKey)} ? hook : undefined; })()`;
}
