import { init as initLexer, parse } from 'es-module-lexer';
import { isExpression, isModuleBody, letThrough } from '../../core/link/compiles.js';
import { linkCommonJs } from '../../core/link/link-commonjs.js';
import { linkModule } from '../../core/link/link-module.js';
import type { LexerRecords, Linked, LinkInput } from '../../core/link/linked.js';
import { type KeptMap, keepMap, rawMap } from '../../core/maps/kept-map.js';
import type { RawMap } from '../../core/maps/raw-map.js';
import type { Mode } from '../../core/mode.js';
import { fileOfPart } from '../../core/module-id.js';
import { type Problem, problemAt } from '../../core/problem/problem.js';
import { contentHash } from '../../core/text/content-hash.js';
import type { Trace } from '../../core/trace.js';
import type { ScriptLanguage } from '../../core/translate/adapter.js';
import type { SyntaxMistake } from '../../core/translate/check-syntax.js';
import type { Proposals } from '../../core/translate/decorators.js';
import type { ScriptOptions } from '../../core/translate/script-options.js';
import { languageOf, type ScriptTargets, type Translated, translateScript } from '../../core/translate/translate-script.js';

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
  /** What need not be wrong. */
  warnings?: Problem[];
}

/** What went wrong instead. */
export interface NotCompiled {
  problems: Problem[];
}

/** What the compiled form of a source depends on beside the source. */
export interface CompileSettings {
  id: string;
  /** What the compiled form is kept by; without one, what comes out stands for what went in. */
  key?: string;
  /** See `LinkInput.checked`. */
  isChecked: boolean;
  /** The `type` of the package that the module belongs to. */
  scope: string | undefined;
  options: ScriptOptions;
  mode: Mode;
  targets?: ScriptTargets | undefined;
  /** Add the marks by which components keep their state. */
  refresh: boolean;
  constants: Readonly<Record<string, string>>;
  /** Absolute path of the project. */
  root: string;
  /** What is compiled in the place of the source. */
  made?: MadeScript;
}

/** A script that an adapter made of a file. */
export interface MadeScript {
  text: string;
  language: ScriptLanguage;
  /** From `text` back to the file; absent where they have the same lines and columns. */
  map?: RawMap;
  /** Its decorators were written in another way. */
  isLowered?: true;
}

/** What compiling asks of others. */
export interface CompileTools {
  /** Whether the linked form has to be made from a syntax tree, see `ScriptCompiler`. */
  lacksCertainty(linked: Linked): boolean;
  trace: Trace;
}

/** Translates and links a script. */
export async function compileScript(
  source: string,
  settings: CompileSettings,
  tools: CompileTools,
): Promise<CompiledScript | NotCompiled> {
  const { id, options, refresh, made } = settings;
  const from = tools.trace.now();
  const text = made?.text ?? source;
  const isPlain = made?.language === 'js' && !made.isLowered;
  const language = languageOf(made ? `${id}.${made.language}` : id, text, isPlain || isInPackage(id));
  const { decorator, hasAccessor } = await proposalsIn(text, language);
  if (decorator !== undefined && !options.legacyDecorators) {
    // One that was lowered and still holds some can't be helped.
    const lowered = made?.isLowered ? undefined : await lowerDecorators(settings, text);
    if (!lowered) return { problems: [await decoratorProblem(id, source, { text, map: made?.map }, decorator)] };
    const map = made?.map ? (await chaining()).chainMaps(lowered.map, made.map) : lowered.map;
    return compileScript(source, { ...settings, made: { ...lowered, map, isLowered: true } }, tools);
  }
  const translated = await translateScript(text, {
    id: made ? `${id}.${made.language}` : id,
    inPackage: isPlain || isInPackage(id),
    mode: settings.mode,
    targets: settings.targets,
    refresh,
    options,
    lowersAccessors: hasAccessor,
    isCommonJs: async () => made === undefined && (await isCommonJs(id, source, settings.scope)),
  });
  tools.trace.overlapping('module', 'translate', from, { id });
  if ('code' in translated) return { problems: [translated] };
  return linkScript(source, made ? await throughMade(translated, made, text) : translated, settings, tools);
}

/** The text without the standard's decorators, by the project's own translator. */
async function lowerDecorators({ id, made, root, options }: CompileSettings, source: string) {
  const { lowerDecorators: lower } = await import('./lower-decorators.js');
  return lower(root, { id: made ? `${id}.${made.language}` : id, source, options });
}

function chaining() {
  return import('../../core/maps/raw-map.js');
}

/** A translation with its map led on to the file that the text was made of. */
async function throughMade(translated: Translated, made: MadeScript, text: string): Promise<Translated> {
  if (!made.map) return translated;
  // Where nothing was translated, the map is that of the adapter.
  if (!translated.map || translated.text === text) return { ...translated, map: made.map };
  const { chainMaps } = await chaining();
  return { ...translated, map: chainMaps(translated.map, made.map) };
}

/** Links what is JavaScript already: `source` is what the user wrote. */
async function linkScript(
  source: string,
  translated: Translated,
  settings: Omit<CompileSettings, 'options' | 'refresh'>,
  tools: CompileTools,
): Promise<CompiledScript | NotCompiled> {
  const { id, key, isChecked, constants, mode } = settings;
  await initLexer();
  const from = tools.trace.now();
  const { handle } = translated;
  const map = translated.map && keepMap(translated.map);
  // A byte order mark and a `#!` line may only stand at the start of a file, which the linked form is not.
  const text = translated.text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
  const isBuilt = mode === 'production';
  const input = { text, handle, constants, checked: isChecked, isBuilt };
  const { linked, mistake } = await linkedForm(input, settings, tools, map !== undefined);
  const wrong = mistake && (await syntaxProblem(id, source, { text, map }, mistake));
  if (!linked || (wrong && (isBuilt || !mistake.isPattern))) return { problems: [wrong!] };
  // While it's served, a pattern is the matter of the page's browser, which tells of it and goes on without the module.
  const warnings = [...(translated.warnings ?? []), ...(wrong && !isInPackage(id) ? [wrong] : [])];
  const required = linked.format === 'module' ? importRequireProblem(id, source, text) : undefined;
  if (required) return { problems: [required] };
  tools.trace.span('module', 'link', from, { id });
  const hasDefault = id.endsWith('x') && linked.exports?.includes('default') === true;
  return {
    linked,
    version: key ?? contentHash(linked.code),
    isChecked,
    isAnonymous: hasDefault && anonymousComponent.test(text),
    namesSpecifiers: text.includes('import.meta.live'),
    text,
    ...(map ? { map } : {}),
    ...(warnings.length > 0 ? { warnings } : {}),
    ...(linked.importWrites.length > 0 ? { problems: await importWriteProblems(id, source, text, map, linked) } : {}),
  };
}

async function proposalsIn(text: string, language: ScriptLanguage): Promise<Proposals> {
  if (!text.includes('class') || !/@(?!__)|accessor/.test(text)) return { hasAccessor: false };
  return (await import('../../core/translate/decorators.js')).findProposals(text, language);
}

async function decoratorProblem(
  id: string,
  source: string,
  { text, map }: { text: string; map: RawMap | undefined },
  at: number,
): Promise<Problem> {
  return problemAt(await placeIn(id, source, { text, map: map && keepMap(map) }, at), {
    code: 'syntax-unsupported',
    message: 'Decorators are not run by browsers yet, and these are not lowered.',
    hint: 'Install a translator that lowers them, TypeScript 5 or 6 or Babel: npm install -D @babel/core @babel/plugin-proposal-decorators. If the code is written for their older form, set experimentalDecorators in tsconfig.json.',
  });
}

/** `import quay = require('./quay')` of TypeScript, where `require` isn't defined. */
const importRequire = /^[ \t]*(?:export[ \t]+)?import[ \t]+([\w$]+)[ \t]*=[ \t]*require[ \t]*\([ \t]*(['"])([^'"\n]+)\2/m;

function importRequireProblem(id: string, source: string, text: string): Problem | undefined {
  const found = /\.m?tsx?$/.test(id) && text.includes('require') ? importRequire.exec(source) : null;
  if (!found) return undefined;
  const [whole, name, , specifier] = found as unknown as [string, string, string, string];
  // One of a type only is gone, and what stands in a comment never was there.
  if (!new RegExp(`\\b(?:const|var) ${name.replaceAll('$', '\\$')} = require\\(`).test(text)) return undefined;
  const place = { file: id, text: source, start: found.index + whole.search(/\S/), end: found.index + whole.length };
  return problemAt(place, {
    code: 'syntax-unsupported',
    message: `'import ${name} = require(…)' is CommonJS, and a file with other imports or exports is an ECMAScript module.`,
    hint: `Write import ${name} from '${specifier}', or import * as ${name} from '${specifier}' for what it exports by name.`,
  });
}

async function linkedForm(
  input: LinkInput,
  { id, scope }: { id: string; scope: string | undefined },
  { lacksCertainty }: CompileTools,
  isTranslated: boolean,
): Promise<{ linked?: Linked; mistake?: SyntaxMistake | undefined }> {
  const { text } = input;
  try {
    const records = await recordsOf(id, text, scope);
    let linked = await (records ? linkModule({ ...input, records }) : linkCommonJs(input));
    if (lacksCertainty(linked)) linked = await linkCommonJs(input, true);
    // What was translated is known to parse, but for what translators pass over.
    const isKnown = isTranslated ? !mayHoldPattern.test(text) : linked.isParsed;
    const isSound = (isKnown || isTaken(linked, text)) && !(records && mayExportWrongly(records[1], text, id));
    return { linked, mistake: isSound ? undefined : await syntaxMistake(text, records !== undefined) };
  } catch (error) {
    const start = (error as { idx?: number }).idx ?? 0;
    const message = `This is no JavaScript: ${(error as Error).message.split('\n')[0]}`;
    return { mistake: (await syntaxMistake(text, true)) ?? { message, start, end: start + 1 } };
  }
}

/** A regular expression may begin there. Errs towards yes. */
const mayHoldPattern = /(?:^|[=(,:;!&|?{}[>+~\n-]|\b(?:return|typeof|case|in|of|await|yield|void))[^\S\n]*\/(?![/*>])/;

/** Whether an engine takes a text as it was linked, and would take it as it is. Errs towards no. */
function isTaken({ code, format }: Linked, text: string): boolean {
  if (format === 'commonjs') return isExpression(code);
  if (isModuleBody(code)) return !letThrough.test(text) || isExpression(code);
  // A `return` may stand in a function, and not in a module.
  return !/\breturn\b/.test(text) && isExpression(code);
}

/** Whether a name is exported twice, or one that is declared nowhere: linking takes both for granted. Errs towards yes, where that is rare. */
function mayExportWrongly(exports: LexerRecords[1], text: string, id: string): boolean {
  const names = exports.flatMap((record) => ('name' in record && record.name !== undefined ? [record.name] : []));
  if (new Set(names).size < names.length) return true;
  if (isInPackage(id)) return false;
  const list = /export\s*\{/y;
  const listed = exports.flatMap((record) => {
    list.lastIndex = record.exportStart;
    return 'localName' in record && record.localName !== undefined && list.test(text) ? [record] : [];
  });
  if (listed.length === 0) return false;
  const places = new Set(listed.flatMap(({ start, localStart }) => [start, localStart]));
  const mentioned = new Set<string>();
  for (const { 0: word, index } of text.matchAll(/[\w$]+/g)) if (!places.has(index)) mentioned.add(word);
  return listed.some(({ localName = '' }) => /^[\w$]+$/.test(localName) && !mentioned.has(localName));
}

/** Whether plain JavaScript is CommonJS. What can't be read is told by others. */
async function isCommonJs(id: string, source: string, scope: string | undefined): Promise<boolean> {
  try {
    await initLexer();
    return (await recordsOf(id, source, scope)) === undefined;
  } catch {
    return /\.cjs$/.test(id);
  }
}

/** What the lexer finds in an ECMAScript module; `undefined` for CommonJS. */
async function recordsOf(id: string, text: string, scope: string | undefined): Promise<LexerRecords | undefined> {
  if (/\.c[jt]s$/.test(id)) return undefined;
  const records = await lexed(text);
  if (records[3] || /\.m[jt]s$/.test(id) || scope === 'module') return records;
  return isInPackage(id) || /\b(?:require|module|exports)\b/.test(text) ? undefined : records;
}

/**
 * What stands in a module's imports and exports. The lexer is quick and wrong in places: it takes line ends of Unicode for parts
 * of a comment, and refuses or misreads some statements with comments in them or with odd names. There the parser decides.
 */
export async function lexed(text: string): Promise<LexerRecords> {
  let refused: unknown;
  try {
    const records = parse(text);
    if (!mayBeMisread(text, records)) return records;
  } catch (error) {
    refused = error;
  }
  const { recordsFromTree } = await import('../../core/link/tree-records.js');
  const records = recordsFromTree(text);
  if (records) return records;
  if (refused !== undefined) throw refused;
  return parse(text);
}

/** Whether the lexer may have read something else than what stands there. Errs towards yes, where that is rare. */
function mayBeMisread(text: string, [imports, exports]: LexerRecords): boolean {
  if (/[\u2028\u2029]/.test(text)) return true;
  const isOdd = (record: (typeof exports)[number]) =>
    'localName' in record && /^(?:extends|function|class|async)$/.test(record.localName ?? '');
  if (exports.some(isOdd)) return true;
  const heads = exports.filter((record) => 'name' in record && record.name === 'default' && record.type === 'direct');
  const isInHead = ({ end }: { end?: number }) =>
    end !== undefined &&
    /^\s*(?:async\b[^({]{0,200}?)?(?:(?:function|class)\b[^({]{0,200}?)?\/[*/]/.test(text.slice(end, end + 500));
  if (heads.some(isInHead)) return true;
  // White space beyond ASCII behind a template.
  const isWide = ({ type, specifier, start, end }: (typeof imports)[number]) =>
    type === 'dynamic' && specifier === undefined && /^`.*`[^\x00-\x7f]/s.test(text.slice(start, end));
  if (imports.some(isWide)) return true;
  // A member of that name behind a comment.
  const isMember = ({ importStart }: (typeof imports)[number]) =>
    /\.(?:\s*\/\*[^*]*\*\/|[ \t]*\/\/.*\r?\n)\s*$/.test(text.slice(Math.max(0, importStart - 200), importStart));
  if (imports.some(isMember)) return true;
  const hasComment = (from: number, to: number) => /\/[*/]/.test(text.slice(from, to));
  return (
    imports.some(({ type, importStart, start }) => type === 'static' && hasComment(importStart, start)) ||
    exports.some(({ exportStart, start, end }) => start !== undefined && hasComment(exportStart, Math.max(start, end ?? start)))
  );
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
  const { sourcePosition } = await import('../../core/translate/source-position.js');
  // It's a place in the whole file, whatever part of it the module is.
  return { file: fileOfPart(id), text: source, start: sourcePosition(rawMap(map), text, offset, source) };
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

async function syntaxMistake(text: string, isModule: boolean): Promise<SyntaxMistake | undefined> {
  const syntax = await import('../../core/translate/check-syntax.js');
  return syntax.syntaxMistake(text, isModule);
}

async function syntaxProblem(
  id: string,
  source: string,
  translated: { text: string; map: KeptMap | undefined },
  { message, hint, start, end }: SyntaxMistake,
): Promise<Problem> {
  const place = await placeIn(id, source, translated, start);
  return problemAt(
    { ...place, end: place.start + end - start },
    { code: 'syntax-error', message, ...(hint === undefined ? {} : { hint }) },
  );
}
