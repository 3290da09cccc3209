import { refuseDeepSheet } from '../core/documents/deep-sheet.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import type { Paths } from '../core/paths.js';
import { type Problem, problemAt, VineError } from '../core/problem/problem.js';
import { countLineEnds } from '../core/text/line-index.js';
import { cssUrl } from '../core/urls.js';
import { StyleSheets } from '../project/styles/style-sheets.js';
import { nameOf } from './assets.js';
import type { BuiltFiles } from './built-files.js';
import { type Imported, importedUrls, inlineImports } from './inline-imports.js';
import { loweredSheet, type SheetTargets } from './lowered-sheet.js';
import { joinedMap, type Mapped, type MapSection, openMap } from './mapped.js';
import type { BuildMemory } from './memory.js';
import { smallerSheet } from './smaller-sheet.js';

export interface BuiltSheetsInput {
  graph: ModuleGraph<ModuleContent>;
  paths: Paths;
  files: BuiltFiles;
  minify: boolean;
  hasMaps: boolean;
  targets: SheetTargets | undefined;
  /** Writes a file that a sheet names. Returns its URL. */
  assetUrl(id: string, version: string): string;
  /** The URL of a file of the build. */
  urlOf(path: string): string;
  /** Where a map says that a source is. */
  sourceUrl(id: string): string;
  memory: BuildMemory;
  onWarning(warning: Problem): void;
}

/** What stands in front of the ids of imported sheets until they are put in their places. */
const importMark = 'sheet:';
const idOfMark = (url: string) => (url.startsWith(importMark) ? decodeURIComponent(url.slice(importMark.length)) : undefined);

/** Sheets that import two each that import two each, and so on, would fill any disk: as many characters are looked at, … */
const long = 1e6;
/** … and so often all that is imported may stand in a sheet. */
const mostTimes = 50;

function tooLong(id: string, length: number): Omit<Problem, 'severity'> {
  return {
    code: 'file-too-large',
    file: id,
    message: `${id} comes to more than ${Math.floor(length / 1e6)} MB with what it imports, most of it many times.`,
    hint: 'A sheet stands wherever it is imported. Let one sheet import it for all.',
  };
}

/** Style sheets of a build, each with those that it imports in their places. */
export class BuiltSheets {
  readonly served: StyleSheets;
  readonly #input: BuiltSheetsInput;
  readonly #made = new Map<string, Promise<Mapped>>();
  /** Sheets with those that they import. */
  readonly #whole = new Map<string, Mapped>();
  /** How often a sheet was met that was under way. */
  #circles = 0;
  /** Paths of sheets that only some pages will ever ask for. */
  readonly fallbacks = new Set<string>();

  constructor(input: BuiltSheetsInput) {
    this.#input = input;
    const { graph, paths, assetUrl, sourceUrl } = input;
    this.served = new StyleSheets(
      graph,
      // Only `@import` names a sheet so, and none of those is left.
      { style: (id) => `${importMark}${encodeURIComponent(id)}`, file: assetUrl, source: sourceUrl, map: () => undefined },
      paths,
    );
  }

  /** A sheet as it goes into files. */
  made(id: string): Promise<Mapped> {
    const known = this.#made.get(id) ?? this.#make(id);
    this.#made.set(id, known);
    return known;
  }

  async #make(id: string): Promise<Mapped> {
    return this.#finished(id, await this.#inlined(id));
  }

  async #finished(id: string, sheet: Mapped): Promise<Mapped> {
    const { minify, targets } = this.#input;
    refuseDeepSheet(id, sheet.text);
    return this.#input.memory.sheet(id, sheet, async () => {
      const lowered = targets ? loweredSheet(id, sheet, targets, (left) => this.#tellLeft(id, left)) : sheet;
      return minify ? smallerSheet(lowered) : lowered;
    });
  }

  #tellLeft(id: string, declaration: string): void {
    const content = this.#input.graph.content(id);
    const text = content?.kind === 'style' ? content.source : '';
    const start = text.indexOf(declaration);
    const told = {
      code: 'not-lowered',
      message: `Some of the targets don't know the colours in ${JSON.stringify(declaration)}.`,
      hint: 'A custom property can hold only one value, so it stays. Write the fallback by hand, or leave those browsers out of the targets.',
    } as const;
    // It may stand in a sheet that this one imports.
    const place = start === -1 ? { file: id } : problemAt({ file: id, text, start, end: start + declaration.length }, told);
    this.#input.onWarning({ ...told, ...place, severity: 'warning' });
  }

  /** A sheet with those that it imports in their places. In a circle, one that is under way is left out. */
  async #inlined(id: string, above: readonly string[] = []): Promise<Mapped> {
    const known = this.#whole.get(id);
    if (known) return known;
    const circles = this.#circles;
    const inlined = await this.#inlineNow(id, above);
    // What stands on a circle is another sheet from wherever it's entered.
    if (circles === this.#circles) this.#whole.set(id, inlined);
    return inlined;
  }

  /** The length of a sheet and of all that it imports, each once. */
  #lengthOfAll(id: string): number {
    const { graph } = this.#input;
    const all = new Set([id]);
    let length = 0;
    for (const at of all) {
      const content = graph.content(at);
      if (content?.kind !== 'style') continue;
      length += content.css.length;
      for (const { kind, target } of graph.edges(at)) if (kind === 'style') all.add(target);
    }
    return length;
  }

  async #inlineNow(id: string, above: readonly string[]): Promise<Mapped> {
    const rendered = this.served.render(id)!;
    const own: Mapped = { text: rendered.text, ...(this.#input.hasMaps ? { map: await rendered.map() } : {}) };
    const ids = importedUrls(own).map(idOfMark);
    const imported = new Map<string, Mapped>();
    let { length } = own.text;
    for (const at of ids) {
      if (at === undefined || !this.#input.graph.has(at) || imported.has(at)) continue;
      const isUnderWay = above.includes(at) || at === id;
      if (isUnderWay) this.#circles++;
      imported.set(at, isUnderWay ? { text: '' } : await this.#inlined(at, [...above, id]));
      length += imported.get(at)!.text.length;
      if (length > long && length > mostTimes * this.#lengthOfAll(id)) throw new VineError(tooLong(id, length));
    }
    const sheets: (Imported | undefined)[] = ids.map((at) => (at === undefined ? undefined : imported.get(at)));
    // Rules can't stand before an `@import` or a `@namespace`, so what comes before one that stays is a file.
    const last = /@namespace\b/i.test(own.text)
      ? sheets.length - 1
      : sheets.findLastIndex((sheet) => sheet === undefined || ('text' in sheet && startsAlone(sheet.text)));
    for (const [index, sheet] of sheets.slice(0, last + 1).entries())
      if (sheet !== undefined && 'text' in sheet) sheets[index] = { url: await this.#fileUrl(ids[index]!, sheet) };
    return inlineImports(own, sheets);
  }

  async #fileUrl(id: string, sheet: Mapped): Promise<string> {
    const { files, urlOf } = this.#input;
    return cssUrl(urlOf(files.put(nameOf(id), '.css', await this.#finished(id, sheet))));
  }

  /** Writes a sheet of its own. Returns its path. */
  async file(id: string): Promise<string> {
    return this.#input.files.put(nameOf(id), '.css', await this.made(id));
  }

  /** A sheet that comes with its module, and as a file for pages whose policy forbids that. */
  async fallback(id: string): Promise<string> {
    const path = await this.file(id);
    this.fallbacks.add(path);
    return path;
  }

  /** The sheets of a page in files, each with its sheets: in one, but for what counts at the start of a sheet only. */
  async joined(name: string, ids: readonly string[]): Promise<{ path: string; ids: string[] }[]> {
    const groups: string[][] = [];
    let isOpen = false;
    for (const id of ids) {
      const { text } = await this.made(id);
      if (isOpen && !startsAlone(text)) groups.at(-1)!.push(id);
      else groups.push([id]);
      // What it says of names would hold for the next one too.
      isOpen = !/@namespace\b/i.test(text);
    }
    return Promise.all(groups.map(async (group) => ({ path: await this.#joined(name, group), ids: group })));
  }

  async #joined(name: string, ids: readonly string[]): Promise<string> {
    let text = '';
    let line = 0;
    const sections: MapSection[] = [];
    for (const id of ids) {
      const { text: own, map } = await this.made(id);
      if (map !== undefined) sections.push({ line, map: openMap(map) });
      text += `${own}\n`;
      line += countLineEnds(own) + 1;
    }
    const joined = { text, ...(this.#input.hasMaps ? { map: joinedMap(`${name}.css`, sections) } : {}) };
    return this.#input.files.put(name, '.css', joined);
  }
}

/** Whether a sheet holds what counts at the start only, and so can't stand behind another one. */
function startsAlone(text: string): boolean {
  return /@(?:import|namespace)\b/i.test(text);
}
