import type { Bundle, PrintedGroup } from '../core/bundle/bundle.js';
import type { Group } from '../core/bundle/groups.js';
import type { Member } from '../core/bundle/member.js';
import type { PrintedMember } from '../core/bundle/print-member.js';
import { urlsMatching } from '../core/bundle/urls-of.js';
import type { ModuleContent, ScriptContent } from '../core/graph/module-content.js';
import type { ModuleGraph } from '../core/graph/module-graph.js';
import { type MapInput, moduleMap } from '../core/maps/module-map.js';
import { MapOrigin, type Origin, OwnOrigin } from '../core/maps/origin.js';
import { mapReference } from '../core/maps/shipped-map.js';
import { fileOfPart } from '../core/module-id.js';
import { Piece, type PieceModule } from '../core/pieces/piece.js';
import type { RuntimeEdges } from '../core/pieces/runtime-edges.js';
import { contentHash } from '../core/text/content-hash.js';
import { countLineEnds } from '../core/text/line-index.js';
import type { ShippedMaps } from '../project/files/shipped-maps.js';
import type { LaterMapped } from './built-files.js';
import {
  editedOrigin,
  joinedMap,
  type Mapped,
  type MappedText,
  type MapSection,
  mappedEdits,
  opened,
  openMap,
  written,
} from './mapped.js';
import type { BuildMemory, Kept } from './memory.js';
import { type SmallerOptions, smallerScript } from './minify.js';
import { named, nameRest } from './names-in-text.js';
import type { Edition } from './targets.js';
import { inSteps } from './top-level.js';

export interface ScriptsInput {
  bundle: Bundle;
  graph: ModuleGraph<ModuleContent>;
  minify: boolean;
  /** See `BundleInput.inSteps`. */
  inSteps: boolean;
  /** Translates whole scripts to ECMAScript 5, and makes them smaller where that is wanted: what their parts become stands in each other. */
  toEs5: ((mapped: Mapped) => Promise<Mapped>) | undefined;
  hasMaps: boolean;
  /** Where a map says that a source is. */
  sourceUrl(id: string): string;
  shipped: ShippedMaps;
  /** A module that has its scope for itself, as the runtime takes it. */
  whole(id: string, hasSheets: boolean): Promise<PieceModule | undefined>;
  /** The URL behind `new URL('…', import.meta.url)` of a module. */
  urlOf(id: string, kind: 'url' | 'worker', specifier: string): string;
  /** Edition of ECMAScript that scripts may be written in. */
  edition: Edition;
  /** Functions and classes keep the names that programs can see. */
  keepsNames: boolean;
  kept: Kept;
  memory: BuildMemory;
  fingerprint: string;
}

interface Smaller extends Partial<SmallerOptions> {
  text: string;
  /** What the result depends on beside the options. */
  of: readonly string[];
  origin(): Origin | undefined;
  /** What stands for the result where there is none. */
  asItIs(): MappedText;
}

/** A statement of a script, and the maps of its parts. */
interface Statement {
  text: string;
  sections: MapSection[];
}

/** Prints the modules of a build as statements that register them. */
export class Scripts {
  readonly #input: ScriptsInput;
  readonly #statements = new Map<string, Promise<Statement>>();
  /** Id for the runtime -> texts of the modules behind it, as they are in files. */
  readonly #texts = new Map<string, ReadonlyMap<string, string>>();

  constructor(input: ScriptsInput) {
    this.#input = input;
  }

  /** A script of groups and of modules that have their scope for themselves, by their ids for the runtime. `scope` is what it runs in. */
  async script(
    name: string,
    ids: readonly string[],
    { hasSheets = false, before = '', after = '', scope = 'self' } = {},
  ): Promise<LaterMapped> {
    const parts = await Promise.all(ids.map((id) => this.#statement(id, hasSheets)));
    const head = `${before}(vine => { if (!vine) return;\n`;
    let line = countLineEnds(head);
    const sections: MapSection[] = [];
    for (const part of parts) {
      if (part.text === '') continue;
      for (const section of part.sections) sections.push({ line: line + section.line, map: section.map });
      line += countLineEnds(part.text) + 1;
    }
    const text = `${head}${parts.map((part) => (part.text === '' ? '' : `${part.text}\n`)).join('')}${after}})(${scope}["~spark"]);\n`;
    const { hasMaps, toEs5 } = this.#input;
    const map = () => joinedMap(`${name}.js`, sections);
    if (toEs5) return toEs5({ text, ...(hasMaps ? { map: map() } : {}) });
    return { text, ...(hasMaps ? { map } : {}) };
  }

  /** The texts of modules behind some ids for the runtime, by the modules' own ids. */
  textsOf(ids: readonly string[]): Map<string, string> {
    return new Map(ids.flatMap((id) => [...(this.#texts.get(id) ?? [])]));
  }

  #statement(id: string, hasSheets: boolean): Promise<Statement> {
    const key = `${id} ${hasSheets}`;
    const known = this.#statements.get(key) ?? this.#statementOf(id, hasSheets);
    this.#statements.set(key, known);
    return known;
  }

  async #statementOf(id: string, hasSheets: boolean): Promise<Statement> {
    const group = this.#input.bundle.groupAt(id);
    return group ? this.#group(group) : this.#whole(id, hasSheets);
  }

  /** The statement that registers a module with a scope of its own. Made smaller it is kept for the next build. */
  async #whole(id: string, hasSheets: boolean): Promise<Statement> {
    const module = await this.#input.whole(id, hasSheets);
    if (!module) return { text: '', sections: [] };
    const piece = new Piece({ modules: [module], hasSheets, mapUrl: '' });
    const [, ...rest] = [...piece.inner()];
    const text = rest.flat().join('').trimEnd();
    const input = this.#input.hasMaps ? module.map : undefined;
    const { memory, graph } = this.#input;
    const made = await memory.printed(`${id} ${hasSheets}`, graph.content(id)!, text, () => this.#wholeMade(text, input, id));
    this.#texts.set(id, new Map([[id, made.text]]));
    return { text: made.text, sections: made.map === undefined ? [] : [{ line: 0, map: made.map }] };
  }

  /** `input` is that of the map of the lines behind the first one, above which the statement's own line stands. */
  async #wholeMade(text: string, input: MapInput | undefined, id: string): Promise<MappedText> {
    const { minify, toEs5 } = this.#input;
    const map = () => input && openMap(this.#led(moduleMap(copied(input)), id), 1);
    const asItIs = (): MappedText => {
      const asItWas = map();
      return asItWas ? { text, map: asItWas } : { text };
    };
    if (!minify || toEs5) return asItIs();
    const origin = () => {
      const open = map();
      return open && new MapOrigin(open);
    };
    return this.#smaller({ text, of: [text, ...this.#mapVersion(input, id)], origin, asItIs });
  }

  /** What tells the map of a module from others: what it is made of, where that isn't spread over more files. */
  #mapVersion(input: MapInput | undefined, id: string): string[] {
    if (!input) return [];
    const { source, sourceUrl, map, shifts, ignored } = input;
    if (ignored && mapReference(source.text) !== undefined) return [this.#led(moduleMap(copied(input)), id)];
    return [sourceUrl, source.text, map?.mappings ?? '', map?.names ?? '', JSON.stringify(shifts)];
  }

  /** Makes a script smaller, unless an earlier build has, of the same. */
  async #smaller({ text, of, origin, asItIs, ...more }: Smaller): Promise<MappedText> {
    const { kept, fingerprint, keepsNames, edition } = this.#input;
    const options = { keepsNames, edition, ...more };
    const key = `smaller ${contentHash(fingerprint, ...of, JSON.stringify(options))}`;
    const known = kept.get(key);
    if (known !== undefined) return opened(JSON.parse(known) as Mapped);
    const made = (await smallerScript(text, origin(), options)) ?? asItIs();
    kept.put(key, () => JSON.stringify(written(made)));
    return made;
  }

  async #group(group: Group): Promise<Statement> {
    const { bundle, minify, toEs5 } = this.#input;
    const printed = bundle.print(group);
    const texts = await Promise.all(printed.members.map((member) => this.#member(member)));
    if (minify && !toEs5) nameRest(printed, texts);
    const bodies = texts.map((text, index) => named(text, printed.members[index]!));
    this.#texts.set(group.id, new Map(bodies.map(({ text: body }, index) => [printed.members[index]!.member.id, body])));
    const { head, foot } = bundle.frame(printed);
    const edges = JSON.stringify(this.#edges(printed));
    let text = `vine.add(${JSON.stringify(group.id)}, ${edges}, ${head}\n`;
    let line = countLineEnds(text);
    const sections: MapSection[] = [];
    for (const body of bodies) {
      if (body.text === '') continue;
      if (body.map !== undefined) sections.push({ line, map: body.map });
      text += `${body.text}\n`;
      line += countLineEnds(body.text) + 1;
    }
    return { text: `${text}${foot});`, sections };
  }

  /** What is left of a module, made smaller by itself, so that others may change without that being done again. */
  async #member(printed: PrintedMember): Promise<MappedText> {
    const { id } = printed.member;
    const text = printed.text.toString();
    const made = await this.#input.memory.printed(id, this.#input.graph.content(id)!, text, () => this.#made(printed, text));
    printed.text.close();
    return made;
  }

  async #made({ member, text: printed }: PrintedMember, text: string): Promise<MappedText> {
    if (text.trim() === '') return { text: '' };
    const { hasMaps, minify, toEs5 } = this.#input;
    const below = hasMaps ? this.#below(member) : undefined;
    const asItIs = () => (below ? mappedEdits(printed.edited, text, below.origin()) : { text });
    const made =
      minify && !toEs5
        ? await this.#smaller({
            text,
            of: [member.text, text, ...(below?.of ?? [])],
            origin: () => below && editedOrigin(printed.edited, text, below.origin()),
            asItIs,
            names: member.kept,
            isStrict: true,
            ...(member.isAsync ? { isAsync: true } : {}),
          })
        : asItIs();
    return member.isAsync && this.#input.inSteps ? inSteps(made) : made;
  }

  /** Where the text of a module leads, and what tells that from anything else. */
  #below({ id, text }: Member): { of: readonly string[]; origin(): Origin } | undefined {
    const content = this.#input.graph.content(id);
    if (content?.kind !== 'script' || content.isData) return undefined;
    const { source, map, inPackage } = content;
    const sourceUrl = this.#input.sourceUrl(fileOfPart(id));
    if (!map && !(inPackage && mapReference(source.text) !== undefined))
      return { of: [sourceUrl, source.text], origin: () => new OwnOrigin(sourceUrl, source.text, inPackage) };
    const own = () =>
      moduleMap({
        source,
        sourceUrl,
        ...(map ? { map: { ...map } } : {}),
        shifts: [],
        code: `\n${text}`,
        ignored: inPackage,
      });
    if (map && !inPackage)
      return { of: [sourceUrl, source.text, map.mappings, map.names], origin: () => new MapOrigin(openMap(own())) };
    const led = this.#led(own(), id);
    return { of: [led], origin: () => new MapOrigin(openMap(led)) };
  }

  /** The map of a package's module goes on through the one that the package ships. */
  #led(map: string, id: string): string {
    const content = this.#input.graph.content(id);
    return content?.kind === 'script' && content.inPackage ? this.#input.shipped.through(map, id, content.source.text) : map;
  }

  /** What expressions in `new URL(…, import.meta.url)` of a module may name. */
  #filesOf({ id, places }: Member): Record<string, string> | undefined {
    const { graph, urlOf } = this.#input;
    const patterns = places.flatMap((place) => (place.kind === 'urls' ? [place.pattern] : []));
    const edges = patterns.flatMap((pattern) => urlsMatching(graph.edges(id), pattern));
    return edges.length === 0
      ? undefined
      : Object.fromEntries(edges.map(({ specifier, kind }) => [specifier, urlOf(id, kind as 'url' | 'worker', specifier)]));
  }

  #edges({ members, imports, links, isAsync }: PrintedGroup): RuntimeEdges {
    const { graph, urlOf, bundle } = this.#input;
    const parts: NonNullable<RuntimeEdges['parts']> = {};
    let nodeDefault = false;
    for (const { member, text } of members) {
      const content = graph.content(member.id);
      if (content?.kind !== 'script') continue;
      const { edges } = content as ScriptContent;
      if (edges.nodeDefault) nodeDefault = true;
      const printed = text.toString();
      if (!printed.includes('.of(')) continue;
      const left = new Set(
        graph
          .edges(member.id)
          .filter(({ kind }) => kind === 'dynamic')
          .map(({ target }) => target),
      );
      const dynamic = Object.fromEntries(
        Object.entries(edges.dynamic ?? {})
          .filter(([, { id, missing }]) => missing !== undefined || left.has(id))
          .map(([key, { id, missing }]) => [
            key,
            { id: bundle.idOf(id), piece: bundle.idOf(id), ...(missing === undefined ? {} : { missing }) },
          ]),
      );
      const urls = bundle.urlsOf(member).map(({ kind, specifier, isLeft }) => (isLeft ? urlOf(member.id, kind, specifier) : ''));
      const files = this.#filesOf(member);
      parts[member.id] = {
        ...(files ? { files } : {}),
        ...(Object.keys(dynamic).length > 0 ? { dynamic } : {}),
        ...(urls.length > 0 ? { urls } : {}),
      };
    }
    return {
      version: '',
      imports,
      ...(links.length > 0 ? { links } : {}),
      ...(isAsync ? { async: this.#input.inSteps ? 'steps' : true } : {}),
      ...(nodeDefault ? { nodeDefault } : {}),
      ...(members.length === 1 && isValue(graph.content(members[0]!.member.id)) ? { value: true } : {}),
      ...(Object.keys(parts).length > 0 ? { parts } : {}),
    };
  }
}

/** Whether a module is data or a file. */
function isValue(content: ModuleContent | undefined): boolean {
  return content?.kind === 'asset' || (content?.kind === 'script' && content.edges.value === true);
}

/** The ids by which the runtime knows what modules became, each once. */
export function idsFor(bundle: Bundle, modules: readonly string[]): string[] {
  return [...new Set(modules.flatMap((id) => bundle.idsOf(id)))];
}

/** A map is completed in place, which may be done once only. */
function copied(input: MapInput): MapInput {
  return input.map ? { ...input, map: { ...input.map } } : input;
}
