import { dirname, resolve } from 'node:path';
import type { Files } from '../core/files.js';
import type { Resolver } from '../core/resolve/resolver.js';
import { openPage, type Page } from './page.js';
import type { Paths } from './paths.js';

export interface PageSetOptions {
  paths: Paths;
  files: Files;
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
    const text = files.readText(paths.fileOf(id)) ?? '';
    const page = openPage(id, text, { ...this.#options, hasImports: (script) => this.#hasImports(script) });
    this.byId.set(id, page);
    return page;
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
