import type { TransformOptions, TransformResult } from 'oxc-transform';
import { chooseHandle } from '../link/handle.js';
import type { Mode } from '../mode.js';
import { type Problem, problemAt } from '../problem/problem.js';
import type { Wanted } from './class-names.js';
import type { RawMap } from './raw-map.js';
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

/** Translates TypeScript and JSX to JavaScript, or returns the source untouched where nothing needs to change. */
export async function translateScript(written: string, options: TranslateOptions): Promise<Translated | Problem> {
  // A line for shells is one behind a byte order mark too, which readers of files take away.
  const source = written.replace(/^\uFEFF#!/, '// ');
  const handle = chooseHandle(source);
  const isTypeScript = typescript.test(options.id);
  const isJsx = options.id.endsWith('x');
  const { targets } = options;
  const mayBeTooNew = targets !== undefined && (targets.edition < 2022 || newest.test(source));
  const isPlain = !isTypeScript && !isJsx && (options.inPackage || !mayHoldReact.test(source));
  if (isPlain && !mayBeTooNew && !options.lowersAccessors) return { text: source, handle };
  const { jsx, legacyDecorators, decoratorMetadata, verbatimImports, definedFields } = options.options;
  const { transform } = await translator();
  await nextBatch();
  const lang = isTypeScript ? (isJsx ? 'tsx' : 'ts') : isPlain ? 'js' : 'jsx';
  const target = targetOf(targets, definedFields);
  const filled = isTypeScript && mayExportVariables(source) ? await filledIn(source, lang as 'ts') : undefined;
  const asked = filled?.text ?? source;
  // Fields can only be made assignments where they are taken apart, which syntax before 2022 asks for.
  const lowering = { ...(definedFields ? {} : { assumptions: { setPublicClassFields: true } }), ...target };
  // Where fields are assigned, what the constructor's parameters declare comes before them, which two steps would turn round.
  const isLowered = target.target !== undefined && target.target !== 'es2022';
  const isInTwo = isLowered && legacyDecorators && source.includes('@') && (definedFields || using.test(source));
  // Fields that become assignments give no names.
  const wanted = { ofFields: definedFields, ofDecorated: legacyDecorators && !isInTwo && source.includes('@') };
  const named = isLowered && !isInTwo ? await withNames(asked, lang, wanted) : undefined;
  const whole = await transform(options.id, named?.text ?? asked, {
    lang,
    sourceType: options.id.endsWith('.cts') || (isPlain && (await options.isCommonJs?.())) ? 'commonjs' : 'module',
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
  const result = isInTwo && whole.errors.length === 0 ? await loweredAfter(whole, options.id, lowering, wanted) : whole;
  const error = result.errors.find(({ severity }) => severity === 'Error');
  if (error) {
    const label = error.labels[0];
    const text = hintOf(error.helpMessage);
    return problemAt(
      {
        file: options.id,
        text: source,
        start: utf16Offset(source, label?.start ?? 0),
        end: utf16Offset(source, label?.end ?? 1),
      },
      { code: 'syntax-error', message: sentence(error.message), ...(text === undefined ? {} : { hint: text }) },
    );
  }
  const warnings = result.errors.filter(({ message }) => /target environment/.test(message) && !/^Top-level await/.test(message));
  const map = result.map as RawMap;
  const plain = { text: result.code, map: named ? (await import('./raw-map.js')).chainMaps(map, named.map) : map };
  const ordered = legacyDecorators && source.includes('static') && source.includes('@') ? await inOrder(plain) : plain;
  const mended = isTypeScript && namespaceWritten.test(result.code) ? await mendedNamespaces(ordered) : ordered;
  return {
    text: mended.text,
    map: filled ? (await import('./raw-map.js')).chainMaps(mended.map, filled.map) : mended.map,
    handle,
    ...(warnings.length > 0
      ? { warnings: warnings.map(({ message, labels }) => notLowered(options.id, source, message, labels[0])) }
      : {}),
  };
}

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
async function loweredAfter(
  { code, map }: TransformResult,
  id: string,
  lowering: TransformOptions,
  wanted: Wanted,
): Promise<TransformResult> {
  const { transform } = await translator();
  const named = await withNames(code, 'js', wanted);
  const lowered = await transform(`${id}.js`, named?.text ?? code, {
    lang: 'js',
    sourceType: 'module',
    sourcemap: true,
    ...lowering,
  });
  const { chainMaps } = await import('./raw-map.js');
  const own = named ? chainMaps(lowered.map as RawMap, named.map) : (lowered.map as RawMap);
  return { ...lowered, map: chainMaps(own, map as RawMap) as NonNullable<TransformResult['map']> };
}

async function withNames(text: string, lang: 'js' | 'jsx' | 'ts' | 'tsx', wanted: Wanted) {
  return (await import('./class-names.js')).withNamesOfPlaces(text, lang, wanted);
}

const using = /\busing\s+[\w$]/;

/** Signs of syntax that came after ECMAScript 2022. A false alarm only costs a translation. */
const newest = /\busing\s+[\w$]|\/[dgimsuy]*v[dgimsuy]*\b/;

function targetOf(targets: ScriptTargets | undefined, definedFields: boolean): { target?: string } {
  const edition = Math.min(targets?.edition ?? Number.POSITIVE_INFINITY, definedFields ? Number.POSITIVE_INFINITY : 2021);
  return edition === Number.POSITIVE_INFINITY ? {} : { target: `es${edition}` };
}

function notLowered(file: string, text: string, message: string, label: { start: number; end: number } | undefined): Problem {
  const [start, end] = [utf16Offset(text, label?.start ?? 0), utf16Offset(text, label?.end ?? 1)];
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
