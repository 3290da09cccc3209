import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { beforeAll, describe, expect, test } from '@jest/globals';
import { AnyMap, originalPositionFor } from '@jridgewell/trace-mapping';
import { init } from 'es-module-lexer';
import { linkCommonJs } from '../../src/core/link/link-commonjs.js';
import { linkJson } from '../../src/core/link/link-data.js';
import { linkModule } from '../../src/core/link/link-module.js';
import type { Linked } from '../../src/core/link/linked.js';
import { indexMap } from '../../src/core/maps/index-map.js';
import { keepMap } from '../../src/core/maps/kept-map.js';
import { moduleMap } from '../../src/core/maps/module-map.js';
import { SourceText } from '../../src/core/text/source-text.js';
import { defaultScriptOptions } from '../../src/core/translate/script-options.js';
import { translateScript } from '../../src/core/translate/translate-script.js';
import { full } from '../support/sizes.js';
import { repository } from '../support/workspace.js';

const constants = { 'process.env.NODE_ENV': '"development"' };
const link = (text: string, checked = false) => linkModule({ text, handle: 'my', constants, checked });
const bodyOf = ({ code }: Linked) => code.split('\n').slice(1, -1).join('\n');

beforeAll(() => init());

/** Packages choose between their builds by constants; the text shows it as well as a syntax tree, or leaves it to that. */
test.each([
  ['T === "production") { require("a") } else { require("b") }', true],
  ["T !== 'production') {\n  check();\n  module.exports = require('a');\n} else {\n  module.exports = require('b');\n}", true],
  ['T == "development") { require("a") } require("b")', true],
  ['T != "development") { require("a") } require("b")', true],
  ['T === "production") { import("a") } else { import("b") }', true],
  ['T !== "production") { throw 1 } if (T === "production") { require("a") } else { require("b") }', true],
  ['T === "development") { require("a") } else if (x) { require("b") }', false],
  ['T === "development") { require("a") } /* or */ else { require("b") }', false],
  ['T === "development") { if (x) { require("a") } } else { require("b") }', false],
  ['T === "production" && x) { require("a") } else { require("b") }', false],
  ['T === "development") require("a"); else require("b")', false],
])('a choice by a constant: if (%s', async (source, isShown) => {
  const input = { text: `if (${source}`.replaceAll('T', 'process.env.NODE_ENV'), handle: 'my', constants };
  const [scanned, thorough] = [await linkCommonJs(input), await linkCommonJs(input, true)];
  expect(scanned.isScanned === true).toBe(isShown);
  expect(scanned.code).toBe(thorough.code);
  const asked = ({ requests }: Linked) => requests.map(({ kind, specifier, start }) => ({ kind, specifier, start }));
  expect(asked(scanned)).toEqual(asked(thorough));
});

describe('the linked form', () => {
  test.each([
    ['import a, { b as c } from "x";', ';                            ;'],
    ['export function f() {}', ';      function f() {}'],
    ['export default class K {}', ';              class K {}'],
    ['export default 4;', 'const my_d =   4;'],
    ['export { a as b }; let a = 1;', ';                ; let a = 1;'],
    ['log(import.meta.url)', 'log(my.meta    .url)'],
    ['import("./late.js")', 'my.get("./late.js")'],
    ['new URL("./x.png", import.meta.url)', 'new URL(my.at(0) , my.meta    .url)'],
    ['export let n = 0; const f = () => n++;', ';      let n = 0; const f = () => my.touch("n", n++);'],
    ['if (process.env.NODE_ENV === "x") {}', 'if ("development"        === "x") {}'],
    ['export {};', ';         '],
  ])('of %s is as long as it was where it can be', async (source, expected) => {
    expect(bodyOf(await link(source))).toBe(expected);
  });

  test('keeps every line in its place', async () => {
    const source = 'import {\n  a,\n  b,\n} from "x";\nexport {\n  a\n};\nlog(1);';
    expect(bodyOf(await link(source)).split('\n')[7]).toBe('log(1);');
  });

  test('asks before reads of imports in the checked form only', async () => {
    const source = 'import { a } from "x"; const b = { a }; log(a(), typeof a);';
    expect(bodyOf(await link(source))).not.toContain('my.ok');
    expect(bodyOf(await link(source, true))).toContain(
      'const b = { a: my.ok(0, "a", a) }; log(my.ok(0, "a", a)(), typeof my.ok(0, "a", a));',
    );
  });

  test('does not touch what only looks like an assignment', async () => {
    const source = 'export let n = 0; function f(n) { n = 1; } const o = { n: 2 }; if (n == 1 || n === 2) log(n => 1);';
    expect(bodyOf(await link(source))).not.toContain('touch');
  });

  test.each([
    ['log(n.a, n?.b, n\n.c(), o.n, nn, n$, én)', false],
    ['log({ ...n }, n.a)', true],
    ['log(...n)', true],
    ['log(n["a"])', true],
    ['export { n }', true],
    ['log(n)', true],
  ])('says whether a namespace object is used in any way but by its members: %s', async (source, isWhole) => {
    // Many of them are looked for together.
    const others = ['a', 'b', 'c'].map((name) => `import * as ${name} from 'x'; `).join('');
    for (const before of ['', others])
      expect((await link(`${before}import * as n from 'x'; ${source}`)).code.includes(', true]')).toBe(isWhole);
  });

  test('takes another handle where the source uses the usual one', async () => {
    const translated = await translateScript('export const my = 1; export default () => my;', {
      id: 'a.ts',
      inPackage: false,
      mode: 'development',
      refresh: true,
      options: defaultScriptOptions,
    });
    expect(translated).toMatchObject({ handle: 'my1' });
  });

  test.each([
    ['log({ ...process.env }, process.env.NODE_ENV)', 'log({ ...({})        }, "development"       )'],
    ['log("process.env.NODE_ENV", /process.env.NODE_ENV/) // process.env.NODE_ENV', undefined],
    ['log(own.process.env.NODE_ENV, process.env.NODE_ENV_NAME)', 'log(own.process.env.NODE_ENV, ({})       .NODE_ENV_NAME)'],
    ["log(process.env['NODE_ENV'], process?.env.NODE_ENV)", 'log("development"          , "development"        )'],
    ['log({ QUAY_OF_THE_FERRY, QUAY_OF_THE_FERRY: 1 })', 'log({ QUAY_OF_THE_FERRY: 4, QUAY_OF_THE_FERRY: 1 })'],
  ])('folds constants in code and nowhere else: %s', async (source, expected = source) => {
    const linked = await linkModule({
      text: source,
      handle: 'my',
      constants: { ...constants, 'process.env': '({})', QUAY_OF_THE_FERRY: '4' },
    });
    expect(bodyOf(linked)).toBe(expected);
  });

  test('of CommonJS has the requests of code that can run, and says which must succeed', async () => {
    const text = `if (process.env.NODE_ENV === 'production') require('./prod'); else require('./dev');
const x = require('./sure'), late = () => require('./late');
(function (require) { require('./inner'); })(); try { require('./maybe'); } catch {} // require('./comment')`;
    const { requests } = await linkCommonJs({ text, handle: 'my', constants }, true);
    expect(requests.map(({ specifier, isCertain }) => [specifier, isCertain ?? false])).toEqual([
      ['./dev', false],
      ['./sure', true],
      ['./late', false],
      ['./maybe', false],
    ]);
  });

  test('of JSON exports the members that can be names', () => {
    expect(linkJson('{ "high": 4, "low-water": 1, "class": 2, "__proto__": 3 }').exports).toEqual([
      'default',
      'high',
      '__proto__',
    ]);
  });
});

/** The demo's scripts and what of our own source runs in browsers. */
function sources(folder: string): string[] {
  return readdirSync(folder).flatMap((name) => {
    const path = join(folder, name);
    return statSync(path).isDirectory() ? sources(path) : /(?<!\.d)\.tsx?$/.test(path) ? [path] : [];
  });
}

describe('source maps', () => {
  const own = sources(join(repository, 'src')).filter((_, at) => at % full(5, 1) === 0);
  const files = [...sources(join(repository, 'demo/src')), ...own];

  test.each([false, true])(
    `lead every name that stands in both texts back to itself, over ${files.length} files (checked form: %s)`,
    async (checked) => {
      let right = 0;
      const wrong: string[] = [];
      for (const file of files) {
        const source = readFileSync(file, 'utf8');
        const translated = await translateScript(source, {
          id: file,
          inPackage: false,
          mode: 'development',
          refresh: true,
          options: defaultScriptOptions,
        });
        if ('code' in translated) throw new Error(translated.message);
        const linked = await linkModule({ ...translated, constants, checked });
        const map = moduleMap({
          source: new SourceText(source),
          sourceUrl: '/x.tsx',
          code: linked.code,
          shifts: linked.shifts,
          ignored: false,
          ...(translated.map ? { map: keepMap(translated.map) } : {}),
        });
        const trace = new AnyMap([...indexMap('x', [{ line: 1, map: () => [map] }])].flat().join('') as never);
        const lines = source.split('\n');
        linked.code.split('\n').forEach((text, line) => {
          if (line === 0) return;
          for (const { 0: name, index } of text.matchAll(/(?<![\w$."'`-])[A-Za-z_$][\w$]{3,}/g)) {
            const found = originalPositionFor(trace, { line: line + 1, column: index });
            if (found.line === null) continue;
            const original = /^[\w$]+/.exec(lines[found.line - 1]!.slice(found.column))?.[0];
            // Only exact positions count: a name without one of its own falls on what stands before it.
            const exact = original === name;
            if (exact) right++;
            else if (
              source.includes(`${name} =`) &&
              /^(?:const|let|function|class) /.test(text) &&
              text.split(/\s+/)[1] === name &&
              index === text.indexOf(name)
            )
              wrong.push(`${file}:${line} ${name} -> ${original}`);
          }
        });
      }
      expect(wrong).toEqual([]);
      expect(right).toBeGreaterThan(5000);
    },
  );
});
