import { dirname } from 'node:path/posix';
import { type PageParts, readPage } from '../core/page/read-page.js';
import { type Problem, problemAt } from '../core/problem.js';
import { explainFailure } from '../core/resolve/explain-failure.js';
import type { Resolver } from '../core/resolve/resolver.js';
import { contentHash } from './content-hash.js';
import type { Paths } from './paths.js';

/** An HTML page of the project with what it asks for resolved to ids. */
export interface Page {
  /** Path of the HTML file relative to the project. */
  id: string;
  text: string;
  parts: PageParts;
  /** Modules to run, in document order: files, or `<page>:<n>` for what stands in the page itself. */
  entries: string[];
  /** Text of the scripts that stand in the page, by their entry id. */
  inline: Map<string, string>;
  /** Style sheets that the page links, by place in `parts.styles`; `undefined` for what isn't there. */
  styles: (string | undefined)[];
  version: string;
  problems: Problem[];
}

/** Reads a page and finds the files it names. What is missing becomes a problem of the page. */
export function openPage(id: string, text: string, { paths, resolver }: { paths: Paths; resolver: Resolver }): Page {
  const parts = readPage(text);
  const page: Page = { id, text, parts, entries: [], inline: new Map(), styles: [], version: contentHash(text), problems: [] };
  const find = (specifier: string, span: { start: number; end: number }, use: 'import' | 'style') => {
    const path = /^\.{0,2}\//.test(specifier) ? specifier : `./${specifier}`;
    const resolution = resolver.resolve(path, paths.fileOf(id), use);
    if ('found' in resolution) return paths.idOf(resolution.found);
    const reason = 'failure' in resolution ? explainFailure(resolution.failure, specifier, paths.root) : undefined;
    const message = `The page names '${specifier}', but there is no such file.`;
    const inText = text.indexOf(specifier, span.start);
    const start = inText === -1 || inText > span.end ? span.start : inText;
    page.problems.push(
      problemAt(
        { file: id, text, start, end: start + specifier.length },
        { code: 'file-missing', message, ...(reason?.hint === undefined ? {} : { hint: reason.hint }) },
      ),
    );
    return undefined;
  };
  for (const { specifier, text: content, element } of parts.scripts) {
    if (specifier === undefined) {
      const entry = `${dirname(id) === '.' ? '' : `${dirname(id)}/`}${id.split('/').at(-1)}.${page.inline.size + 1}.js`;
      page.inline.set(entry, content ?? '');
      page.entries.push(entry);
      continue;
    }
    const found = find(specifier, element, 'import');
    if (found) page.entries.push(found);
  }
  page.styles = parts.styles.map(({ specifier, element }) => find(specifier, element, 'style'));
  return page;
}
