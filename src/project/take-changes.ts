import type Picomatch from 'picomatch';
import { lazily } from '../core/lazily.js';
import { lanes } from '../core/trace.js';
import type { ChangeReader } from './live/invalidate.js';
import type { ProjectWatch } from './live/project-watch.js';
import type { Turns } from './live/turns.js';
import type { Unsent } from './live/unsent.js';
import type { FileChanges } from './live/watcher.js';
import type { News } from './news.js';
import type { ProjectOptions } from './options.js';
import type { ProjectGraph } from './project-graph.js';
import type { StyleSheets } from './styles/style-sheets.js';
import type { UsedFiles } from './used-files.js';

const picomatch = lazily<typeof Picomatch>('picomatch');

/** So long after a change problems are believed to stay. */
const problemPatienceMs = 40;

/** What others make of changes. */
export interface ChangeListener {
  /** A file of the settings changed, appeared or went. */
  onSettings(since: number): void;
  /** A page may have come or gone in the folder that holds them. */
  onPages(since: number): void;
  /** Files changed that are no modules but that the options name; their ids. */
  onNoticed(since: number, files: string[]): void;
  onNote(text: string): void;
}

export interface TakeChangesOptions extends ChangeListener {
  options: ProjectOptions;
  read: ProjectGraph;
  changes: ChangeReader;
  watch: ProjectWatch;
  used: UsedFiles;
  sheets: StyleSheets;
  unsent: Unsent;
  turns: Turns;
  news: News;
}

/** Brings what was read up to date with files that changed, and sends what comes of it. */
export class TakeChanges {
  readonly #options: TakeChangesOptions;

  constructor(options: TakeChangesOptions) {
    this.#options = options;
  }

  async take(changes: FileChanges): Promise<void> {
    const { options, read, used, sheets, unsent, turns, news, onSettings } = this.#options;
    const { builder, modules, pages: all, paths } = read;
    const touched = [...changes.written, ...changes.disappeared];
    if (touched.some((path) => used.settings.has(path))) onSettings(changes.since);
    this.#tellOthers(changes);
    const hadProblems = read.problems.length > 0;
    const { trace } = options;
    trace.overlapping('update', 'waiting for more changes', changes.since, { files: touched.slice(0, 20) }, lanes.main);
    const fromReading = trace.now();
    const { pages, modules: work, reload } = this.#options.changes.read(changes);
    if (reload !== undefined) for (const id of all.byId.keys()) unsent.reload.set(id, reload);
    trace.span('update', 'whom the changes concern', fromReading);
    for (const id of pages) await this.pageChanged(id);
    const from = trace.now();
    await builder.reloadAll([...work].filter((id) => modules.has(id) || builder.failed.has(id)));
    trace.overlapping('update', 'modules', from, { modules: work.size }, lanes.main);
    await builder.settle();
    builder.forgetUnreachableFailures();
    if (hadProblems && builder.failed.size === 0) builder.drop(modules.dropUnreachable());
    // Sheets that went and came back among them, e.g. below a module that was broken for a while.
    for (const id of new Set([...work, ...unsent.changed])) for (const sheet of sheets.changed(id)) unsent.styles.add(sheet);
    for (const path of touched) if (used.isUsed(path) || work.has(paths.idOf(path))) unsent.saved.add(paths.idOf(path));
    this.#noteFiles(changes);
    if (changes.isInPackages) this.#options.watch.packagesChanged();
    // Half of what an editor saves at once looks broken until the other half is there.
    if (!hadProblems && read.problems.length > 0) await turns.pauseUntil(changes.since + problemPatienceMs);
    news.send(changes.since);
    if (!turns.hasChanges) read.loader.forgetPrepared();
  }

  /** Reads a page again; its browsers reload if it's another one then. */
  async pageChanged(id: string): Promise<void> {
    const { read, unsent, onNote } = this.#options;
    const { builder, modules, pages } = read;
    const old = pages.byId.get(id)!;
    const page = pages.read(id);
    if (page.version === old.version && page.problems.length === old.problems.length) return;
    for (const note of page.notes) if (!old.notes.includes(note)) onNote(note);
    for (const [entry, text] of page.inline)
      if (old.inline.get(entry) !== text && modules.has(entry)) await builder.reload(entry);
    builder.drop(modules.setRoots(pages.modules()));
    await Promise.all(pages.modules([page]).map((module) => builder.visit(module)));
    unsent.reload.set(id, `${id} changed`);
  }

  /** Changes that concern no module: pages that came or went, and what a backend is made of. */
  #tellOthers({ since, written, appeared, disappeared }: FileChanges): void {
    const { options, read, onPages, onNoticed } = this.#options;
    const { pageFolder, noticed } = options;
    const isPage = (path: string) => path.endsWith('.html') && path.startsWith(`${pageFolder}/`);
    if (pageFolder !== undefined && [...appeared, ...disappeared].some(isPage)) onPages(since);
    if (noticed.length === 0) return;
    const ids = [...written, ...disappeared].map((path) => read.paths.idOf(path));
    const isWanted = picomatch()([...noticed], { dot: true });
    const changed = ids.filter((id) => isWanted(id));
    if (changed.length > 0) onNoticed(since, changed);
  }

  /** Files that browsers got as they are and that changed. */
  #noteFiles({ written, disappeared }: FileChanges): void {
    const { read, used, unsent } = this.#options;
    for (const path of [...written, ...disappeared]) {
      const url = used.served.get(path);
      if (url !== undefined) unsent.files.set(url, path);
    }
    for (const page of read.pages.all()) {
      const script = page.classic.find((id) => id !== undefined && written.has(read.paths.fileOf(id)));
      if (script) unsent.reload.set(page.id, `${script} changed, which is no module`);
    }
  }
}
