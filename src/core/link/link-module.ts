import { parse } from 'es-module-lexer';
import { intern } from '../text/intern.js';
import { countLineEnds } from '../text/line-index.js';
import { isPlainBody, letThrough } from './compiles.js';
import { applyEdits, blank, type Edit } from './edits.js';
import { foldTextually } from './fold-in-text.js';
import type { Linked, LinkInput } from './linked.js';
import { mayBeAssigned } from './may-be-assigned.js';
import { type Indirect, importRecords, type ModuleRecord, recordModule, type Syntax, staticPlaces } from './module-record.js';
import { makesPaths } from './url-places.js';

/** A module's record with what linking does to its text. */
interface Draft extends ModuleRecord {
  input: LinkInput;
  edits: Edit[];
}

/**
 * Links an ECMAScript module: imports become local variables that the runtime sets, exports become getters, and every
 * other character stays as it is on its own line. Makes no syntax tree except where the text alone leaves something open.
 *
 * @throws the lexer's error where the text is no module; translation has reported that before.
 */
export async function linkModule(input: LinkInput): Promise<Linked> {
  const { text } = input;
  const scripts = text.includes('importScripts') ? (await import('./script-imports.js')).allScriptsNamed(text) : undefined;
  const records = input.records ?? parse(text);
  const parser = makesPaths(text, records[0]) ? (await import('oxc-parser')).parseSync : undefined;
  const record = recordModule({ text, records, defaultName: `${input.handle}_d`, scripts, parser });
  const draft: Draft = { ...record, input, edits: record.syntax.flatMap((place) => editsOf(place, input)) };
  const imported = draft.bindings.map(({ local }) => local);
  const suspects = new Set([...draft.locals.values(), ...imported].filter((local) => !draft.constants.has(local)));
  let isAsync = false;
  let importWrites: Linked['importWrites'] = [];
  let isParsed = false;
  const folds = input.checked ? undefined : foldTextually(text, input.constants);
  const known = folds ? withoutTree(draft, suspects, imported) : undefined;
  if (known) {
    draft.edits.push(...folds!);
    isParsed = known.isParsed;
  } else {
    const { analyseModule } = await import('./module-analysis.js');
    const exportedAs = groupByLocal(draft.locals);
    const analysis = analyseModule({ ...input, imported, exportedAs, folds, isChecked: input.checked === true });
    draft.edits.push(...analysis.edits);
    isAsync = analysis.isAsync;
    importWrites = analysis.importWrites;
  }
  const { text: linked, shifts } = applyEdits(text, withoutNested(draft.edits));
  const code = `${header(draft, isAsync)}\n${linked}\n${isAsync ? `${input.handle}.done();\n` : ''}}`;
  return {
    format: 'module',
    code,
    lineEnds: countLineEnds(code),
    shifts,
    requests: draft.requests,
    imports: importRecords(draft),
    exports: [...draft.locals.keys(), ...draft.indirect.map(({ exported }) => exported)].map(intern),
    ...(draft.indirect.length > 0 ? { passedOn: draft.indirect.map(internNames) } : {}),
    stars: draft.stars,
    importWrites,
    hasBindings: draft.bindings.length > 0,
    isEarly: draft.early.size > 0,
    ...(isParsed ? { isParsed } : {}),
  };
}

/**
 * `a<!--b`, which begins a comment in a script (ECMA-262, B.1.1): behind the mark there has to stand what can be made less. In strings and
 * expressions that look for it, mostly something else does.
 */
const mayComment = /<!--\s*[^\s|)\],;:?<>=*%^&!~+-]/;

function internNames({ exported, request, imported }: Indirect): Indirect {
  return { exported: intern(exported), request, imported: imported === null ? null : intern(imported) };
}

/**
 * `undefined` where linking needs a syntax tree: there is a top-level `await`, an exported or imported name (`suspects`) may be
 * assigned, `export {}` or `arguments` may stand at the top, or the text holds what a classic script would take for an
 * HTML comment. Errs towards that. Else whether an engine has parsed the body meanwhile.
 */
function withoutTree(
  { input, edits }: Draft,
  suspects: ReadonlySet<string>,
  imported: readonly string[],
): { isParsed: boolean } | undefined {
  const { text } = input;
  if (mayComment.test(text) || (text.includes('-->') && /^[^\S\n]*-->/m.test(text))) return undefined;
  if (text.includes('export') && /\bexport\s*\{\s*\}/.test(text)) return undefined;
  if (suspects.size > 0 && mayBeAssigned(text, suspects)) return undefined;
  if (!/\bawait\b|\barguments\b/.test(text)) return { isParsed: false };
  const isParsed = !letThrough.test(text);
  const declared = imported.length > 0 ? `let ${imported.join()};` : '';
  return isPlainBody(declared + applyEdits(text, withoutNested([...edits])).text) ? { isParsed } : undefined;
}

function editsOf(place: Syntax, input: LinkInput): Edit[] {
  if (place.kind !== 'urls') return [editOf(place, input)];
  const { start, end } = place;
  return [
    { start, end: start, text: `${input.handle}.pathOf(` },
    { start: end, end, text: ')' },
  ];
}

/** What the linked form has in the place of a piece of syntax: as long as that wherever it fits, and with its line ends. */
function editOf(place: Exclude<Syntax, { kind: 'urls' }>, { text, handle, isBuilt }: LinkInput): Edit {
  const { start, end } = place;
  const room = end - start;
  switch (place.kind) {
    case 'statement':
    case 'keyword':
      return blank(text, start, end);
    case 'value': {
      const ends = text.slice(start, end).replace(/[^\n\r\u2028\u2029]/g, '');
      return { start, end, text: `const ${handle}_d = ${ends}`.padEnd(room) };
    }
    case 'name':
      return { start, end, text: ` ${handle}_d` };
    case 'meta': {
      const live = isBuilt ? /^\s*\.\s*live(?![\w$])/.exec(text.slice(end, end + 100)) : null;
      if (live && !/[\n\r\u2028\u2029]/.test(live[0]))
        return { start, end: end + live[0].length, text: 'undefined'.padEnd(room + live[0].length) };
      return { start, end, text: `${handle}.meta`.padEnd(room) };
    }
    case 'dynamic':
      // `import(` and `my.get(` are equally long, so nothing moves.
      return { start, end, text: `${handle}.get` };
    case 'url':
      return { start, end, text: `${handle}.at(${place.place})`.padEnd(room) };
  }
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
  return locals.length <= fewNames ? new Set(locals.filter((local) => escapes(text, local))) : escapingOfMany(text, locals);
}

/** So many are looked for one after another, which takes less time than reading all words. */
const fewNames = 3;

function escapingOfMany(text: string, locals: readonly string[]): Set<string> {
  const left = new Map(locals.map((local) => [local, 1]));
  for (const match of text.matchAll(
    /(?<![\p{ID_Continue}$]|(?<!\.\.)\.)([\p{ID_Start}$_][\p{ID_Continue}$]*)(\s*\??\.\s*[A-Za-z_$])?/gu,
  )) {
    const count = left.get(match[1]!);
    if (count !== undefined && match[2] === undefined) left.set(match[1]!, count - 1);
  }
  // One use is the import itself.
  return new Set([...left].filter(([, count]) => count < 0).map(([local]) => local));
}

function escapes(text: string, local: string): boolean {
  // One use is the import itself.
  let isImport = true;
  for (let at = text.indexOf(local); at !== -1; at = text.indexOf(local, at + local.length)) {
    const end = at + local.length;
    const isMember = text[at - 1] === '.' && !text.startsWith('...', at - 3);
    if (isMember || isNamePart(text.charCodeAt(at - 1)) || isNamePart(text.charCodeAt(end))) continue;
    memberBehind.lastIndex = end;
    if (memberBehind.test(text)) continue;
    if (!isImport) return true;
    isImport = false;
  }
  return false;
}

const memberBehind = /\s*\??\.\s*[A-Za-z_$]/y;

/** Whether a code unit belongs to a name. */
function isNamePart(code: number): boolean {
  if (code > 127) return /[\p{ID_Continue}\u200c\u200d]/u.test(String.fromCharCode(code));
  return (code >= 97 && code <= 122) || (code >= 65 && code <= 90) || (code >= 48 && code <= 57) || code === 36 || code === 95;
}

/** `{ __proto__: … }` would set a prototype, and other names may be no identifiers. */
function propertyKey(name: string): string {
  if (name === '__proto__') return '["__proto__"]';
  return /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
}
