import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import type { UpdateScript } from '../core/live/messages.js';
import { indexMap } from '../core/maps/index-map.js';
import type { MapInput } from '../core/maps/module-map.js';
import { moduleMap } from '../core/maps/module-map.js';
import { idToPath, pathToId } from '../core/pieces/id-path.js';
import { joinPiece, type Piece, type PieceModule } from '../core/pieces/piece.js';
import { contentHash } from '../project/content-hash.js';
import type { ScriptContent } from '../project/module-content.js';
import type { Page } from '../project/page.js';
import type { Project } from '../project/project.js';
import type { ProjectUpdate } from '../project/update-maker.js';
import type { Origin, StackFrame } from './map-stack.js';
import { ShippedMaps } from './shipped-maps.js';

/** A piece ready to be sent. */
export interface StoredPiece {
  /** Identifies the content; the strong ETag is this in quotes. */
  tag: string;
  piece: Piece;
  /** For each module what its map is made of: later saves must not change the map of what a browser runs. */
  sources: Map<string, MapInput>;
  name: string;
}

const keptPieces = 40;

/** Makes pieces and updates from the project and keeps the newest, so that their maps can be asked for later. */
export class PieceStore {
  readonly #project: Project;
  readonly #shipped: ShippedMaps;
  readonly #inputs = new WeakMap<ScriptContent, MapInput>();
  readonly #maps = new WeakMap<MapInput, string>();
  readonly #kept = new Map<string, StoredPiece>();
  readonly #updateCode = new Map<number, string>();

  constructor(project: Project, onNote: (note: string) => void) {
    this.#project = project;
    this.#shipped = new ShippedMaps({ paths: project.paths, base: project.options.base, onNote });
  }

  /**
   * A part of a page's modules: those of packages, or the application's own with the start of the page. While something is
   * missing nothing is started; the page reloads when that is solved.
   */
  ofPage(page: Page, part: 'packages' | 'app'): StoredPiece {
    if (!this.#project.isComplete(page)) return this.#make(`page/${page.id}/${part}`, [], '');
    const isPackage = (id: string) => id.includes('node_modules/') || id.startsWith('~vine/');
    const ids = this.#project.pageOrder(page).filter((id) => isPackage(id) === (part === 'packages'));
    const after = part === 'app' && page.runs[0] ? `vine.start(${JSON.stringify(page.runs[0].entry)});` : '';
    return this.#make(`page/${page.id}/${part}`, ids, after);
  }

  /** The piece behind a dynamic import, without what every page has from the start. */
  lazy(id: string): StoredPiece {
    const pages = [...this.#project.pages.values()].map((page) => new Set(this.#project.pageOrder(page)));
    const common = new Set([...(pages[0] ?? [])].filter((module) => pages.every((order) => order.has(module))));
    return this.#make(`lazy/${id}`, this.#project.graph.reachable([id], common), '');
  }

  /** The script of a worker: the runtime, everything that runs there, and its start. */
  worker(id: string, runtime: string): StoredPiece {
    const { base } = this.#project.options;
    const before = `const vineBase = ${JSON.stringify(base)};\n${runtime}`;
    return this.#make(`worker/${id}`, this.#project.graph.reachable([id]), `vine.start(${JSON.stringify(id)});`, before);
  }

  /** The scripts that bring an update to pages: one, or none where no module changed. */
  ofUpdate(update: ProjectUpdate, origin: string): UpdateScript[] {
    const { base } = this.#project.options;
    const path = `${base}~vine/piece/update/${update.id}.js`;
    if (update.modules.length === 0) return [];
    const name = `update/${update.id}`;
    const piece = joinPiece({
      modules: update.modules,
      mapUrl: `${origin}${this.#mapPath(name, 'u')}`,
      sourceUrl: `${origin}${path}`,
    });
    this.#keep({ tag: 'u', piece, sources: this.#sourcesOf(update.modules), name });
    const code = piece.parts.join('');
    this.#updateCode.set(update.id, code);
    for (const id of this.#updateCode.keys()) if (id <= update.id - keptPieces) this.#updateCode.delete(id);
    return [{ code, url: path }];
  }

  /** The script of an earlier update, for pages that may not evaluate strings. */
  updateCode(id: number): string | undefined {
    return this.#updateCode.get(id);
  }

  /**
   * Where a place in a script of ours comes from; `undefined` for code of packages and of our own. Only the module at that
   * place is looked at, since an application's whole map takes seconds to read. `tags` are those of the pieces that the
   * page runs; without one it's the piece that was sent last.
   */
  originOf({ url, line, column }: StackFrame, tags: Readonly<Record<string, string>>): Origin | undefined {
    if (!url.includes(`${this.#project.options.base}~vine/`)) return undefined;
    const name = pathToId(decodeURIComponent(url.replace(/^.*?~vine\/(?:piece\/)?/, '').replace(/\.js(?:\?.*)?$/, '')));
    const tag = Object.hasOwn(tags, name) ? tags[name] : undefined;
    const ofName = [...this.#kept.values()].filter((stored) => stored.name === name);
    const stored = ofName.findLast((candidate) => candidate.tag === tag) ?? ofName.at(-1);
    const place = stored?.piece.places.findLast(({ bodyLine }) => bodyLine < line);
    const input = place && stored?.sources.get(place.module.id);
    if (!input || input.ignored) return undefined;
    const found = originalPositionFor(new TraceMap(moduleMap(input)), { line: line - place.bodyLine, column });
    if (found.line === null) return undefined;
    return { file: place.module.id, source: input.source, line: found.line, column: found.column };
  }

  /** The parts of the index map of a kept piece, assembled now; `undefined` where the piece is too old to be known. */
  map(name: string, tag: string): string[] | undefined {
    const stored = this.#kept.get(`${name}\0${tag}`);
    if (!stored) return undefined;
    const sections = stored.piece.places.flatMap(({ module, bodyLine }) => {
      const source = stored.sources.get(module.id);
      if (!source) return [];
      return [{ line: bodyLine, map: this.#moduleMap(module.id, source) }];
    });
    return indexMap(`${stored.name}.js`, sections);
  }

  /** The map of one module, kept for as long as the module is: debuggers ask for the whole piece at every reload. */
  #moduleMap(id: string, input: MapInput): string {
    const known = this.#maps.get(input);
    if (known !== undefined) return known;
    const own = moduleMap(input);
    const map = input.ignored ? this.#shipped.through(own, id, input.source) : own;
    this.#maps.set(input, map);
    return map;
  }

  #make(name: string, ids: readonly string[], after: string, before = ''): StoredPiece {
    const modules = ids.map((id) => this.#project.pieces.get(id)).filter((module) => module !== undefined);
    const tag = contentHash(
      after,
      ...modules.map(({ id, edges }) => `${id} ${edges.version} ${edges.style ?? ''}${edges.url ?? ''}`),
    );
    const known = this.#kept.get(`${name}\0${tag}`);
    if (known) return known;
    // Tells the page which version of the piece it runs, so that its errors are looked up in that one.
    const noted = `vine.piece(${JSON.stringify(name)}, ${JSON.stringify(tag)});\n${after}`;
    const piece = joinPiece({ modules, before, after: noted, mapUrl: this.#mapPath(name, tag) });
    return this.#keep({ tag, piece, sources: this.#sourcesOf(modules), name });
  }

  #keep(stored: StoredPiece): StoredPiece {
    this.#kept.set(`${stored.name}\0${stored.tag}`, stored);
    for (const key of this.#kept.keys()) {
      if (this.#kept.size <= keptPieces) break;
      this.#kept.delete(key);
    }
    return stored;
  }

  #mapPath(name: string, tag: string): string {
    return `${this.#project.options.base}~vine/map/${idToPath(name)}.json?of=${tag}`;
  }

  #sourcesOf(modules: readonly PieceModule[]): Map<string, MapInput> {
    const sources = new Map<string, MapInput>();
    for (const { id } of modules) {
      const script = this.#project.script(id);
      if (script) sources.set(id, this.#inputOf(id, script));
    }
    return sources;
  }

  #inputOf(id: string, script: ScriptContent): MapInput {
    const known = this.#inputs.get(script);
    if (known) return known;
    const { source, map, linked, inPackage } = script;
    const { shifts, code } = linked;
    const sourceUrl = `${this.#project.options.base}${id}`;
    const input = { source, sourceUrl, shifts, code, ignored: inPackage, ...(map ? { map } : {}) };
    this.#inputs.set(script, input);
    return input;
  }
}
