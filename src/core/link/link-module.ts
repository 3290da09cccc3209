import { type Export, type Import, parse } from 'es-module-lexer';
import { intern } from '../text/intern.js';
import { countLineEnds } from '../text/line-index.js';
import { isPlainBody } from './compiles.js';
import { applyEdits, blank, type Edit } from './edits.js';
import { foldTextually } from './fold-in-text.js';
import type { ImportRecord, Linked, ModuleRequest } from './linked.js';
import { mayBeAssigned } from './may-be-assigned.js';
import { readImportedNames, unescapeName, wordsFrom } from './statement-words.js';

/** What every linking needs beside the text. */
export interface LinkInput {
  text: string;
  /** The module's name for the runtime, not used by the text itself. */
  handle: string;
  /** Expressions that are known at build time, by their source text, e.g. `process.env.NODE_ENV` -> `"development"`. */
  constants: Readonly<Record<string, string>>;
  /**
   * Link in the checked form, for modules whose imports may be read before the exporter has run, as in cycles: every
   * read of an import asks the runtime first, so that it throws where the standard does.
   */
  checked?: boolean;
  /** What the lexer found in `text`, where it was asked before. */
  records?: LexerRecords;
}

/** Import and export records of the lexer. */
export type LexerRecords = ReturnType<typeof parse>;

interface Binding {
  request: number;
  imported: string | null;
  local: string;
}

interface Indirect {
  exported: string;
  request: number;
  imported: string | null;
}

/** What linking collects while it goes through the statements. */
interface Draft {
  input: LinkInput;
  edits: Edit[];
  /** Where statements begin that were blanked. */
  blanked: Set<number>;
  /** Requests by URL -> their places among those. */
  urlPlaces: Map<number, number>;
  requests: ModuleRequest[];
  requestOf: Map<string, number>;
  bindings: Binding[];
  indirect: Indirect[];
  stars: number[];
  /** Exported name -> local name. */
  locals: Map<string, string>;
  /** Locals declared as `export const`, which nothing assigns again. */
  constants: Set<string>;
  /** Exported names whose value is a hoisted function. */
  early: Set<string>;
}

/**
 * Links an ECMAScript module: imports become local variables that the runtime sets, exports become getters, and every
 * other character stays as it is on its own line. Makes no syntax tree except where the text alone leaves something open.
 *
 * @throws the lexer's error where the text is no module; translation has reported that before.
 */
export async function linkModule(input: LinkInput): Promise<Linked> {
  const [imports, exports] = input.records ?? parse(input.text);
  const draft: Draft = {
    input,
    edits: [],
    blanked: new Set(),
    urlPlaces: new Map(),
    requests: [],
    requestOf: new Map(),
    bindings: [],
    indirect: [],
    stars: [],
    locals: new Map(),
    constants: new Set(),
    early: new Set(),
  };
  const requestOfImport = imports.map((record) => takeImport(draft, record));
  takeExports(draft, exports, requestOfImport);
  const imported = draft.bindings.map(({ local }) => local);
  const suspects = new Set([...draft.locals.values(), ...imported].filter((local) => !draft.constants.has(local)));
  let isAsync = false;
  let importWrites: Linked['importWrites'] = [];
  let isParsed = false;
  const folds = input.checked ? undefined : foldTextually(input.text, input.constants);
  const known = folds ? withoutTree(draft, suspects) : undefined;
  if (known) {
    draft.edits.push(...folds!);
    isParsed = known.isParsed;
  } else {
    const { analyseModule } = await import('./module-analysis.js');
    const exportedAs = groupByLocal(draft.locals);
    const analysis = analyseModule({ ...input, imported, exportedAs, isChecked: input.checked === true });
    draft.edits.push(...analysis.edits);
    isAsync = analysis.isAsync;
    importWrites = analysis.importWrites;
  }
  const { text, shifts } = applyEdits(input.text, withoutNested(draft.edits));
  const code = `${header(draft, isAsync)}\n${text}\n${isAsync ? `${input.handle}.done();\n` : ''}}`;
  return {
    format: 'module',
    code,
    lineEnds: countLineEnds(code),
    shifts,
    requests: draft.requests,
    imports: importRecords(draft),
    exports: [...draft.locals.keys(), ...draft.indirect.map(({ exported }) => exported)].map(intern),
    stars: draft.stars,
    importWrites,
    hasBindings: draft.bindings.length > 0,
    isEarly: draft.early.size > 0,
    ...(isParsed ? { isParsed } : {}),
  };
}

/**
 * `undefined` where linking needs a syntax tree: there is a top-level `await`, an exported or imported name (`suspects`) may be
 * assigned, `export {}` or `arguments` may stand at the top, or the text holds what a classic script would take for an
 * HTML comment. Errs towards that. Else whether an engine has parsed the body meanwhile.
 */
function withoutTree({ input, edits }: Draft, suspects: ReadonlySet<string>): { isParsed: boolean } | undefined {
  const { text } = input;
  if (text.includes('<!--') || (text.includes('-->') && /^\s*-->/m.test(text))) return undefined;
  if (text.includes('export') && /\bexport\s*\{\s*\}/.test(text)) return undefined;
  if (suspects.size > 0 && mayBeAssigned(text, suspects)) return undefined;
  if (!/\bawait\b|\barguments\b/.test(text)) return { isParsed: false };
  // `super` may stand in a static block and not in a function.
  const isParsed = !/\bsuper\b/.test(text);
  return isPlainBody(applyEdits(text, withoutNested([...edits])).text) ? { isParsed } : undefined;
}

/** Records one import of any kind and edits its text. Returns the index of its request, -1 where it has none. */
function takeImport(draft: Draft, record: Import): number {
  const { input, edits } = draft;
  const { handle, text } = input;
  if (record.type === 'import-meta') {
    edits.push({ start: record.start, end: record.end, text: `${handle}.meta`.padEnd(record.end - record.start) });
    takeUrl(draft, record.start, record.end);
    return -1;
  }
  if (record.type === 'dynamic') {
    // `import(` and `my.get(` are equally long, so nothing moves.
    edits.push({ start: record.importStart, end: record.importStart + 6, text: `${handle}.get` });
    const pattern = record.glob
      ? record.specifier
      : record.specifier === undefined
        ? patternOf(text.slice(record.start, record.end))
        : undefined;
    if (pattern !== undefined) {
      const isOne = /^\.{1,2}\/[^*]*\*[^*]*$/.test(pattern);
      return isOne
        ? addRequest(draft, { kind: 'dynamic', specifier: pattern, isPattern: true, start: record.start, end: record.end })
        : -1;
    }
    if (record.specifier === undefined) return -1;
    const type =
      record.attributesStart === -1
        ? undefined
        : /\btype['"]?\s*:\s*(['"])(.*?)\1/.exec(text.slice(record.attributesStart, record.importEnd))?.[2];
    return addRequest(draft, {
      kind: 'dynamic',
      specifier: record.specifier,
      start: record.start,
      end: record.end,
      ...(type ? { type } : {}),
    });
  }
  const type = record.attributes?.find(([key]) => key === 'type')?.[1];
  const request = addRequest(draft, {
    kind: 'import',
    specifier: record.specifier,
    start: record.start,
    end: record.end,
    ...(type ? { type } : {}),
  });
  draft.blanked.add(record.importStart);
  edits.push(blank(text, record.importStart, record.importEnd));
  if (text.startsWith('import', record.importStart)) {
    for (const name of readImportedNames(text, record.importStart, record.importEnd)) draft.bindings.push({ request, ...name });
  }
  return request;
}

/** `new URL('./worker.ts', import.meta.url)`: the literal becomes a call that gives the file's URL, as long where it fits. */
function takeUrl(draft: Draft, start: number, end: number): void {
  const { text, handle } = draft.input;
  if (!/^\s*\.\s*url\s*[,)]/.test(text.slice(end, end + 40))) return;
  const before = /(?:new\s+((?:Shared)?Worker)\s*\(\s*)?new\s+URL\s*\(\s*((['"])((?:\.{0,2}\/|[\w@])[^'"\\:]*)\3)\s*,\s*$/.exec(
    text.slice(Math.max(0, start - 400), start),
  );
  if (!before) return;
  const literal = before[2]!;
  const at = text.lastIndexOf(literal, start);
  const known = draft.requests.length;
  const request = addRequest(draft, {
    kind: before[1] ? 'worker' : 'url',
    specifier: before[4]!,
    start: at + 1,
    end: at + literal.length - 1,
  });
  if (request === known) draft.urlPlaces.set(request, draft.urlPlaces.size);
  const place = draft.urlPlaces.get(request)!;
  draft.edits.push({ start: at, end: at + literal.length, text: `${handle}.at(${place})`.padEnd(literal.length) });
}

/** `'./berths/' + name + '.ts'` -> `./berths/*.ts`: strings with one expression between them. */
function patternOf(expression: string): string | undefined {
  const parts = /^\s*(['"])(\.{1,2}\/[^'"\\*]*)\1\s*\+([^'"`]+?)(?:\+\s*(['"])([^'"\\*]*)\4\s*)?$/.exec(expression);
  return parts ? `${parts[2]}*${parts[5] ?? ''}` : undefined;
}

function addRequest(draft: Draft, request: ModuleRequest): number {
  const key = `${request.kind}\0${request.specifier}\0${request.type ?? ''}`;
  const known = draft.requestOf.get(key);
  if (known !== undefined) return known;
  draft.requestOf.set(key, draft.requests.push({ ...request, specifier: intern(request.specifier) }) - 1);
  return draft.requests.length - 1;
}

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
      if (draft.input.text.startsWith('export', record.exportStart) && record.exportStart !== lastStatement)
        blankExportList(draft, record.exportStart);
      lastStatement = record.exportStart;
      continue;
    }
    if (record.exportStart !== lastStatement) isConstant = editExport(draft, record.exportStart, record.localName) === 'const';
    lastStatement = record.exportStart;
    const local =
      record.name === 'default' && record.localName === undefined ? `${draft.input.handle}_d` : unescapeName(record.localName!);
    if (isConstant) draft.constants.add(local);
    const binding = bindingOf.get(local);
    if (binding)
      draft.indirect.push({ exported: unescapeName(record.name), request: binding.request, imported: binding.imported });
    else draft.locals.set(unescapeName(record.name), local);
  }
  if (draft.locals.size === 0) return;
  const functions = functionNames(draft.input.text);
  for (const [exported, local] of draft.locals) if (functions.has(local)) draft.early.add(exported);
}

/** The names of functions in a text; in comments and strings too. */
function functionNames(text: string): Set<string> {
  const names = new Set<string>();
  for (const match of text.matchAll(functionHead)) names.add(unescapeName(match[1]!));
  return names;
}

const functionHead =
  /\bfunction(?=[\s*/])(?:\s|\*(?!\/)|\/\*[\s\S]*?\*\/|\/\/[^\n\r\u2028\u2029]*)*((?:[\p{ID_Continue}$]|\\u(?:[0-9a-fA-F]{4}|\{[0-9a-fA-F]+\}))+)/gu;

/** Blanks `export { … }` of names that were imported; with `from` its import record has been blanked already. */
function blankExportList(draft: Draft, start: number): void {
  const { text } = draft.input;
  if (draft.blanked.has(start)) return;
  for (const word of wordsFrom(text, start)) {
    if (word.kind !== 'mark' || word.value !== '}') continue;
    draft.blanked.add(start);
    draft.edits.push(blank(text, start, word.end));
    return;
  }
}

/** Takes the export keyword away from a declaration, or the whole statement where it only lists names. Returns what is declared. */
function editExport(draft: Draft, start: number, localName: string | undefined): string {
  const { text, handle } = draft.input;
  const words = wordsFrom(text, start);
  words.next();
  const next = words.next().value!;
  if (next.value === '{') {
    blankExportList(draft, start);
    return 'names';
  }
  if (next.value !== 'default') {
    draft.edits.push(blank(text, start, next.start));
    return next.value;
  }
  const subject = words.next().value!;
  let keyword = subject;
  const afterAsync = subject.value === 'async' ? words.next().value! : undefined;
  // `async` followed by a line end is an ordinary name.
  if (afterAsync?.value === 'function' && !/[\n\r\u2028\u2029]/.test(text.slice(subject.end, afterAsync.start)))
    keyword = afterAsync;
  if (keyword.value !== 'function' && keyword.value !== 'class') {
    const room = subject.start - start;
    const ends = text.slice(start, subject.start).replace(/[^\n\r\u2028\u2029]/g, '');
    draft.edits.push({ start, end: subject.start, text: `const ${handle}_d = ${ends}`.padEnd(room) });
    return 'const';
  }
  draft.edits.push(blank(text, start, subject.start));
  if (localName !== undefined) return keyword.value;
  let end = keyword.end;
  const star = words.next().value;
  if (keyword.value === 'function' && star?.value === '*') end = star.end;
  draft.edits.push({ start: end, end, text: ` ${handle}_d` });
  if (keyword.value === 'function') draft.early.add('default');
  return keyword.value;
}

/** Edits inside a blanked statement go with it. */
function withoutNested(edits: Edit[]): Edit[] {
  edits.sort((a, b) => a.start - b.start || b.end - a.end);
  const kept: Edit[] = [];
  for (const edit of edits) {
    const last = kept.at(-1);
    if (last && edit.start < last.end && edit.end <= last.end && edit.start !== edit.end) continue;
    kept.push(edit);
  }
  return kept;
}

function groupByLocal(locals: ReadonlyMap<string, string>): Map<string, string[]> {
  const groups = new Map<string, string[]>();
  for (const [exported, local] of locals) {
    const group = groups.get(local);
    if (group) group.push(exported);
    else groups.set(local, [exported]);
  }
  return groups;
}

function importRecords({ bindings, indirect }: Draft): ImportRecord[] {
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

/** The first line of a linked module: variables for imports, getters for exports, and the pause before the body. */
function header(draft: Draft, isAsync: boolean): string {
  const { handle } = draft.input;
  // Requests of dynamic imports are looked up by specifier, static ones by their place among the static ones.
  const place = staticPlaces(draft.requests);
  let out = `${isAsync ? 'async ' : ''}function* (${handle}) { "use strict";`;
  if (draft.bindings.length > 0) {
    const locals = draft.bindings.map(({ local }) => local).join(', ');
    const escaping = escapingNames(
      draft.input.text,
      draft.bindings.filter(({ imported }) => imported === null).map(({ local }) => local),
    );
    const parts = draft.bindings.map(({ request, imported, local }) => {
      const value = local === 'v' ? 'w' : 'v';
      const whole = imported === null && escaping.has(local) ? ', true' : '';
      return `[${place[request]}, ${JSON.stringify(imported)}, (${value}) => { ${local} = ${value}; }${whole}]`;
    });
    out += ` let ${locals}; ${handle}.bind([${parts.join(', ')}]);`;
  }
  if (draft.locals.size > 0 || draft.indirect.length > 0 || draft.stars.length > 0) {
    const getters = [...draft.locals].map(([exported, local]) => `${propertyKey(exported)}: () => ${local}`).join(', ');
    const rest: unknown[] = [
      [...draft.early],
      draft.indirect.map(({ exported, request, imported }) => [exported, place[request], imported]),
      draft.stars.map((request) => place[request]),
    ];
    while (rest.length > 0 && (rest.at(-1) as unknown[]).length === 0) rest.pop();
    out += ` ${handle}.exports({${getters ? ` ${getters} ` : ''}}${rest.map((part) => `, ${JSON.stringify(part)}`).join('')});`;
  }
  return `${out} yield;`;
}

/** Which namespace objects are used in any way but `name.member`, so that what they are can be told. Errs towards yes. */
function escapingNames(text: string, locals: readonly string[]): Set<string> {
  const left = new Map(locals.map((local) => [local, 1]));
  if (left.size === 0) return new Set();
  for (const match of text.matchAll(/(?<![\p{ID_Continue}$.])([\p{ID_Start}$_][\p{ID_Continue}$]*)(\s*\??\.\s*[A-Za-z_$])?/gu)) {
    const count = left.get(match[1]!);
    if (count !== undefined && match[2] === undefined) left.set(match[1]!, count - 1);
  }
  // One use is the import itself.
  return new Set([...left].filter(([, count]) => count < 0).map(([local]) => local));
}

/** For each request its index among the static ones; dynamic ones have none. */
export function staticPlaces(requests: readonly ModuleRequest[]): number[] {
  let next = 0;
  return requests.map(({ kind }) => (kind === 'import' ? next++ : -1));
}

/** `{ __proto__: … }` would set a prototype, and other names may be no identifiers. */
function propertyKey(name: string): string {
  if (name === '__proto__') return '["__proto__"]';
  return /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
}
