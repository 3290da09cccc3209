import { refuseDeepSheet } from '../core/documents/deep-sheet.js';
import type { ModuleContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import type { Paths } from '../core/paths.js';
import { type Problem, VineError } from '../core/problem/problem.js';
import { countLineEnds } from '../core/text/line-index.js';
import { StyleSheets } from '../project/styles/style-sheets.js';
import { nameOf } from './assets.js';
import type { BuiltFiles } from './built-files.js';
import { inlineImports } from './inline-imports.js';
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
  /** Where a map says that a source is. */
  sourceUrl(id: string): string;
  memory: BuildMemory;
}

/** What stands in front of the ids of imported sheets until they are put in their places. */
const importMark = 'sheet:';

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
      { style: (id) => `${importMark}${id}`, file: assetUrl, source: sourceUrl, map: () => undefined },
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
    const { minify, targets } = this.#input;
    const sheet = await this.#inlined(id);
    refuseDeepSheet(id, sheet.text);
    return this.#input.memory.sheet(id, sheet, async () => {
      const lowered = targets ? loweredSheet(id, sheet, targets) : sheet;
      return minify ? smallerSheet(lowered) : lowered;
    });
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
    const imported = new Map<string, Mapped>();
    let { length } = own.text;
    for (const [, target] of own.text.matchAll(/sheet:([^"')\s]+)/g)) {
      const at = target!;
      if (!this.#input.graph.has(at) || imported.has(at)) continue;
      const isUnderWay = above.includes(at) || at === id;
      if (isUnderWay) this.#circles++;
      imported.set(at, isUnderWay ? { text: '' } : await this.#inlined(at, [...above, id]));
      length += imported.get(at)!.text.length;
      if (length > long && length > mostTimes * this.#lengthOfAll(id)) throw new VineError(tooLong(id, length));
    }
    return inlineImports(own, (url) => (url.startsWith(importMark) ? imported.get(url.slice(importMark.length)) : undefined));
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

  /** The sheets of a page in one file; those that count at the start only stand there. */
  async joined(name: string, ids: readonly string[]): Promise<string> {
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
    // What stays an `@import` counts at the start only, whichever sheet it stands in.
    return this.#input.files.put(
      name,
      '.css',
      inlineImports(joined, () => undefined),
    );
  }
}
