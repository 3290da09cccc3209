import { fileURLToPath } from 'node:url';
import MagicString from 'magic-string';
import type { ModuleContent, StyleContent } from '../../core/graph/module-content.js';
import type { ModuleGraph } from '../../core/graph/module-graph.js';
import type { RawMap } from '../../core/maps/raw-map.js';
import { fileOfId, fileOfPart } from '../../core/module-id.js';
import type { Paths } from '../../core/paths.js';
import { contentHash } from '../../core/text/content-hash.js';
import { cssUrl, encodedPath, ownUrl } from '../../core/urls.js';

/** A sheet as it is sent, and its map, made when it's asked for. */
export interface RenderedSheet {
  text: string;
  map(): Promise<string>;
}

/** Where sheets, files and sources are found, by ids and versions of their content. */
export interface SheetUrls {
  style(id: string, version: string): string;
  file(id: string, version: string): string;
  /** Under which a debugger shows a source. */
  source(id: string): string;
  /** The map of a sheet; `undefined` where it has none. */
  map(id: string, version: string): string | undefined;
}

/** The URLs of a front end that is being served under `base`. */
export function servedUrls(base: string): SheetUrls {
  return {
    style: (id, version) => ownUrl.style(base, id, version),
    file: (id, version) => (id.startsWith('../') ? ownUrl.file(base, id, version) : `${base}${encodedPath(id)}?v=${version}`),
    source: (id) => `${base}${fileOfPart(id)}`,
    map: (id, version) => ownUrl.map(base, `style/${id}`, encodeURIComponent(version)),
  };
}

const keptSheets = 2000;

/** Style sheets as they are sent: references point at URLs with the version of what they name. */
export class StyleSheets {
  readonly #graph: ModuleGraph<ModuleContent>;
  readonly #urls: SheetUrls;
  readonly #paths: Paths;
  readonly #versions = new Map<string, string>();
  /** Texts by id and version, newest last. */
  readonly #rendered = new Map<string, RenderedSheet>();

  constructor(graph: ModuleGraph<ModuleContent>, urls: SheetUrls, paths: Paths) {
    this.#paths = paths;
    this.#graph = graph;
    this.#urls = urls;
  }

  /** Forgets the versions of a changed file and of all sheets that use it. Returns the sheets that a page or a script uses itself. */
  changed(id: string): string[] {
    const affected = new Set([id]);
    for (const at of affected) {
      this.#versions.delete(at);
      for (const importer of this.#graph.importers(at)) {
        if (this.#graph.content(importer)?.kind === 'style') affected.add(importer);
      }
    }
    return [...affected].filter((at) => this.#graph.content(at)?.kind === 'style' && this.#isTop(at));
  }

  /** Whether a sheet stands in pages by itself, and not only below an `@import` of another one. */
  #isTop(id: string): boolean {
    const isComposed = (importer: string) =>
      this.#graph.edges(importer).some(({ kind, target }) => kind === 'import' && target === id);
    const importers = this.#graph.importers(id);
    return (
      this.#graph.isRoot(id) ||
      importers.some((importer) => this.#graph.content(importer)?.kind === 'script' || isComposed(importer))
    );
  }

  /** The URL of a sheet or a file, which changes with its content and with that of everything it refers to. */
  urlOf(id: string): string {
    const version = this.versionOf(id);
    if (this.#graph.content(id)?.kind === 'style') return this.#urls.style(id, version);
    return this.#urls.file(fileOfId(id), version);
  }

  versionOf(id: string, above: ReadonlySet<string> = new Set()): string {
    const known = this.#versions.get(id);
    if (known) return known;
    const content = this.#graph.content(id);
    if (!content) return '0';
    if (content.kind === 'asset') return content.hash;
    if (content.kind !== 'style') return content.edges.version;
    if (above.has(id)) return '0';
    const inner = new Set(above).add(id);
    const version = contentHash(content.css, ...content.targets.map((target) => (target ? this.versionOf(target, inner) : '')));
    this.#versions.set(id, version);
    return version;
  }

  /**
   * The text of a sheet in a version, by default the current one. Only references change, and none of them moves a line.
   * A page may still ask for a version that was replaced meanwhile, or for a sheet that a problem keeps out of the build.
   */
  render(id: string, version = this.versionOf(id)): RenderedSheet | undefined {
    const key = `${id}?${version}`;
    const known = this.#rendered.get(key);
    if (known) return known;
    const content = this.#graph.content(id);
    if (content?.kind !== 'style') return [...this.#rendered].findLast(([name]) => name.startsWith(`${id}?`))?.[1];
    const urls = content.targets.map((target) => target && this.urlOf(target));
    const rendered = {
      text: content.references.length === 0 ? content.css : withReferences(content, urls).toString(),
      map: () => this.#map(id, content, withReferences(content, urls)),
    };
    this.#rendered.set(`${id}?${this.versionOf(id)}`, rendered);
    for (const old of this.#rendered.keys()) {
      if (this.#rendered.size <= keptSheets) break;
      this.#rendered.delete(old);
    }
    return rendered;
  }

  /** The text of a sheet as it is now; empty where there is none. */
  textOf(id: string): string {
    const content = this.#graph.content(id);
    if (content?.kind !== 'style') return '';
    return this.render(id)!.text;
  }

  /** The text of a sheet as it is now, with the place of its map; empty where there is none. */
  fullText(id: string): string {
    const rendered = this.#graph.content(id)?.kind === 'style' && this.render(id);
    return rendered ? `${rendered.text}${this.mapComment(id, this.versionOf(id))}` : '';
  }

  /** The end of a sheet, which says where its map is. */
  mapComment(id: string, version: string): string {
    const url = this.#urls.map(id, version);
    return url === undefined ? '\n' : `\n/*# sourceMappingURL=${url} */\n`;
  }

  /** The map of a sheet as it is sent, through whatever made its CSS, with sources at their project paths. */
  async #map(id: string, { source, shownSource, map }: StyleContent, text: MagicString): Promise<string> {
    const own = text.generateMap({ source: this.#urls.source(id), includeContent: true, hires: 'boundary' });
    if (!map) return JSON.stringify({ ...own, ...(shownSource === undefined ? {} : { sourcesContent: [shownSource] }) });
    const { chainMaps } = await import('../../core/maps/raw-map.js');
    const chained = chainMaps(own as unknown as RawMap, map);
    const sources = chained.sources.map((name, index) => this.#sourceUrl(name, id, chained.sourcesContent?.[index] === source));
    const sourcesContent = chained.sourcesContent?.map((content, index) =>
      shownSource !== undefined && sources[index] === this.#urls.source(id) ? shownSource : content,
    );
    return JSON.stringify({ ...chained, sources, ...(sourcesContent ? { sourcesContent } : {}) });
  }

  #sourceUrl(name: string, id: string, isOwn: boolean): string {
    if (isOwn || !name.startsWith('file:') || /\?part\.|%3Fpart\./.test(name))
      return this.#urls.source(isOwn || name.includes('part.') ? id : name.split('/').at(-1)!);
    return this.#urls.source(this.#paths.idOf(fileURLToPath(name)));
  }
}

/** A sheet with its references as URLs; those that lead nowhere stay as they are. */
function withReferences({ css, references }: StyleContent, urls: readonly (string | undefined)[]): MagicString {
  const text = new MagicString(css);
  references.forEach(({ start, end }, index) => {
    const url = urls[index];
    if (url) text.update(start, end, cssUrl(url));
  });
  return text;
}
