import { dirname, resolve } from 'node:path';
import { readPage, type Span } from '../../core/documents/read-page.js';
import type { Files } from '../../core/files.js';
import type { Paths } from '../../core/paths.js';
import type { Problem } from '../../core/problem/problem.js';
import { explainRefusal } from '../../core/resolve/explain-failure.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { lineStarts } from '../../core/text/line-index.js';
import { entriesOf } from '../../core/urls.js';
import { realPathNow } from '../files/disk-files.js';
import type { FileGate } from '../files/file-gate.js';
import { embeddedPage, namedSheets, openPage, type Page, problemInPage } from './page.js';

export interface PageSetOptions {
  paths: Paths;
  files: Files;
  gate: FileGate;
  resolver: Resolver;
  /** The HTML of pages that have no file, by id. */
  generated(): Readonly<Record<string, string>>;
  /** HTML for the end of every page's head and body. */
  insert: { head: string; body: string };
  /** Name of the settings file. */
  settings: string | undefined;
}

/** The project's pages as they were last read. */
export class PageSet {
  readonly byId = new Map<string, Page>();
  readonly #options: PageSetOptions;

  constructor(options: PageSetOptions) {
    this.#options = options;
  }

  all(): Page[] {
    return [...this.byId.values()];
  }

  /** Reads a page anew. */
  read(id: string): Page {
    const entries = entriesOf(id);
    if (entries) return this.embed(entries);
    const { files, paths, generated } = this.#options;
    const file = paths.fileOf(id);
    const made = Object.hasOwn(generated(), id) ? generated()[id] : undefined;
    const unreadable = made === undefined ? this.#unreadable(id, file) : undefined;
    const text = unreadable ? '' : (made ?? files.readText(file) ?? '');
    const page = this.#open(id, text, made !== undefined);
    if (unreadable) page.problems.push(unreadable);
    this.byId.set(id, page);
    return page;
  }

  /** Knows a page of a backend by the modules that it starts. */
  embed(entries: readonly string[]): Page {
    const page = embeddedPage(entries);
    const { files, paths, gate } = this.#options;
    for (const id of entries) {
      const file = paths.fileOf(id);
      if (files.kindOf(file) === 'file' && gate.mayRead(file)) continue;
      const message = `A page of the backend starts '${id}', but there is no such file.`;
      const hint = 'Paths in data-entry, and in the settings embed and forward, are those of files from the project folder.';
      page.problems.push({ code: 'file-missing', severity: 'error', message, hint, file: page.id });
    }
    page.runs = page.problems.length > 0 ? [] : page.runs;
    this.byId.set(page.id, page);
    return page;
  }

  #open(id: string, written: string, isGenerated: boolean): Page {
    const hasImports = (script: string) => this.#hasImports(script);
    const settings = isGenerated ? this.#options.settings : undefined;
    const options = { ...this.#options, settings, hasImports, inserted: [] };
    try {
      const { text, inserted } = withInserts(written, this.#options.insert);
      return openPage(id, text, { ...options, inserted });
    } catch (error) {
      // Elements stand in each other by the thousand.
      if (!(error instanceof RangeError)) throw error;
      const page = openPage(id, '', options);
      const message = `The page ${id} is too deeply nested to be read.`;
      page.problems.push({
        code: 'file-too-large',
        severity: 'error',
        file: id,
        message,
        hint: 'Let scripts make a part of it.',
      });
      return page;
    }
  }

  /** What keeps a page's file from being read. */
  #unreadable(id: string, file: string): Problem | undefined {
    const { gate, files } = this.#options;
    const told = { severity: 'error', file: id } as const;
    const real = realPathNow(file);
    if (real === undefined)
      return {
        ...told,
        code: 'page-missing',
        message: `The page ${id} is not there any more.`,
        hint: 'Bring it back, or name another.',
      };
    const why = gate.refusal(file, real);
    if (why !== undefined) return { ...told, ...explainRefusal({ why, file: real }, id) };
    if (files.readText(file) !== undefined) return undefined;
    return { ...told, code: 'file-unreadable', message: `The page ${id} cannot be read.`, hint: 'Look at its permissions.' };
  }

  /** The modules and sheets that pages name themselves. */
  modules(pages: Iterable<Page> = this.byId.values()): string[] {
    return [...pages].flatMap((page) => [...page.runs.map(({ entry }) => entry), ...namedSheets(page)]);
  }

  /** The text of a script that stands in a page. */
  inlineText(id: string): string | undefined {
    return this.all()
      .find(({ inline }) => inline.has(id))
      ?.inline.get(id);
  }

  /** What is wrong with a script that stands in a page, at its place in the HTML: it has no file of its own. */
  placedInPage<T extends object>(entry: string, loaded: T | { problems: Problem[] }): T | { problems: Problem[] } {
    const page = this.all().find(({ inline }) => inline.has(entry));
    if (!('problems' in loaded) || !page) return loaded;
    const text = page.inline.get(entry)!;
    const at = page.inlineStarts.get(entry) ?? 0;
    const problems = loaded.problems.map((problem) => {
      if (problem.file !== entry || !problem.position) return problem;
      const start = at + (lineStarts(text)[problem.position.line - 1] ?? 0) + problem.position.column;
      const mark = problem.frame?.find(({ mark: found }) => found)?.mark;
      const width = mark ? mark.to - mark.from : 1;
      return {
        ...problem,
        ...problemInPage(page, { start, end: start + width }, problem),
        severity: problem.severity,
      };
    });
    return { ...loaded, problems };
  }

  #hasImports(id: string): boolean {
    const { files, paths } = this.#options;
    return /^[^\S\n]*(?:import\s*["'{*\w]|export\s*[{*\w])/m.test(files.readText(paths.fileOf(id)) ?? '');
  }
}

/** A page's text with what the settings put in, and where that stands. */
function withInserts(text: string, { head, body }: { head: string; body: string }): { text: string; inserted: Span[] } {
  if (head === '' && body === '') return { text, inserted: [] };
  const { headEnd, bodyEnd } = readPage(text);
  const places = [
    { at: headEnd, html: head },
    { at: Math.max(headEnd, bodyEnd), html: body },
  ];
  let whole = '';
  let from = 0;
  const inserted: Span[] = [];
  for (const { at, html } of places) {
    whole += text.slice(from, at);
    inserted.push({ start: whole.length, end: whole.length + html.length });
    whole += html;
    from = at;
  }
  return { text: whole + text.slice(from), inserted };
}

/** Whether some page's import map leads a package to another origin. */
export function isMappedElsewhere(name: string, pages: Iterable<Page>): boolean {
  return [...pages].some(({ parts }) =>
    Object.entries(parts.importMap).some(
      ([key, target]) => (key === name || key.startsWith(`${name}/`)) && /^(?:[a-z]+:)?\/\//i.test(target),
    ),
  );
}

/** Where the pages' import maps put a specifier: absolute paths, the longest matching name of each map first. */
export function fromImportMaps(specifier: string, pages: Iterable<Page>, paths: Paths): string[] {
  const found: string[] = [];
  for (const { id, parts } of pages) {
    const names = Object.keys(parts.importMap).filter(
      (name) => name === specifier || (name.endsWith('/') && specifier.startsWith(name)),
    );
    for (const name of names.sort((a, b) => b.length - a.length)) {
      const target = parts.importMap[name]! + specifier.slice(name.length);
      if (target.startsWith('/')) found.push(paths.fileOf(target.slice(1)));
      else if (target.startsWith('.')) found.push(resolve(dirname(paths.fileOf(id)), target));
    }
  }
  return found;
}
