import type { UpdateScript } from '../../core/live/messages.js';
import { Piece, type PieceOptions } from '../../core/pieces/piece.js';
import type { TextParts } from '../../core/text/batches.js';
import { contentHash } from '../../core/text/content-hash.js';
import { ownIdPrefix, ownUrl, type PagePart, pieceName, pieceNameOf } from '../../core/urls.js';
import type { ProjectUpdate } from '../../project/live/update-maker.js';
import type { Page } from '../../project/pages/page.js';
import type { Project } from '../../project/project.js';
import type { Origin, StackFrame } from './map-stack.js';
import type { PieceMaps, StoredPiece } from './piece-maps.js';

const keptPieces = 40;

/** Makes pieces and updates from the project and keeps the newest, so that their maps can be asked for later. */
export class PieceStore {
  readonly #project: Project;
  readonly #hookKey: string;
  readonly #onNote: (note: string) => void;
  #maps: Promise<PieceMaps> | undefined;
  readonly #kept = new Map<string, StoredPiece>();
  readonly #updateCode = new Map<number, string>();

  constructor(project: Project, hookKey: string, onNote: (note: string) => void) {
    this.#project = project;
    this.#hookKey = hookKey;
    this.#onNote = onNote;
  }

  /**
   * A part of a page's modules: those of packages, or the application's own with the start of the page. While something is
   * missing nothing is started; the page reloads when that is solved.
   */
  ofPage(page: Page, part: PagePart): StoredPiece {
    const name = pieceName.ofPage(page.id, part);
    if (!this.#project.isComplete(page)) return this.#make(name, []);
    const isPackage = (id: string) => id.includes('node_modules/') || id.startsWith(ownIdPrefix);
    const ids = this.#project.pageOrder(page).filter((id) => isPackage(id) === (part === 'packages'));
    const after = part === 'app' && page.runs[0] ? `vine.start(${JSON.stringify(page.runs[0].entry)});` : '';
    return this.#make(name, ids, { after });
  }

  /** The piece behind a dynamic import, without what every page has from the start; workers, which have nothing of pages, get it whole. */
  lazy(id: string, isWhole = false): StoredPiece {
    const pages = isWhole ? [] : [...this.#project.pages.values()].map((page) => new Set(this.#project.pageOrder(page)));
    const common = new Set([...(pages[0] ?? [])].filter((module) => pages.every((order) => order.has(module))));
    return this.#make(pieceName.lazy(id), this.#project.graph.reachable([id], common), { hasSheets: true });
  }

  /** The newest of each kind of piece that was asked for and can be asked for again. */
  asked(): StoredPiece[] {
    const lasting = [...this.#kept.values()].filter(({ name }) => /^(?:page|lazy)\//.test(name));
    return [...new Map(lasting.map((stored) => [stored.name, stored])).values()];
  }

  /** The script of a worker: the runtime, everything that runs there, and its start. */
  worker(id: string, runtime: string): StoredPiece {
    const { base } = this.#project.options;
    const before = `const sparkBase = ${JSON.stringify(base)}, sparkKey = ${JSON.stringify(this.#hookKey)};\n${runtime}`;
    const after = `vine.start(${JSON.stringify(id)});`;
    return this.#make(pieceName.worker(id), this.#project.graph.reachable([id]), { before, after });
  }

  /** The scripts that bring an update to pages: one, or none where no module changed. */
  ofUpdate(update: ProjectUpdate, origin: string): UpdateScript[] {
    const { base } = this.#project.options;
    if (update.modules.length === 0) return [];
    const name = pieceName.ofUpdate(update.id);
    const path = ownUrl.piece(base, name);
    const piece = new Piece({
      modules: update.modules,
      mapUrl: `${origin}${ownUrl.map(base, name, 'u')}`,
      sourceUrl: `${origin}${path}`,
    });
    this.#keep({ tag: 'u', piece, name });
    const code = [...piece.parts(this.#hookKey)].flat().join('');
    this.#updateCode.set(update.id, code);
    for (const id of this.#updateCode.keys()) if (id <= update.id - keptPieces) this.#updateCode.delete(id);
    return [{ code, url: path }];
  }

  /** The script of an earlier update, for pages that may not evaluate strings. */
  updateCode(id: number): string | undefined {
    return this.#updateCode.get(id);
  }

  /**
   * Where a place in a script of ours comes from; `undefined` for code of packages and of our own. `tags` are those of the
   * pieces that the page runs; without one it's the piece that was sent last.
   */
  async originOf(frame: StackFrame, tags: Readonly<Record<string, string>>): Promise<Origin | undefined> {
    const name = pieceNameOf(frame.url, this.#project.options.base);
    if (name === undefined) return undefined;
    const tag = Object.hasOwn(tags, name) ? tags[name] : undefined;
    const ofName = [...this.#kept.values()].filter((stored) => stored.name === name);
    const stored = ofName.findLast((candidate) => candidate.tag === tag) ?? ofName.at(-1);
    return stored && (await this.#mapsLoaded()).originOf(stored, frame);
  }

  /** The parts of the index map of a kept piece, assembled now; `undefined` where the piece is too old to be known. */
  async map(name: string, tag: string): Promise<TextParts | undefined> {
    const stored = this.#kept.get(`${name}\0${tag}`);
    return stored && (await this.#mapsLoaded()).ofPiece(stored);
  }

  /** Loads what maps need, which `map` else does. */
  async prepareMaps(): Promise<void> {
    await this.#mapsLoaded();
  }

  /** What only debuggers and errors need is loaded when it's asked for. */
  #mapsLoaded(): Promise<PieceMaps> {
    const { paths, options, gate } = this.#project;
    this.#maps ??= import('./piece-maps.js').then(
      (module) => new module.PieceMaps({ paths, gate, base: options.base, onNote: this.#onNote }),
    );
    return this.#maps;
  }

  #make(name: string, ids: readonly string[], options: Pick<PieceOptions, 'before' | 'after' | 'hasSheets'> = {}): StoredPiece {
    const { after = '' } = options;
    const modules = ids.map((id) => this.#project.pieces.get(id)).filter((module) => module !== undefined);
    const tag = contentHash(
      after,
      ...modules.map(
        ({ id, edges, sourceHash }) => `${id} ${edges.version} ${edges.style ?? ''}${edges.url ?? ''}${sourceHash ?? ''}`,
      ),
    );
    const known = this.#kept.get(`${name}\0${tag}`);
    if (known) return known;
    // Tells the page which version of the piece it runs, so that its errors are looked up in that one.
    const noted = `vine.piece(${JSON.stringify(name)}, ${JSON.stringify(tag)});\n${after}`;
    const piece = new Piece({ modules, ...options, after: noted, mapUrl: ownUrl.map(this.#project.options.base, name, tag) });
    return this.#keep({ tag, piece, name });
  }

  #keep(stored: StoredPiece): StoredPiece {
    this.#kept.set(`${stored.name}\0${stored.tag}`, stored);
    for (const key of this.#kept.keys()) {
      if (this.#kept.size <= keptPieces) break;
      this.#kept.delete(key);
    }
    return stored;
  }
}
