import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { beforeAll, expect, test } from '@jest/globals';
import { init, parse } from 'es-module-lexer';
import { analyze } from 'eslint-scope';
import type { Identifier, Program } from 'estree';
import { parseSync } from 'oxc-parser';
import { linkCommonJs } from '../../src/core/link/link-commonjs.js';
import { linkModule } from '../../src/core/link/link-module.js';
import { mayWrite, writingTypes } from '../../src/core/link/own-writes.js';
import { parseModule } from '../../src/core/link/parse-module.js';
import { indexTree } from '../../src/core/link/tree.js';
import { defaultScriptOptions } from '../../src/core/translate/script-options.js';
import { translateScript } from '../../src/core/translate/translate-script.js';
import { languageCases } from '../support/language-cases.js';
import { randomProgram } from '../support/random-program.js';
import { referenceLink } from '../support/reference-linker.js';
import { full } from '../support/sizes.js';
import { repository } from '../support/workspace.js';

const constants = { 'process.env.NODE_ENV': '"development"', 'process.env': '({})', 'process.browser': 'true' };

beforeAll(() => init());

function* filesBelow(folder: string, wanted: RegExp): Generator<string> {
  for (const name of readdirSync(folder).sort()) {
    const path = join(folder, name);
    const stats = statSync(path, { throwIfNoEntry: false });
    if (stats?.isDirectory() && name !== 'typescript' && name !== '.cache') yield* filesBelow(path, wanted);
    else if (stats?.isFile() && stats.size < 150_000 && wanted.test(path)) yield path;
  }
}

/** Every n-th of some files, the same at each run. */
function sample(files: readonly string[], count: number): string[] {
  const step = Math.max(1, files.length / count);
  return Array.from({ length: Math.min(count, files.length) }, (_, at) => files[Math.floor(at * step)]!);
}

/** A script as the linker gets it: without a byte order mark and a `#!` line. */
function scriptOf(file: string): string {
  return inside(readFileSync(file, 'utf8'));
}

function inside(text: string): string {
  return text.replace(/^\uFEFF/, ' ').replace(/^( ?)#!/, '$1//');
}

const packages = [...filesBelow(join(repository, 'node_modules'), /\.[cm]?js$/)];

const esm = packages.filter((file) => !/[/\\](?:cjs|commonjs)[/\\]|\.cjs$/.test(file));

test('modules of packages come out as the plain linker makes them, byte for byte', async () => {
  let compared = 0;
  for (const file of sample(esm, full(150, 20_000))) {
    const text = scriptOf(file);
    let records: ReturnType<typeof parse>;
    let reference: ReturnType<typeof referenceLink>;
    try {
      records = parse(text);
      if (!records[3]) continue;
      reference = referenceLink({ text, handle: 'my', constants });
    } catch {
      continue; // no JavaScript, e.g. a template for some
    }
    if (!reference) continue;
    const linked = await linkModule({ text, handle: 'my', constants, records });
    if (linked.code !== reference.code) expect({ file, code: linked.code }).toEqual({ file, code: reference.code });
    expect(linked.requests.map(({ kind, specifier }) => ({ kind, specifier }))).toEqual(reference.requests);
    compared++;
  }
  expect(compared).toBeGreaterThan(full(40, 400));
});

test('where writes are said not to be to variables of the module, scopes say so too', () => {
  let hidden = 0;
  const some = esm.filter((file) => file.includes('@vue') && /\.esm-bundler\.js$/.test(file));
  for (const file of [...some, ...sample(esm, full(60, 20_000))]) {
    const { program, errors } = parseSync('module.js', scriptOf(file), {
      lang: 'js',
      sourceType: 'module',
      preserveParens: false,
    });
    if (errors.length > 0) continue;
    const tree = program as unknown as Program;
    const index = indexTree(tree, writingTypes);
    const scopes = analyze(tree as never, { ecmaVersion: 2024, sourceType: 'module', fallback: 'iteration' } as never);
    for (const { name, references } of scopes.globalScope!.childScopes[0]?.variables ?? []) {
      if (mayWrite(index, new Set([name]))) continue;
      const isAnywhere = index.nodes.some(
        (node) => node.type === 'AssignmentExpression' && (node.left as Identifier).name === name,
      );
      if (isAnywhere) hidden++;
      expect([file, name, references.some((reference) => reference.isWrite() && !reference.init)]).toEqual([file, name, false]);
    }
  }
  expect(hidden).toBeGreaterThan(full(0, 100));
});

/** A tree as text, without what is said of TypeScript alone and how a value was written. */
function treeText(tree: object): string {
  return JSON.stringify(tree, (key, value: unknown) => {
    if (/^(?:raw|range|regex|bigint|hashbang|phase)$/.test(key) || value === null || value === false) return undefined;
    if (typeof value === 'bigint') return String(value);
    if (value instanceof RegExp || (Array.isArray(value) && value.length === 0)) return undefined;
    // In one order, whatever order the keys were made in.
    return typeof value === 'object' && !Array.isArray(value)
      ? Object.fromEntries(Object.entries(value as object).sort(([a], [b]) => (a < b ? -1 : 1)))
      : value;
  });
}

test('both parsers make the same trees of modules', () => {
  const programs = [...Object.values(languageCases), ...Array.from({ length: full(6, 500) }, (_, seed) => randomProgram(seed))];
  const texts = programs.flatMap((files) => Object.entries(files).map(([file, text]) => ({ file, text: inside(text) })));
  texts.push(...sample(esm, full(20, 5000)).map((file) => ({ file, text: scriptOf(file) })));
  let compared = 0;
  for (const { file, text } of texts) {
    const sound = parseSync('module.js', text, { lang: 'js', sourceType: 'module' }).errors.length === 0;
    if (!sound || !/\.m?js$/.test(file)) continue;
    const [natively, here] = [false, true].map((isMuch) => parseModule(text, isMuch));
    if (treeText(here!) !== treeText(natively!)) expect({ file, text, parsed: here }).toEqual({ file, text, parsed: natively });
    compared++;
  }
  expect(compared).toBeGreaterThan(100);
});

test('TypeScript comes out as the plain linker makes it, in both forms', async () => {
  const all = ['src', 'demo/src', 'tests'].flatMap((folder) => [...filesBelow(join(repository, folder), /(?<!\.d)\.tsx?$/)]);
  const files = sample(all, full(40, 20_000));
  for (const file of files) {
    const options = { id: file, inPackage: false, mode: 'development' as const, refresh: true, options: defaultScriptOptions };
    const translated = await translateScript(readFileSync(file, 'utf8'), options);
    if ('code' in translated) throw new Error(translated.message);
    for (const checked of [false, true]) {
      const input = { text: translated.text, handle: translated.handle, constants, checked };
      const reference = referenceLink(input);
      if (reference) expect({ file, code: (await linkModule(input)).code }).toEqual({ file, code: reference.code });
    }
  }
});

test('CommonJS without a syntax tree comes out as with one', async () => {
  let scanned = 0;
  for (const file of sample(packages, full(150, 20_000))) {
    const text = scriptOf(file);
    const input = { text, handle: 'my', constants };
    try {
      if (file.endsWith('.mjs') || parse(text)[3]) continue;
    } catch {
      continue; // as above
    }
    const linked = await linkCommonJs(input);
    if (!linked.isScanned) continue;
    scanned++;
    const thorough = await linkCommonJs(input, true);
    const asked = (requests: typeof linked.requests) => requests.map(({ kind, specifier }) => `${kind} ${specifier}`).sort();
    if (linked.code !== thorough.code) expect({ file, code: linked.code }).toEqual({ file, code: thorough.code });
    // In long files what a test of types rules out stays.
    if (text.length < 100_000) expect({ file, asked: asked(linked.requests) }).toEqual({ file, asked: asked(thorough.requests) });
    else expect(asked(linked.requests)).toEqual(expect.arrayContaining(asked(thorough.requests)));
  }
  expect(scanned).toBeGreaterThan(full(20, 300));
});
