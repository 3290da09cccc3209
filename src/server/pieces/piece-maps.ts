import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { indexMap, type MapSection } from '../../core/maps/index-map.js';
import { type MapInput, moduleMap, moduleMapParts } from '../../core/maps/module-map.js';
import { fileOfPart } from '../../core/module-id.js';
import type { Piece, PiecePlace } from '../../core/pieces/piece.js';
import type { TextParts } from '../../core/text/batches.js';
import { ShippedMaps, type ShippedMapsOptions } from '../../project/files/shipped-maps.js';
import type { Origin, StackFrame } from './map-stack.js';

/** Maps of pieces, made when somebody asks. */
export class PieceMaps {
  readonly #shipped: ShippedMaps;
  /** Maps of package files, which take long to make and don't change. */
  readonly #known = new WeakMap<MapInput, string>();

  constructor(options: ShippedMapsOptions) {
    this.#shipped = new ShippedMaps(options);
  }

  /** The parts of a piece's index map. */
  ofPiece({ piece, name }: StoredPiece): TextParts {
    return indexMap(`${name}.js`, this.#sectionsOf(piece));
  }

  *#sectionsOf(piece: Piece): Generator<MapSection> {
    for (const { module, bodyLine } of piece.places()) {
      const { id, map } = module;
      if (map) yield { line: bodyLine, map: () => this.#ofModule(id, map) };
    }
  }

  /** Where a place in a piece comes from. Only the module there is looked at: a whole map takes long to read. */
  originOf({ piece }: StoredPiece, { line, column }: StackFrame): Origin | undefined {
    let place: PiecePlace | undefined;
    for (const candidate of piece.places()) if (candidate.bodyLine < line) place = candidate;
    const input = place?.module.map;
    if (!place || !input || input.ignored) return undefined;
    if (!Number.isSafeInteger(line) || !Number.isSafeInteger(column) || column < 0) return undefined;
    const found = originalPositionFor(new TraceMap(moduleMap(input)), { line: line - place.bodyLine, column });
    if (found.line === null) return undefined;
    return { file: fileOfPart(place.module.id), source: input.source.text, line: found.line, column: found.column };
  }

  #ofModule(id: string, input: MapInput): readonly string[] {
    if (!input.ignored) return moduleMapParts(input);
    const known = this.#known.get(input);
    if (known !== undefined) return [known];
    const map = this.#shipped.through(moduleMap(input), id, input.source.text);
    this.#known.set(input, map);
    return [map];
  }
}

/** A piece ready to be sent. */
export interface StoredPiece {
  /** Identifies the content; the strong ETag is this in quotes. */
  tag: string;
  piece: Piece;
  name: string;
}
