import { dirname } from 'node:path/posix';
import { type Attribute, type PageParts, readPage, type Span } from '../../core/documents/read-page.js';
import { kindOfFile } from '../../core/file-kinds.js';
import type { Paths } from '../../core/paths.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { explainFailure } from '../../core/resolve/explain-failure.js';
import type { Resolver } from '../../core/resolve/resolver.js';
import { contentHash } from '../../core/text/content-hash.js';
import { embeddedPageId } from '../../core/urls.js';

/** An HTML page of the project with what it asks for resolved to ids. */
export interface Page {
  /** Path of the HTML file relative to the project. */
  id: string;
  text: string;
  /** What the settings put in, with where it stands in `text`; no part of the user's file. */
  inserted: readonly Span[];
  /** The settings file, where the page is made of what it says. */
  settings?: string;
  parts: PageParts;
  /** Modules to run, in document order: files, or a name of our own for what stands in the page itself. */
  runs: { element: Span; attributes: readonly Attribute[]; entry: string; isInShadow?: boolean }[];
  /** Text of the scripts that stand in the page, by their entry id. */
  inline: Map<string, string>;
  /** Where those texts begin in the page. */
  inlineStarts: Map<string, number>;
  /** Ids of scripts that are no modules, by place in `parts.classic`. */
  classic: (string | undefined)[];
  /** What the user should know. */
  notes: string[];
  /** Style sheets that the page links, by place in `parts.styles`; `undefined` for what isn't there. */
  styles: (string | undefined)[];
  /** The same for what its style elements import, by place among all that `parts.css` imports. */
  imports: (string | undefined)[];
  version: string;
  problems: Problem[];
}

export interface PageOptions {
  paths: Paths;
  resolver: Resolver;
  /** What the settings put in, by its place in the text. */
  inserted?: readonly Span[];
  /** Name of the settings file, where the page has none of its own. */
  settings?: string | undefined;
  /** Whether a script has static imports or exports. */
  hasImports(id: string): boolean;
}

/** Reads a page and finds the files it names. What is missing becomes a problem of the page. */
export function openPage(id: string, text: string, options: PageOptions): Page {
  const { paths, resolver, hasImports, inserted = [], settings } = options;
  const parts = readPage(text);
  const page: Page = {
    id,
    text,
    inserted,
    ...(settings === undefined ? {} : { settings }),
    parts,
    runs: [],
    inline: new Map(),
    inlineStarts: new Map(),
    classic: [],
    notes: [],
    styles: [],
    imports: [],
    version: contentHash(text),
    problems: [],
  };
  const find = (specifier: string, span: { start: number; end: number }, use: 'import' | 'style') => {
    const based = parts.baseHref === undefined ? specifier : new URL(specifier, new URL(parts.baseHref, 'http://page/')).pathname;
    const path = /^\.{0,2}\//.test(based) ? based : `./${based}`;
    const resolution = resolver.resolve(path, paths.fileOf(id), use);
    if ('found' in resolution) return paths.idOf(resolution.found);
    const reason = 'failure' in resolution ? explainFailure(resolution.failure, specifier, paths.root) : undefined;
    const isRefused = 'failure' in resolution && resolution.failure.reason === 'refused';
    const message = `The page names '${specifier}', but there is no such file.`;
    const inText = text.indexOf(specifier, span.start);
    const start = inText === -1 || inText > span.end ? span.start : inText;
    page.problems.push(
      problemInPage(
        page,
        { start, end: start + specifier.length },
        isRefused && reason
          ? reason
          : { code: 'file-missing', message, ...(reason?.hint === undefined ? {} : { hint: reason.hint }) },
      ),
    );
    return undefined;
  };
  for (const { specifier, text: content, textStart, element, attributes, isInShadow = false } of parts.scripts) {
    if (specifier === undefined) {
      const entry = `${dirname(id) === '.' ? '' : `${dirname(id)}/`}${id.split('/').at(-1)}.${page.inline.size + 1}.js`;
      page.inline.set(entry, content ?? '');
      page.inlineStarts.set(entry, textStart ?? element.start);
      page.runs.push({ element, attributes, entry, isInShadow });
      continue;
    }
    const found = find(specifier, element, 'import');
    if (found) page.runs.push({ element, attributes, entry: found, isInShadow });
  }
  for (const { specifier, element, attributes, isInert, isInShadow = false } of parts.classic) {
    // What isn't in the project may be in a verbatim folder or come from a backend.
    const resolution = resolver.resolve(/^\.{0,2}\//.test(specifier) ? specifier : `./${specifier}`, paths.fileOf(id), 'page');
    const found = 'found' in resolution ? paths.idOf(resolution.found) : undefined;
    const isSource = found !== undefined && /\.(?:[cm]?tsx?|jsx)$/.test(found);
    const why = isInert
      ? undefined
      : isSource
        ? 'is no plain JavaScript'
        : found !== undefined && hasImports(found)
          ? 'holds imports'
          : undefined;
    page.classic.push(why === undefined ? found : undefined);
    if (found === undefined || why === undefined) continue;
    page.runs.push({ element, attributes, entry: found, isInShadow });
    page.notes.push(`${found} ${why}, so ${id} runs it as a module; write <script type="module"> to say so`);
  }
  for (const script of parts.classicTexts)
    for (const [, specifier] of script.matchAll(/\bimport\s*\(\s*['"`](\.{0,2}\/[^'"`$]+)['"`]\s*\)/g)) {
      const resolution = resolver.resolve(specifier!, paths.fileOf(id), 'import');
      if ('found' in resolution && kindOfFile(resolution.found) === 'script')
        page.notes.push(
          `a script of ${id} that is no module imports '${specifier}', and finds no modules; write <script type="module">`,
        );
    }
  for (const specifier of parts.inert)
    page.notes.push(
      `a script in a template of ${id} names '${specifier}', and modules are not found from there; import() it where the template is used`,
    );
  page.runs.sort((a, b) => a.element.start - b.element.start);
  page.styles = parts.styles.map(({ specifier, element }) => find(specifier, element, 'style'));
  page.imports = parts.css.flatMap(({ place, references }) =>
    references.filter(({ kind }) => kind === 'sheet').map(({ specifier }) => find(specifier, place, 'style')),
  );
  return page;
}

/** The ids of the sheets that a page names itself. */
export function namedSheets({ styles, imports }: Page): string[] {
  return [...styles, ...imports].filter((id) => id !== undefined);
}

/** Those of them that stand for what modules import: not in a template or a shadow root, and under no conditions. */
export function documentSheets({ parts, styles, imports }: Page): string[] {
  const areApart = parts.css.flatMap(({ references, isApart }) =>
    references.filter(({ kind }) => kind === 'sheet').map(({ isConditional }) => isApart || isConditional === true),
  );
  const own = [...styles.filter((_, at) => !parts.styles[at]!.isApart), ...imports.filter((_, at) => !areApart[at])];
  return own.filter((id) => id !== undefined);
}

/** A page of a backend, of which only the modules that it starts are known here: `entries` are their ids. */
export function embeddedPage(entries: readonly string[]): Page {
  const id = embeddedPageId(entries);
  const parts = readPage('');
  const runs = entries.map((entry) => ({ element: { start: 0, end: 0 }, attributes: [], entry }));
  // Whatever policy the page has: links are allowed where scripts of ours are.
  parts.allowsStyleElements = false;
  const lists = { classic: [], notes: [], styles: [], imports: [], problems: [], inserted: [] };
  return { id, text: '', parts, runs, inline: new Map(), inlineStarts: new Map(), ...lists, version: contentHash(id) };
}

/** A problem at a place in a page: in the user's own text, or in what the settings say. */
export function problemInPage(page: Page, { start, end }: Span, told: Pick<Problem, 'code' | 'message' | 'hint'>): Problem {
  const { id, text, inserted, settings } = page;
  if (inserted.some((span) => start >= span.start && start < span.end))
    return {
      ...told,
      severity: 'error',
      file: settings ?? id,
      message: `${told.message} It stands in what the setting 'insert' puts into every page.`,
    };
  if (settings !== undefined) return { ...told, severity: 'error', file: settings };
  // Back to the file: without what was put in before.
  const before = inserted.filter((span) => span.end <= start).reduce((sum, span) => sum + span.end - span.start, 0);
  const own = inserted.reduceRight((rest, span) => rest.slice(0, span.start) + rest.slice(span.end), text);
  return problemAt({ file: id, text: own, start: start - before, end: end - before }, told);
}
