import type { TransformOptions, TransformResult } from 'oxc-transform';
import { chooseHandle } from '../link/handle.js';
import type { RawMap } from '../maps/raw-map.js';
import type { Mode } from '../mode.js';
import { type Problem, problemAt } from '../problem/problem.js';
import type { Wanted } from './place-names.js';
import type { ScriptOptions } from './script-options.js';

/** Plain JavaScript made of a source, with the map back to it; no map where the text is the source itself. */
export interface Translated {
  text: string;
  map?: RawMap;
  /** The name that the linked form uses for the runtime, free in the source. */
  handle: string;
  /** What the targets don't know and can't be written in another way. */
  warnings?: Problem[];
}

/** What a build's scripts have to be understood by. */
export interface ScriptTargets {
  /** Edition of ECMAScript. */
  edition: number;
}

export interface TranslateOptions {
  /** Path relative to the project; the extension decides the language. */
  id: string;
  /** Files of packages run as they are shipped, unless they are TypeScript or JSX. */
  inPackage: boolean;
  /** In development, elements know where they were made. */
  mode: Mode;
  /** Add the marks by which React keeps the state of components across updates. */
  refresh: boolean;
  options: ScriptOptions;
  /** Members with the keyword `accessor` are written in another way. */
  lowersAccessors?: boolean;
  /** In a build; the dev server serves current browsers whatever is written here. */
  targets?: ScriptTargets | undefined;
  /** Whether a file of plain JavaScript is CommonJS, so that what is added to it has to be asked for by `require`. */
  isCommonJs?(): Promise<boolean>;
}

const typescript = /\.[mc]?tsx?$/;
/** Cheap signs that a JavaScript file holds JSX or React hooks. A false alarm only costs a translation. */
const mayHoldReact = /<[A-Za-z>]|\buse[A-Z]/;

/** What a script is read as, by its name; `inPackage`: it holds no JSX but where its name says so. */
export function languageOf(name: string, source: string, inPackage: boolean): 'js' | 'jsx' | 'ts' | 'tsx' {
  const isJsx = name.endsWith('x');
  if (typescript.test(name)) return isJsx ? 'tsx' : 'ts';
  return isJsx || (!inPackage && mayHoldReact.test(source)) ? 'jsx' : 'js';
}

/** Translates TypeScript and JSX to JavaScript, or returns the source untouched where nothing needs to change. */
export async function translateScript(written: string, options: TranslateOptions): Promise<Translated | Problem> {
  // A line for shells is one behind a byte order mark too, which readers of files take away.
  const source = written.replace(/^\uFEFF#!/, '// ');
  const handle = chooseHandle(source);
  const lang = languageOf(options.id, source, options.inPackage);
  const isTypeScript = lang === 'ts' || lang === 'tsx';
  const { targets } = options;
  const mayBeTooNew = targets !== undefined && (targets.edition < 2022 || newest.test(source));
  if (lang === 'js' && !mayBeTooNew && !options.lowersAccessors) return { text: source, handle };
  const { jsx, legacyDecorators, decoratorMetadata, verbatimImports, definedFields } = options.options;
  const { transform } = await translator();
  await nextBatch();
  const target = targetOf(targets, definedFields);
  const filled = isTypeScript && mayExportVariables(source) ? await filledIn(source, lang as 'ts') : undefined;
  const asked = filled?.text ?? source;
  // Fields can only be made assignments where they are taken apart, which syntax before 2022 asks for.
  const lowering = { ...(definedFields ? {} : { assumptions: { setPublicClassFields: true } }), ...target };
  // Where fields are assigned, what the constructor's parameters declare comes before them, which two steps would turn round. Where they
  // are defined it comes behind them, which one step would.
  const isLowered = target.target !== undefined && target.target !== 'es2022';
  const isDecorated = legacyDecorators && source.includes('@') && (definedFields || using.test(source));
  const isInTwo = isLowered && (isDecorated || (definedFields && isTypeScript && mayDeclareFields.test(source)));
  // Fields that become assignments give no names.
  const wanted = { ofFields: definedFields, ofDecorated: legacyDecorators && !isInTwo && source.includes('@') };
  const named = isLowered && !isInTwo ? await withNames(asked, lang, wanted) : undefined;
  const whole = await transform(options.id, named?.text ?? asked, {
    lang,
    sourceType: options.id.endsWith('.cts') || (lang === 'js' && (await options.isCommonJs?.())) ? 'commonjs' : 'module',
    sourcemap: true,
    // That is a part of what it does with older decorators.
    decorator: { legacy: legacyDecorators || options.lowersAccessors === true, emitDecoratorMetadata: decoratorMetadata },
    typescript: { onlyRemoveTypeImports: verbatimImports, removeClassFieldsWithoutInitializer: !definedFields },
    ...(isInTwo ? {} : lowering),
    jsx: {
      runtime: jsx.runtime,
      development: options.mode === 'development' && jsx.runtime === 'automatic',
      ...(jsx.importSource ? { importSource: jsx.importSource } : {}),
      ...(jsx.pragma ? { pragma: jsx.pragma } : {}),
      ...(jsx.pragmaFragment ? { pragmaFrag: jsx.pragmaFragment } : {}),
      ...(options.refresh && !options.inPackage ? { refresh: { refreshReg: `${handle}.reg`, refreshSig: `${handle}.sig` } } : {}),
    },
  });
  const first: Step = { ...whole, map: whole.map as RawMap, given: named?.text ?? asked };
  const made = isInTwo && whole.errors.length === 0 ? await loweredAfter(first, options.id, lowering, wanted) : first;
  const edits = [named?.map, filled?.map].filter((map) => map !== undefined);
  const error = made.errors.find(({ severity }) => severity === 'Error');
  if (error) {
    const { start = 0, end = 1 } = error.labels[0] ?? {};
    const place = await placing(made, edits, source);
    const text = hintOf(error.helpMessage);
    return problemAt(
      { file: options.id, text: source, start: place(start), end: place(end) },
      { code: 'syntax-error', message: sentence(error.message), ...(text === undefined ? {} : { hint: text }) },
    );
  }
  const told = made.errors.filter(({ message }) => /target environment/.test(message) && !/^Top-level await/.test(message));
  const plain = { text: made.code, map: await chained(made.map, named ? [named.map] : []) };
  const ordered = legacyDecorators && source.includes('static') && source.includes('@') ? await inOrder(plain) : plain;
  const mended = isTypeScript && namespaceWritten.test(made.code) ? await mendedNamespaces(ordered) : ordered;
  const place = told.length > 0 ? await placing(made, edits, source) : undefined;
  return {
    text: mended.text,
    map: await chained(mended.map, filled ? [filled.map] : []),
    handle,
    ...(place ? { warnings: told.map(({ message, labels }) => notLowered(options.id, source, message, labels[0], place)) } : {}),
  };
}

/** What the translator has made of the text that it was given. */
interface Step extends Pick<TransformResult, 'code' | 'errors'> {
  map: RawMap;
  given: string;
  /** From that text to the one that the step before was given. */
  toFirst?: RawMap;
}

/** A map led on through others. */
async function chained(map: RawMap, others: readonly RawMap[]): Promise<RawMap> {
  if (others.length === 0) return map;
  const { chainMaps } = await import('../maps/raw-map.js');
  return others.reduce(chainMaps, map);
}

/** Finds where something stands in the source that the translator tells of in what it was given, in bytes; `edits` lead from there. */
async function placing({ given, toFirst }: Step, edits: readonly RawMap[], source: string): Promise<(bytes: number) => number> {
  const [map, ...others] = [...(toFirst ? [toFirst] : []), ...edits];
  if (!map) return (bytes) => utf16Offset(source, bytes);
  const toSource = await chained(map, others);
  const { sourcePosition } = await import('./source-position.js');
  return (bytes) => sourcePosition(toSource, given, utf16Offset(given, bytes), source);
}

/** Signs of a constructor whose parameters declare fields. A false alarm costs a translation. */
const mayDeclareFields =
  /\bconstructor\s*\((?:[^{}]|\{[^{};]*\}){0,3000}?\b(?:public|private|protected|readonly|override)\s+[\w$]/;

/** Signs of a variable that a namespace of TypeScript may export. A false alarm costs a syntax tree. */
function mayExportVariables(source: string): boolean {
  return /\bexport\s+(?:let|var)\b/.test(source) && /\b(?:namespace|module)\s+[^\s{}]+\s*\{/.test(source);
}

/** What a namespace of TypeScript ends with after translation. */
const namespaceWritten = /\}\)\(([\p{ID_Continue}$]+) \|\| \(\1 = /u;

async function filledIn(source: string, lang: 'ts' | 'tsx') {
  return (await import('./namespaces.js')).withInitializers(source, lang);
}

async function inOrder(plain: { text: string; map: RawMap }) {
  return (await import('./decorator-order.js')).mendDecoratorOrder(plain.text, plain.map) ?? plain;
}

async function mendedNamespaces(plain: { text: string; map: RawMap }) {
  return (await import('./namespaces.js')).mendNamespaces(plain.text, plain.map) ?? plain;
}

/** Lowers what was translated. */
async function loweredAfter({ code, map }: Step, id: string, lowering: TransformOptions, wanted: Wanted): Promise<Step> {
  const { transform } = await translator();
  const named = await withNames(code, 'js', wanted);
  const given = named?.text ?? code;
  const lowered = await transform(`${id}.js`, given, { lang: 'js', sourceType: 'module', sourcemap: true, ...lowering });
  const toFirst = named ? await chained(named.map, [map]) : map;
  return { ...lowered, map: await chained(lowered.map as RawMap, [toFirst]), given, toFirst };
}

async function withNames(text: string, lang: 'js' | 'jsx' | 'ts' | 'tsx', wanted: Wanted) {
  return (await import('./place-names.js')).withNamesOfPlaces(text, lang, wanted);
}

const using = /\busing\s+[\w$]/;

/** Signs of syntax that came after ECMAScript 2022. A false alarm only costs a translation. */
const newest = /\busing\s+[\w$]|\/[dgimsuy]*v[dgimsuy]*\b/;

function targetOf(targets: ScriptTargets | undefined, definedFields: boolean): { target?: string } {
  const edition = Math.min(targets?.edition ?? Number.POSITIVE_INFINITY, definedFields ? Number.POSITIVE_INFINITY : 2021);
  return edition === Number.POSITIVE_INFINITY ? {} : { target: `es${edition}` };
}

function notLowered(
  file: string,
  text: string,
  message: string,
  label: { start: number; end: number } | undefined,
  place: (bytes: number) => number,
): Problem {
  const [start, end] = [place(label?.start ?? 0), place(label?.end ?? 1)];
  return problemAt(
    { file, text, start, end },
    {
      code: 'not-lowered',
      message: sentence(message.replace('the configured target environment', 'all of the targets')),
      hint: 'There is no other way to write it, so it stays. Leave the browsers that do not know it out of the targets, or do without it.',
    },
  );
}

/** The translator, loaded when it's first needed. */
let loaded: Promise<typeof import('oxc-transform')> | undefined;
function translator(): Promise<typeof import('oxc-transform')> {
  loaded ??= import('oxc-transform');
  return loaded;
}

let batch: Promise<void> | undefined;

/** Translations are handed to the threads together: waking a thread for each takes longer than what it then does. */
function nextBatch(): Promise<void> {
  batch ??= new Promise((resolve) =>
    setImmediate(() => {
      batch = undefined;
      resolve();
    }),
  );
  return batch;
}

/** The translator counts bytes of UTF-8 in its errors, we count UTF-16 code units. */
function utf16Offset(text: string, byteOffset: number): number {
  return Buffer.from(text).subarray(0, byteOffset).toString().length;
}

function sentence(message: string): string {
  const text = message.trim();
  return /[.!?]$/.test(text) ? text : `${text}.`;
}

function hintOf(help: string | null): string | undefined {
  return help ? sentence(help) : undefined;
}
