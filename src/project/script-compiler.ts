import { statSync } from 'node:fs';
import { createRequire } from 'node:module';
import { dirname } from 'node:path';
import { fileURLToPath } from 'node:url';
import { init as initLexer, parse } from 'es-module-lexer';
import { isExpression } from '../core/link/compiles.js';
import { linkCommonJs } from '../core/link/link-commonjs.js';
import { type LexerRecords, type LinkInput, linkModule } from '../core/link/link-module.js';
import type { Linked, ModuleRequest } from '../core/link/linked.js';
import { type KeptMap, keepMap, rawMap } from '../core/maps/kept-map.js';
import { type Problem, problemAt } from '../core/problem.js';
import type { Resolver } from '../core/resolve/resolver.js';
import type { Trace } from '../core/trace.js';
import { type Translated, translateScript } from '../core/translate/translate-script.js';
import { contentHash } from './content-hash.js';
import type { DiskCache } from './disk-cache.js';
import type { Paths } from './paths.js';
import type { RequestTargets } from './request-targets.js';
import type { TsSettings } from './ts-settings.js';

export interface ScriptCompilerOptions {
  paths: Paths;
  resolver: Resolver;
  targets: RequestTargets;
  typescript: TsSettings;
  constants: Readonly<Record<string, string>>;
  trace: Trace;
  /** Results of earlier runs; absent where nothing is kept. */
  cache(): DiskCache | undefined;
  /** React is there, so components keep their state across updates. */
  refresh(): boolean;
}

/** A script as far as its own file and the settings tell: translated and linked, with specifiers that lead nowhere yet. */
export interface CompiledScript {
  linked: Linked;
  /** Stands for everything that the code was made of. */
  version: string;
  map?: KeptMap;
  isChecked: boolean;
  /** The default export is a component without a name. */
  isAnonymous: boolean;
  /** The module may name specifiers to `import.meta.live`. */
  namesSpecifiers: boolean;
  /** The translated text; absent where it comes from the cache. */
  text?: string;
  /** What is wrong all the same. */
  problems?: Problem[];
}

/** What tells a source from others. */
export interface SourceVersion {
  /** Hash of the source. */
  hash: string;
  /** See `LinkInput.checked`. */
  isChecked: boolean;
}

/** With everything else that the linked form depends on. */
interface KeyedVersion extends SourceVersion {
  key: string;
}

/** What went wrong instead. */
export interface NotCompiled {
  problems: Problem[];
}

/** Takes scripts from their text to the linked form, as quickly as the cache allows. */
export class ScriptCompiler {
  readonly #options: ScriptCompilerOptions;
  readonly #fingerprint: string;
  readonly #prefixes = new WeakMap<object, string>();
  /** What was begun and not asked for yet, by key. */
  readonly #prepared = new Map<string, Promise<CompiledScript | NotCompiled>>();
  /** How many scripts were translated so far. */
  translations = 0;

  constructor(options: ScriptCompilerOptions) {
    this.#options = options;
    this.#fingerprint = contentHash(ownFingerprint(), JSON.stringify(options.constants));
  }

  /** Begins to compile what will probably be asked for soon. */
  prepare(id: string, source: string, version: SourceVersion): void {
    const key = this.#key(id, version);
    if (!this.#prepared.has(key)) this.#prepared.set(key, this.#compileOrFind(id, source, { key, ...version }));
  }

  /** Forgets what was begun in vain. */
  forgetPrepared(): void {
    this.#prepared.clear();
  }

  /** Compiles the text of module `id`, or takes what was begun or what an earlier run made of the same. */
  async compile(id: string, source: string, version: SourceVersion): Promise<CompiledScript | NotCompiled> {
    const key = this.#key(id, version);
    const prepared = this.#prepared.get(key);
    this.#prepared.delete(key);
    return prepared ?? this.#compileOrFind(id, source, { key, ...version });
  }

  /** Compiles without asking what is kept, which lacks the translated text. */
  async compileAfresh(id: string, source: string, version: SourceVersion): Promise<CompiledScript | NotCompiled> {
    return this.#compile(id, source, { key: this.#key(id, version), ...version });
  }

  async #compileOrFind(id: string, source: string, version: KeyedVersion): Promise<CompiledScript | NotCompiled> {
    const { trace } = this.#options;
    const cache = this.#options.cache();
    if (!cache) return this.#compile(id, source, version);
    const from = trace.now();
    const packed = cache.get(version.key);
    const known = packed === undefined ? undefined : unpack(packed);
    trace.span('module', known ? 'from the cache' : 'not in the cache', from, { id });
    if (known && !this.#lacksCertainty(id, known.linked)) return known;
    const compiled = await this.#compile(id, source, version);
    if (compiled.problems === undefined) cache.put(version.key, () => pack(compiled as CompiledScript));
    return compiled;
  }

  /**
   * Links what is JavaScript already, e.g. made by an adapter. Without a `key`, what comes out stands for what went in: an
   * adapter may look at more than the file.
   */
  async link(
    id: string,
    source: string,
    translated: Translated,
    { key, isChecked }: { key?: string; isChecked: boolean },
  ): Promise<CompiledScript | NotCompiled> {
    await initLexer();
    const from = this.#options.trace.now();
    const { handle } = translated;
    const map = translated.map && keepMap(translated.map);
    // A byte order mark and a `#!` line may only stand at the start of a file, which the linked form is not.
    const text = translated.text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
    const linked = await this.#link(id, { text, handle, constants: this.#options.constants, checked: isChecked }, !!map);
    if ('severity' in linked) return { problems: [linked] };
    this.#options.trace.span('module', 'link', from, { id });
    const hasDefault = id.endsWith('x') && linked.exports?.includes('default') === true;
    return {
      linked,
      version: key ?? contentHash(linked.code),
      isChecked,
      isAnonymous: hasDefault && anonymousComponent.test(text),
      namesSpecifiers: text.includes('import.meta.live'),
      text,
      ...(map ? { map } : {}),
      ...(linked.importWrites.length > 0 ? { problems: await importWriteProblems(id, source, text, map, linked) } : {}),
    };
  }

  async #compile(id: string, source: string, version: KeyedVersion): Promise<CompiledScript | NotCompiled> {
    const { typescript, paths, refresh, trace } = this.#options;
    const from = trace.now();
    this.translations++;
    const translated = await translateScript(source, {
      id,
      inPackage: isInPackage(id),
      refresh: refresh(),
      options: typescript.optionsFor(paths.fileOf(id)),
    });
    trace.overlapping('module', 'translate', from, { id });
    if ('code' in translated) return { problems: [translated] };
    return this.link(id, source, translated, version);
  }

  /** Everything that a compiled script depends on. The id is in it since JSX names its file. */
  #key(id: string, { hash, isChecked }: SourceVersion): string {
    const { typescript, paths, refresh } = this.#options;
    const options = typescript.optionsFor(paths.fileOf(id));
    let prefix = this.#prefixes.get(options);
    if (prefix === undefined) {
      prefix = contentHash(this.#fingerprint, JSON.stringify(options));
      this.#prefixes.set(options, prefix);
    }
    const scope = id.endsWith('.js') ? (this.scopeType(id) ?? '') : '';
    return `${prefix}${hash}${isChecked ? 'c' : ''}${refresh() ? 'r' : ''} ${scope} ${id}`;
  }

  async #link(id: string, input: LinkInput, isTranslated: boolean): Promise<Linked | Problem> {
    const { text } = input;
    try {
      const records = this.#recordsOf(id, text);
      let linked = await (records ? linkModule({ ...input, records }) : linkCommonJs(input));
      if (this.#lacksCertainty(id, linked)) linked = await linkCommonJs(input, true);
      // What was translated is known to parse.
      const isSound = isTranslated || isExpression(linked.code);
      return (isSound ? undefined : await checkSyntax(id, text, records !== undefined)) ?? linked;
    } catch (error) {
      const start = (error as { idx?: number }).idx ?? 0;
      const message = `This is no JavaScript: ${(error as Error).message.split('\n')[0]}`;
      return (await checkSyntax(id, text, true)) ?? problemAt({ file: id, text, start }, { code: 'syntax-error', message });
    }
  }

  /** Whether a `require` leads nowhere, which is a problem or not, depending on where it stands, and that is not known. */
  #lacksCertainty(id: string, { isScanned, requests }: Linked): boolean {
    const { targets } = this.#options;
    const isLost = (request: ModuleRequest) => request.kind === 'require' && targets.ofModule(id, request).target === undefined;
    return isScanned === true && requests.some(isLost);
  }

  /** What the lexer finds in an ECMAScript module; `undefined` for CommonJS. */
  #recordsOf(id: string, text: string): LexerRecords | undefined {
    if (/\.c[jt]s$/.test(id)) return undefined;
    const records = parse(text);
    if (records[3] || /\.m[jt]s$/.test(id) || this.scopeType(id) === 'module') return records;
    return isInPackage(id) || /\b(?:require|module|exports)\b/.test(text) ? undefined : records;
  }

  /** The `type` that the package of a module declares. */
  scopeType(id: string): string | undefined {
    return this.#options.resolver.packages.scopeOf(dirname(this.#options.paths.fileOf(id)))?.type;
  }
}

/** As one text: a number, so many characters of JSON, then code, mappings and names. Small objects take long to read one by one. */
function pack({ text: _, linked, map, ...rest }: CompiledScript): string {
  const { code, ...link } = linked;
  const lengths = map && [map.mappings.length, map.names.length];
  const head = JSON.stringify({ ...rest, link, code: code.length, lengths, isComplete: map?.isComplete });
  return `${head.length}\n${head}${code}${map?.mappings ?? ''}${map?.names ?? ''}`;
}

/** What `pack` made a text of; `undefined` for any other text. */
function unpack(text: string): CompiledScript | undefined {
  try {
    const end = text.indexOf('\n') + 1;
    const start = end + Number(text.slice(0, end));
    const { link, code, lengths, isComplete, ...rest } = JSON.parse(text.slice(end, start));
    const mappings = start + code;
    const names = mappings + (lengths?.[0] ?? 0);
    const map = lengths && { mappings: text.slice(mappings, names), names: text.slice(names, names + lengths[1]) };
    if (isComplete) map.isComplete = true;
    return { ...rest, linked: { ...link, code: text.slice(start, mappings) }, ...(map ? { map } : {}) };
  } catch {
    return undefined; // made by something else: it's made anew and written over
  }
}

/** Whether a module belongs to an installed package. */
export function isInPackage(id: string): boolean {
  return id.includes('node_modules/');
}

/** A place of the translated text in what the user wrote. */
export async function placeIn(
  id: string,
  source: string,
  { text, map }: { text: string; map?: KeptMap | undefined },
  offset: number,
) {
  if (!map) return { file: id, text: source, start: offset };
  const { sourcePosition } = await import('../core/maps/source-position.js');
  return { file: id, text: source, start: sourcePosition(rawMap(map), text, offset, source) };
}

/** A default export without a name in a module that makes elements, after translation. */
const anonymousComponent = /_jsx[\s\S]*\bexport default (?:_s\d*\()?(?:function\s*\(|\(|[\w$]+\s*=>)/;

async function importWriteProblems(id: string, source: string, text: string, map: KeptMap | undefined, { importWrites }: Linked) {
  return Promise.all(
    importWrites.map(async ({ name, start, end }) => {
      const place = await placeIn(id, source, { text, map }, start);
      return problemAt(
        { ...place, end: place.start + end - start },
        {
          code: 'import-assigned',
          message: `'${name}' is imported, and imports can't be assigned.`,
          hint: 'Assign to a variable of this module, or export a function from the other module that changes it there.',
        },
      );
    }),
  );
}

async function checkSyntax(id: string, text: string, isModule: boolean): Promise<Problem | undefined> {
  const syntax = await import('../core/translate/check-syntax.js');
  return syntax.checkSyntax(id, text, isModule);
}

/** Changes with our own version and build, and with the translator's. */
function ownFingerprint(): string {
  const require = createRequire(import.meta.url);
  const { version } = require('../../package.json') as { version: string };
  const translator = require('oxc-transform/package.json') as { version: string };
  return `${version} ${translator.version} ${statSync(fileURLToPath(import.meta.url)).mtimeMs}`;
}
