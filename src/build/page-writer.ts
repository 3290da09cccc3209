import { join } from 'node:path';
import { keptAttributes } from '../core/documents/read-page.js';
import type { Problem } from '../core/problem/problem.js';
import { asciiHtml, escapeHtml } from '../core/tool-page.js';
import { decoded, entriesOf } from '../core/urls.js';
import { kindOnDisk } from '../project/files/disk-files.js';
import { namedInVain } from '../project/pages/named-in-vain.js';
import { namedSheets, type Page } from '../project/pages/page.js';
import { fileUrl, isFilledIn, rewritePage } from '../project/pages/rewrite-page.js';
import type { ProjectGraph } from '../project/project-graph.js';
import type { Assets } from './assets.js';
import { nameOf } from './assets.js';
import type { BuiltFiles } from './built-files.js';
import type { ManifestPage } from './manifest.js';
import type { OtherFiles } from './other-files.js';
import type { BuiltSheets } from './sheets.js';

export interface PageWriterInput {
  project: ProjectGraph;
  files: BuiltFiles;
  sheets: BuiltSheets;
  assets: Assets;
  others: OtherFiles;
  integrity: boolean;
  /** Whether somebody else answers a path, such as a backend, by a rule. */
  isElsewhere(path: string): boolean;
  onWarning(warning: Problem): void;
}

/** What a page loads, as paths. */
export interface PageFiles {
  /** In the order in which they are to run, the runtime first. */
  scripts: string[];
  /** For each script of the page the id of the module that it runs. */
  entries: readonly string[];
  /** Module behind an `import()` -> files that bring it. */
  late: Record<string, string[]>;
  workers: Record<string, string>;
  /** Sheets that scripts import. */
  imported: readonly string[];
  isLeft(id: string): boolean;
}

/** Writes pages with everything that they say as it was, but for what they name. */
export class PageWriter {
  readonly #input: PageWriterInput;

  constructor(input: PageWriterInput) {
    this.#input = input;
  }

  async write(page: Page, { scripts, entries, late, workers, imported, isLeft }: PageFiles): Promise<ManifestPage> {
    const { files, sheets, project } = this.#input;
    const { base } = project.options;
    const url = (path: string) => `${base}${path}`;
    const styles = await sheets.joined(nameOf(page.id), imported);
    const linked = new Map<string, string>();
    for (const id of namedSheets(page)) if (isLeft(id)) linked.set(id, await sheets.file(id));
    const starts = entries.map((entry) =>
      files.put('start', '.js', { text: `self["~spark"].start(${JSON.stringify(entry)});\n` }),
    );
    const later = [...new Set([...Object.values(late).flat(), ...Object.values(workers)])];
    const settings = {
      base,
      late,
      // What a backend's page allows is not known here.
      ...(page.parts.allowsStyleElements || entriesOf(page.id) ? {} : { links: true }),
      ...(Object.keys(workers).length > 0 ? { workers } : {}),
      ...(this.#input.integrity ? { integrity: Object.fromEntries(later.map((path) => [path, files.integrityOf(path)])) } : {}),
    };
    const tag = (path: string, attributes: string) =>
      `<script defer charset="utf-8" src="${escapeHtml(url(path))}"${this.#integrity(path)}${attributes}></script>`;
    const script = (index: number) => {
      const { all, own } = keptAttributes(page.runs[index]!.attributes);
      const before = index > 0 ? '' : common(all);
      return `${isInHead ? '' : before}${tag(starts[index]!, own)}`;
    };
    const common = (attributes: string) => {
      const first = ` data-spark-built="${asciiHtml(JSON.stringify(settings))}"`;
      return scripts.map((path, at) => tag(path, at === 0 ? `${first}${attributes}` : attributes)).join('');
    };
    // There the runtime would not find what its element says.
    const isInHead = page.runs[0]?.isInShadow === true;
    const head = isInHead ? [common(keptAttributes(page.runs[0]!.attributes).all)] : [];
    const nonce = page.runs[0]?.attributes.find(({ name }) => name === 'nonce')?.value;
    const links = styles.map(({ path, ids }) => {
      const known = asciiHtml(JSON.stringify(Object.fromEntries(ids.map((id) => [id, '']))));
      return `<link rel="stylesheet" href="${escapeHtml(url(path))}" data-spark-sheets="${known}"${this.#integrity(path)}${nonce === undefined ? '' : ` nonce="${escapeHtml(nonce)}"`}>`;
    });
    // As they stand in the page, with their conditions.
    const own = page.parts.styles.flatMap(({ element, attribute }, index) => {
      const path = linked.get(page.styles[index] ?? '');
      if (path === undefined) return [];
      const href = `href="${escapeHtml(url(path))}"${this.#integrity(path)}`;
      return [page.text.slice(element.start, attribute.start) + href + page.text.slice(attribute.end, element.end)];
    });
    const tags = {
      styles: [...own, ...links].join(''),
      scripts: [...head, ...page.runs.map((_, index) => script(index))].join(''),
    };
    if (entriesOf(page.id) === undefined)
      files.all.set(page.id, this.#html(page, { links: [...links, ...head], linked, script }));
    return {
      scripts: [...scripts, ...starts].map(url),
      styles: [...new Set([...linked.values(), ...styles.map(({ path }) => path)])].map(url),
      later: later.map(url),
      tags,
    };
  }

  /** The page itself. */
  #html(
    page: Page,
    { links, linked, script }: { links: readonly string[]; linked: ReadonlyMap<string, string>; script(index: number): string },
  ): string {
    const { base } = this.#input.project.options;
    return rewritePage(page, {
      headStart: '',
      headEnd: links.join(''),
      fileUrl: (specifier, id) => this.#fileUrl(specifier, page, id),
      sheet: (id) => {
        const path = linked.get(id);
        return path === undefined ? undefined : `href="${escapeHtml(`${base}${path}`)}"${this.#integrity(path)}`;
      },
      sheetUrl: (id) => {
        const path = linked.get(id);
        return path === undefined ? undefined : `${base}${path}`;
      },
      linkUrl: (specifier) => this.#linkUrl(specifier, page),
      script,
    });
  }

  #integrity(path: string): string {
    return this.#input.integrity ? ` integrity="${this.#input.files.integrityOf(path)}"` : '';
  }

  /** Where a link leads: a file of the project that is no page is written as it's called, since people keep such URLs. */
  #linkUrl(specifier: string, page: Page): string {
    const { project, files, others } = this.#input;
    const { base, root } = project.options;
    const url = fileUrl(specifier, page, base);
    const [path = ''] = url.split(/[?#]/);
    if (!path.startsWith(base) || page.parts.baseHref !== undefined) return specifier;
    const inside = decoded(path.slice(base.length));
    if (inside === undefined || inside === '' || inside.endsWith('/') || /\.html?$/i.test(inside)) return specifier;
    if (this.#isVerbatim(inside)) return specifier;
    others.noteKind(join(root, inside));
    const file = project.gate.ofProject(join(root, inside));
    if (file === undefined) return specifier;
    files.all.set(inside, others.read(file));
    return url;
  }

  /** The URL of a file that the page names: a file of the project gets a name with its hash, everything else stays where it was. */
  #fileUrl(specifier: string, page: Page, script?: string): string {
    const { project, assets, others, isElsewhere, onWarning } = this.#input;
    const { base, root } = project.options;
    const url = fileUrl(specifier, page, base);
    const [, path = '', behind = ''] = /^([^?#]*)(.*)$/s.exec(url)!;
    if (script !== undefined) return `${base}${assets.ofPage(script)}${behind}`;
    if (!path.startsWith(base) || page.parts.baseHref !== undefined) return url;
    const inside = decoded(path.slice(base.length));
    if (inside !== undefined) {
      if (this.#isVerbatim(inside)) return url;
      others.noteKind(join(root, inside));
      if (project.gate.ofProject(join(root, inside)) !== undefined) return `${base}${assets.ofPage(inside)}${behind}`;
    }
    if (!isElsewhere(path) && !isFilledIn(specifier))
      onWarning(namedInVain(page, specifier, inside !== undefined && kindOnDisk(join(root, inside)) === 'file'));
    return url;
  }

  /** Whether a path is one in a verbatim folder. */
  #isVerbatim(inside: string): boolean {
    const { project, others } = this.#input;
    for (const folder of project.options.verbatim) others.noteKind(join(folder, inside));
    return project.options.verbatim.some((folder) => project.gate.ofVerbatim(folder, `/${inside}`) !== undefined);
  }
}
