import { readFileSync } from 'node:fs';
import { dirname, resolve } from 'node:path';
import { chainShippedMap, mapReference, readShippedMap, shippedSources } from '../../core/maps/shipped-map.js';
import type { Paths } from '../../core/paths.js';
import type { FileGate } from './file-gate.js';

export interface ShippedMapsOptions {
  paths: Paths;
  /** Which files may be read. */
  gate: FileGate;
  /** What stands in front of the ids of sources. */
  base: string;
  /** Told of each file that mattered, whether it's there or not. */
  onLook?(path: string): void;
  /** Told once for each map that can't be used. */
  onNote(note: string): void;
}

/** Leads maps of package files on through the maps that the packages ship. */
export class ShippedMaps {
  readonly #options: ShippedMapsOptions;
  readonly #noted = new Set<string>();

  constructor(options: ShippedMapsOptions) {
    this.#options = options;
  }

  /** The map that reaches what the package's authors wrote; `own` itself where the package ships none that can be used. */
  through(own: string, id: string, source: string): string {
    const reference = mapReference(source);
    if (reference === undefined) return own;
    try {
      const file = this.#options.paths.fileOf(id);
      const shipped = readShippedMap(this.#textOf(reference, file));
      const ids = shippedSources(shipped, id);
      const contents = ids.map((name, index) => shipped.sourcesContent?.[index] ?? this.#read(name, file));
      // The debugger would show nothing at all: the shipped code is better than that.
      if (contents.includes(undefined)) return own;
      const sources = ids.map((name) => this.#options.base + name);
      return chainShippedMap(own, shipped, { sources, contents: contents as string[] });
    } catch (error) {
      this.#note(id, error instanceof Error ? error.message : String(error));
      return own;
    }
  }

  /** A source that the map names without giving its text: only of the same package. */
  #read(id: string, packageFile: string): string | undefined {
    const { paths, gate } = this.#options;
    const path = paths.fileOf(id);
    this.#options.onLook?.(path);
    if (!gate.mayReadFor(path, packageFile)) return undefined;
    try {
      return readFileSync(path, 'utf8');
    } catch {
      return undefined; // many packages ship maps without what they map to
    }
  }

  #textOf(reference: string, file: string): string {
    const data = /^data:[^,]*?(;base64)?,(.*)$/s.exec(reference);
    if (data) return data[1] ? Buffer.from(data[2]!, 'base64').toString('utf8') : decodeURIComponent(data[2]!);
    const path = resolve(dirname(file), decodeURIComponent(reference));
    this.#options.onLook?.(path);
    if (!this.#options.gate.mayReadFor(path, file)) throw new Error(`it would lie outside of the package, at ${path}`);
    return readFileSync(path, 'utf8');
  }

  #note(id: string, why: string): void {
    if (this.#noted.has(id)) return;
    this.#noted.add(id);
    this.#options.onNote(`the source map of ${id} is not used: ${why.split('\n')[0]}`);
  }
}
