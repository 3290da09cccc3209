import type { ModuleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import type { FileChange, SheetChange } from '../../core/live/messages.js';
import { fileOfId, shownIds } from '../../core/module-id.js';
import type { PieceModule } from '../../core/pieces/piece.js';
import { contentHash } from '../../core/text/content-hash.js';
import { readIfThere } from '../files/module-files.js';
import type { PieceModules } from '../pages/piece-modules.js';
import type { StyleSheets } from '../styles/style-sheets.js';
import type { Unsent } from './unsent.js';

/** What a group of saved files came to. */
export interface ProjectUpdate {
  id: number;
  /** `performance.now()` of the first file change. */
  since: number;
  changed: string[];
  removed: string[];
  styles: SheetChange[];
  /** Files that browsers got as they are. */
  files: FileChange[];
  /** Modules to send: the changed and the added ones. */
  modules: PieceModule[];
  reload: { page: string; reason: string }[];
  /** How many scripts were translated for it. */
  translations: number;
  /** Ids of the files whose change led to it, as far as they are in use. */
  saved: string[];
  /** Those of the files and of the removed modules that aren't there any more. */
  gone: string[];
  /** How many pages were open when it was made; the server knows. */
  openPages: number;
}

export interface UpdateMakerOptions {
  graph: ModuleGraph<ModuleContent>;
  sheets: StyleSheets;
  pieces: PieceModules;
  unsent: Unsent;
  /** How many scripts were translated so far. */
  translations(): number;
  /** Whether there is a file of that id. */
  isThere(id: string): boolean;
}

/** Makes updates of what was collected. */
export class UpdateMaker {
  readonly #options: UpdateMakerOptions;
  /** How many scripts had been translated when the last update was made. */
  #sentTranslations = 0;

  constructor(options: UpdateMakerOptions) {
    this.#options = options;
  }

  /** Lets go of what was collected, since pages get it another way. */
  discard(): void {
    this.#options.unsent.take();
    this.#sentTranslations = this.#options.translations();
  }

  /** Takes everything that was collected; `undefined` where it comes to nothing that a page would notice. */
  take(id: number, since: number): ProjectUpdate | undefined {
    const { graph, sheets, pieces, unsent } = this.#options;
    if (unsent.isEmpty) return undefined;
    const { changed, removed, styles, reload, files, saved } = unsent.take();
    const modules = changed.filter((module) => this.#isForScripts(module)).flatMap((module) => pieces.get(module) ?? []);
    if (modules.length + removed.length + styles.length + reload.length + files.length === 0) return undefined;
    const translations = this.#options.translations() - this.#sentTranslations;
    this.#sentTranslations += translations;
    return {
      id,
      since,
      changed: shownIds(modules.map((module) => module.id).filter((module) => graph.content(module)?.kind !== 'style')),
      removed,
      styles: styles.filter((sheet) => graph.has(sheet)).map((id) => ({ id, url: sheets.urlOf(id), css: sheets.fullText(id) })),
      files: files.map(([path, file]) => ({ path, url: `${path}?v=${contentHash(readIfThere(file) ?? Buffer.alloc(0))}` })),
      modules,
      reload: reload.map(([page, reason]) => ({ page, reason })),
      translations,
      saved,
      gone: [...new Set([...saved, ...shownIds(removed)])].filter((file) => !this.#options.isThere(fileOfId(file))),
      openPages: 0,
    };
  }

  /** Sheets and files that only pages and other sheets use are no modules for the browser. */
  #isForScripts(id: string): boolean {
    const { graph } = this.#options;
    const kind = graph.content(id)?.kind;
    return kind === 'script' || graph.importers(id).some((importer) => graph.content(importer)?.kind === 'script');
  }
}
