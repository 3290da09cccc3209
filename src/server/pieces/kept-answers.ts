import { pieceName, readPieceName } from '../../core/urls.js';
import type { KeptPiece, LastStart, PageSheets } from '../../project/kept/last-start.js';
import type { Project } from '../../project/project.js';
import { sheetsOf } from '../pages/page-sheets.js';
import type { StoredPiece } from './piece-maps.js';
import type { PieceStore } from './piece-store.js';

/**
 * Answers that outlive the server: while it reads modules for the first time, pages get those of the last start, if nothing
 * has changed since. When the modules are there, they are compared with what was given.
 */
export class KeptAnswers {
  readonly #project: Project;
  readonly #pieces: PieceStore;
  readonly #given = new Map<string, KeptPiece>();
  readonly #givenPages = new Map<string, PageSheets>();
  #checked: Promise<void> | undefined;
  #keeping: Promise<void> = Promise.resolve();
  /** The build whose answers are kept. */
  #keptRevision: number | undefined;

  constructor(project: Project, pieces: PieceStore) {
    this.#project = project;
    this.#pieces = pieces;
  }

  /** The last start, while it has to answer. */
  async last(): Promise<LastStart | undefined> {
    const { lastStart, isOpening } = this.#project;
    return isOpening ? lastStart : undefined;
  }

  /** The sheets with which a page is answered before its modules are there. */
  async sheetsFor(page: string): Promise<PageSheets | undefined> {
    const sheets = (await this.last())?.page(page);
    if (sheets) {
      this.#givenPages.set(page, sheets);
      this.#checkWhenOpen();
    }
    return sheets;
  }

  /** A page got this piece. */
  given(piece: KeptPiece): void {
    this.#given.set(piece.name, piece);
    this.#checkWhenOpen();
  }

  #checkWhenOpen(): void {
    this.#checked ??= this.#project
      .opened()
      .then(() => this.#check())
      .catch(() => {}); // whoever opens the project tells
  }

  /** Settles when what was given can be asked for like everything else. */
  async checked(): Promise<void> {
    await this.#checked;
  }

  /** Makes what was given, so that its maps can be asked for; what comes out differently was changed while it was read. */
  async #check(): Promise<void> {
    const project = this.#project;
    let isSame = true;
    for (const { name, tag } of this.#given.values()) if ((await this.#make(name))?.tag !== tag) isSame = false;
    for (const [id, given] of this.#givenPages) {
      const page = project.pages.get(id);
      if (!page || JSON.stringify(sheetsOf(project, page)) !== JSON.stringify(given)) isSame = false;
    }
    if (!isSame) await project.reloadPages('files changed while the server was starting');
  }

  async #make(name: string): Promise<StoredPiece | undefined> {
    const known = readPieceName(name);
    const page = known?.kind === 'page-piece' ? this.#project.pages.get(known.page) : undefined;
    if (page && known?.kind === 'page-piece') return this.#pieces.ofPage(page, known.part);
    return known?.kind === 'lazy' && (await this.#project.ensure(known.id)) ? this.#pieces.lazy(known.id) : undefined;
  }

  /** Keeps what pages that were shown would be answered now. */
  async keep(): Promise<void> {
    this.#keeping = this.#keeping.then(() => this.#keep()).catch(() => {}); // it only costs the next start time
    await this.#keeping;
  }

  async #keep(): Promise<void> {
    const project = this.#project;
    if (project.options.cacheFolder === undefined || project.isOpening || this.#keptRevision === project.revision) return;
    await project.settled();
    const last = await project.lastStart;
    const asked = this.#pieces.asked();
    const isSame = last && !last.isCostly && project.revision === project.options.revision;
    if (isSame && asked.every(({ name }) => last.piece(name))) return;
    const remade = await Promise.all(asked.map(({ name }) => this.#make(name)));
    const pieces = remade
      .filter((stored) => stored !== undefined)
      .map(({ name, tag, piece }) => ({ name, tag, parts: piece.inner() }));
    const shown = [...project.pages.values()].filter(({ id }) => pieces.some(({ name }) => name === pieceName.ofPage(id, 'app')));
    const pages = shown.flatMap((page) => {
      const sheets = sheetsOf(project, page);
      return sheets ? [[page.id, sheets] as const] : [];
    });
    if (pages.length === 0 || pages.length < shown.length) return;
    this.#keptRevision = project.revision;
    await project.keepStart({ pages: Object.fromEntries(pages), pieces, sheets: this.#sheets() });
  }

  /** All sheets of the graph by id and version. */
  #sheets(): Record<string, string> {
    const { graph, sheets } = this.#project;
    const texts: Record<string, string> = {};
    for (const id of graph.ids())
      if (graph.content(id)?.kind === 'style') texts[`${id}?${sheets.versionOf(id)}`] = sheets.textOf(id);
    return texts;
  }
}
