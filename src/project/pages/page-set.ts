import { dirname, resolve } from 'node:path';
import type { Files } from '../../core/files.js';
import type { Paths } from '../../core/paths.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { explainRefusal } from '../../core/resolve/explain-failure.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { lineStarts } from '../../core/text/line-index.js';
import { realPathNow } from '../files/disk-files.js';
import type { FileGate } from '../files/file-gate.js';
import { openPage, type Page } from './page.js';

export interface PageSetOptions {
  paths: Paths;
  files: Files;
  gate: FileGate;
  resolver: Resolver;
  installCommand: string;
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
    const { files, paths } = this.#options;
    const file = paths.fileOf(id);
    const unreadable = this.#unreadable(id, file);
    const text = unreadable ? '' : (files.readText(file) ?? '');
    const page = this.#open(id, text);
    if (unreadable) page.problems.push(unreadable);
    this.byId.set(id, page);
    return page;
  }

  #open(id: string, text: string): Page {
    const options = { ...this.#options, hasImports: (script: string) => this.#hasImports(script) };
    try {
      return openPage(id, text, options);
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
    return [...pages].flatMap(({ runs, styles }) => [
      ...runs.map(({ entry }) => entry),
      ...styles.filter((id) => id !== undefined),
    ]);
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
        ...problemAt({ file: page.id, text: page.text, start, end: start + width }, problem),
        severity: problem.severity,
      };
    });
    return { ...loaded, problems };
  }

  #hasImports(id: string): boolean {
    const { files, paths } = this.#options;
    return /^\s*(?:import\s*["'{*\w]|export\s*[{*\w])/m.test(files.readText(paths.fileOf(id)) ?? '');
  }
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
