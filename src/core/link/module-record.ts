import type { Export, Import } from 'es-module-lexer';
import { intern } from '../text/intern.js';
import { gap } from '../text/walks.js';
import type { ImportRecord, LexerRecords, ModuleRequest } from './linked.js';
import type { NamedFile } from './script-imports.js';
import { readImportedNames, unescapeName, wordsFrom } from './statement-words.js';
import { importsIn, isModulePattern, type Parser, urlsAround } from './url-places.js';
import { takesOnlyDefault } from './wasm-module.js';

/** An imported name and the variable that it goes by; `imported` is `null` for the namespace object. */
export interface Binding {
  request: number;
  imported: string | null;
  local: string;
}

/** A name that is exported from another module. */
export interface Indirect {
  exported: string;
  request: number;
  imported: string | null;
}

/** A place in a module's text that stands for something of the module system. Whoever prints the module puts something else there. */
export type Syntax =
  /** A whole import declaration, or an export that only lists names. */
  | { kind: 'statement'; start: number; end: number }
  /** `export`, and `default` behind it, in front of a declaration. */
  | { kind: 'keyword'; start: number; end: number }
  /** `export default` in front of an expression. */
  | { kind: 'value'; start: number; end: number }
  /** Where a declaration behind `export default` has no name. */
  | { kind: 'name'; start: number; end: number }
  /** `import.meta`. */
  | { kind: 'meta'; start: number; end: number }
  /** The `import` of `import()`. */
  | { kind: 'dynamic'; start: number; end: number }
  /** The string in `new URL('…', import.meta.url)` or `import.meta.resolve('…')`; `place` counts such URLs. */
  | { kind: 'url'; start: number; end: number; place: number }
  /** What makes a string there, such as a template. */
  | { kind: 'urls'; start: number; end: number };

/** What a module imports and exports (the fields of a Source Text Module Record, ECMA-262, 16.2.1.7), and where that stands. */
export interface ModuleRecord {
  requests: ModuleRequest[];
  bindings: Binding[];
  indirect: Indirect[];
  /** Requests behind `export * from`. */
  stars: number[];
  /** Exported name -> local name. */
  locals: Map<string, string>;
  /** Locals declared as `export const`, which nothing assigns again. */
  constants: Set<string>;
  /** Exported names whose value is a hoisted function. */
  early: Set<string>;
  syntax: Syntax[];
}

/** A record on the way. */
interface Draft extends ModuleRecord {
  text: string;
  /** The variable of a default export that has no name. */
  defaultName: string;
  /** Where statements begin that are in `syntax`. */
  taken: Set<number>;
  /** Requests by URL -> their places among those. */
  urlPlaces: Map<number, number>;
  requestOf: Map<string, number>;
  parser: Parser | undefined;
  /** Some `import()` may name anything. */
  isOpen: boolean;
}

export interface RecordInput {
  text: string;
  /** What the lexer or the parser found in the text. */
  records: LexerRecords;
  /** The variable of a default export that has no name. */
  defaultName: string;
  /** What `importScripts` names. */
  scripts?: readonly NamedFile[] | undefined;
  /** For expressions that name files by more than a string: see `makesPaths`. */
  parser?: Parser | undefined;
}

/** The record of a module. */
export function recordModule({
  text,
  records: [imports, exports],
  defaultName,
  scripts = [],
  parser,
}: RecordInput): ModuleRecord {
  const draft: Draft = {
    text,
    defaultName,
    parser,
    isOpen: false,
    taken: new Set(),
    urlPlaces: new Map(),
    requestOf: new Map(),
    requests: [],
    bindings: [],
    indirect: [],
    stars: [],
    locals: new Map(),
    constants: new Set(),
    early: new Set(),
    syntax: [],
  };
  const requestOfImport = imports.map((record) => takeImport(draft, record));
  takeExports(draft, exports, requestOfImport);
  if (draft.isOpen) takeMentioned(draft, imports);
  for (const { specifier, start, end } of scripts) takeFile(draft, { kind: 'url', specifier, start, end });
  return draft;
}

/** Records one import of any kind. Returns the index of its request, -1 where it has none. */
function takeImport(draft: Draft, record: Import): number {
  const { text, syntax } = draft;
  if (record.type === 'import-meta') {
    syntax.push({ kind: 'meta', start: record.start, end: record.end });
    takeUrls(draft, record.start, record.end);
    return -1;
  }
  if (record.type === 'dynamic') {
    syntax.push({ kind: 'dynamic', start: record.importStart, end: record.importStart + 'import'.length });
    const type =
      record.attributesStart === -1
        ? undefined
        : /\btype['"]?\s*:\s*(['"])(.*?)\1/.exec(text.slice(record.attributesStart, record.importEnd))?.[2];
    const isUrl = record.specifier?.endsWith('.wasm') && takesOnlyDefault(text, record.importStart, record.importEnd);
    const more = {
      kind: 'dynamic' as const,
      start: record.start,
      end: record.end,
      ...(type ? { type } : {}),
      ...(isUrl ? { wantsUrl: isUrl } : {}),
    };
    if (record.specifier === undefined) {
      const named = draft.parser && importsIn(text.slice(record.start, record.end), draft.parser);
      for (const { specifier, isPattern } of named?.places ?? [])
        addRequest(draft, { ...more, specifier, ...(isPattern ? { isPattern } : {}) });
      draft.isOpen ||= named?.isOpen !== false;
      return -1;
    }
    if (!record.glob) return addRequest(draft, { ...more, specifier: record.specifier });
    const pattern = record.specifier.replace(/\*+/g, '*');
    if (isModulePattern(pattern)) return addRequest(draft, { ...more, specifier: pattern, isPattern: true });
    draft.isOpen = true;
    return -1;
  }
  const type = record.attributes?.find(([key]) => key === 'type')?.[1];
  const request = addRequest(draft, {
    kind: 'import',
    specifier: record.specifier,
    start: record.start,
    end: record.end,
    ...(type ? { type } : {}),
  });
  draft.taken.add(record.importStart);
  syntax.push({ kind: 'statement', start: record.importStart, end: record.importEnd });
  if (text.startsWith('import', record.importStart)) {
    for (const name of readImportedNames(text, record.importStart, record.importEnd)) draft.bindings.push({ request, ...name });
  }
  return request;
}

/** What an `import()` of a variable may name: the paths that stand in the module as strings, e.g. in a table of pages. */
function takeMentioned(draft: Draft, imports: readonly Import[]): void {
  const statements = imports.filter(({ type }) => type !== 'import-meta' && type !== 'dynamic') as {
    importStart: number;
    importEnd: number;
  }[];
  const named = new Set(draft.requests.filter(({ kind }) => kind !== 'import').map(({ specifier }) => specifier));
  for (const { 0: found, 2: specifier = '', index } of draft.text.matchAll(/(['"`])(\.{1,2}\/[^'"`\\$\n*]+)\1/g)) {
    const isStatement = statements.some(({ importStart, importEnd }) => importStart <= index && index < importEnd);
    const [start, end] = [index + 1, index + found.length - 1];
    if (!isStatement && !named.has(specifier)) addRequest(draft, { kind: 'dynamic', specifier, isGuess: true, start, end });
  }
}

/** The files that are named around `import.meta`. */
function takeUrls(draft: Draft, start: number, end: number): void {
  const named = urlsAround(draft.text, start, end, draft.parser);
  if (!named) return;
  const kind = named.isWorker ? 'worker' : 'url';
  const service = named.isService ? { isService: true as const } : {};
  for (const place of named.places) {
    if (place.kind === 'url') {
      const { specifier, start: from, end: to } = place;
      takeFile(draft, { kind, ...service, specifier, start: from, end: to });
      continue;
    }
    addRequest(draft, { kind, specifier: place.pattern, isPattern: true, start: place.start, end: place.end });
    draft.syntax.push({ kind: 'urls', start: place.start, end: place.end });
  }
}

/** A string that names a file, with its quotes. */
function takeFile(draft: Draft, { start, end, ...named }: ModuleRequest): void {
  const known = draft.requests.length;
  const request = addRequest(draft, { ...named, start: start + 1, end: end - 1 });
  if (request === known) draft.urlPlaces.set(request, draft.urlPlaces.size);
  const place = draft.urlPlaces.get(request)!;
  draft.syntax.push({ kind: 'url', start, end, place });
}

function addRequest(draft: Draft, request: ModuleRequest): number {
  const key = `${request.kind}\0${request.specifier}\0${request.type ?? ''}`;
  const known = draft.requestOf.get(key);
  if (known !== undefined) {
    if (!request.wantsUrl) delete draft.requests[known]!.wantsUrl;
    return known;
  }
  draft.requestOf.set(key, draft.requests.push({ ...request, specifier: intern(request.specifier) }) - 1);
  return draft.requests.length - 1;
}

/** What a module wants of others by name, for the check that they export it. */
export function importRecords({ bindings, indirect }: ModuleRecord): ImportRecord[] {
  const passedOn = new Set(indirect.map(({ request, imported }) => `${request} ${imported}`));
  const records: ImportRecord[] = [];
  for (const { request, imported } of bindings) {
    if (imported !== null && !passedOn.has(`${request} ${imported}`))
      records.push({ request, name: intern(imported), isPassedOn: false });
  }
  for (const { request, imported } of indirect)
    if (imported !== null) records.push({ request, name: intern(imported), isPassedOn: true });
  return records;
}

/** For each request its index among the static ones; dynamic ones have none. */
export function staticPlaces(requests: readonly ModuleRequest[]): number[] {
  let next = 0;
  return requests.map(({ kind }) => (kind === 'import' ? next++ : -1));
}

/** The names of functions in a text; in comments and strings too. */
function functionNames(text: string): Set<string> {
  const names = new Set<string>();
  for (const match of text.matchAll(functionHead)) names.add(unescapeName(match[1]!));
  return names;
}

const functionHead = new RegExp(
  String.raw`\bfunction(?=[\s*/])(?:${gap}|\*(?!/))*((?:[\p{ID_Continue}$]|\\u(?:[0-9a-fA-F]{4}|\{[0-9a-fA-F]+\}))+)`,
  'gu',
);

function takeExports(draft: Draft, exports: readonly Export[], requestOfImport: readonly number[]): void {
  const bindingOf = new Map(draft.bindings.map((binding) => [binding.local, binding]));
  let lastStatement = -1;
  let isConstant = false;
  for (const record of exports) {
    if (record.type === 'reexport-all') {
      draft.stars.push(requestOfImport[record.importIndex]!);
      continue;
    }
    if (record.type === 'reexport') {
      // `import { a } from 'x'; export { a }` is reported as one of these too, as the standard has it
      // (ECMA-262, 16.2.1.7.1 ParseModule).
      const imported = record.importName === null ? null : unescapeName(record.importName);
      draft.indirect.push({ exported: unescapeName(record.name), request: requestOfImport[record.importIndex]!, imported });
      if (draft.text.startsWith('export', record.exportStart) && record.exportStart !== lastStatement)
        takeExportList(draft, record.exportStart);
      lastStatement = record.exportStart;
      continue;
    }
    if (record.exportStart !== lastStatement) isConstant = takeExport(draft, record.exportStart, record.localName) === 'const';
    lastStatement = record.exportStart;
    const local =
      record.name === 'default' && record.localName === undefined ? draft.defaultName : unescapeName(record.localName!);
    if (isConstant) draft.constants.add(local);
    const binding = bindingOf.get(local);
    if (binding)
      draft.indirect.push({ exported: unescapeName(record.name), request: binding.request, imported: binding.imported });
    else draft.locals.set(unescapeName(record.name), local);
  }
  if (draft.locals.size === 0) return;
  const functions = functionNames(draft.text);
  for (const [exported, local] of draft.locals) if (functions.has(local)) draft.early.add(exported);
}

/** Takes `export { … }`; with `from` its import record has been taken already. */
function takeExportList(draft: Draft, start: number): void {
  const { text } = draft;
  if (draft.taken.has(start)) return;
  for (const word of wordsFrom(text, start)) {
    if (word.kind !== 'mark' || word.value !== '}') continue;
    draft.taken.add(start);
    draft.syntax.push({ kind: 'statement', start, end: word.end });
    return;
  }
}

/** Takes the export keyword of a declaration, or the whole statement where it only lists names. Returns what is declared. */
function takeExport(draft: Draft, start: number, localName: string | undefined): string {
  const { text, syntax } = draft;
  const words = wordsFrom(text, start);
  words.next();
  const next = words.next().value!;
  if (next.value === '{') {
    takeExportList(draft, start);
    return 'names';
  }
  if (next.value !== 'default') {
    syntax.push({ kind: 'keyword', start, end: next.start });
    return next.value;
  }
  const subject = words.next().value!;
  let keyword = subject;
  const afterAsync = subject.value === 'async' ? words.next().value! : undefined;
  // `async` followed by a line end is an ordinary name.
  if (afterAsync?.value === 'function' && !/[\n\r\u2028\u2029]/.test(text.slice(subject.end, afterAsync.start)))
    keyword = afterAsync;
  if (keyword.value !== 'function' && keyword.value !== 'class') {
    syntax.push({ kind: 'value', start, end: subject.start });
    return 'const';
  }
  syntax.push({ kind: 'keyword', start, end: subject.start });
  if (localName !== undefined) return keyword.value;
  let end = keyword.end;
  const star = words.next().value;
  if (keyword.value === 'function' && star?.value === '*') end = star.end;
  syntax.push({ kind: 'name', start: end, end });
  if (keyword.value === 'function') draft.early.add('default');
  return keyword.value;
}
