import { beforeAll, expect, test } from '@jest/globals';
import { init } from 'es-module-lexer';
import type { LexerRecords } from '../../src/core/link/linked.js';
import { recordsFromTree } from '../../src/core/link/tree-records.js';
import { lexed } from '../../src/project/read/compile-script.js';
import { randomNumbers } from '../support/random-program.js';
import { full } from '../support/sizes.js';

beforeAll(() => init());

/** Statements as words, between any two of which something may stand that means nothing. */
const statements = [
  'import a from "x"',
  'import { a , b as c } from "x"',
  'import * as n from "x"',
  'import d , { a } from "x"',
  'import d , * as n from "x"',
  'import "x"',
  'import { default as q } from "x"',
  'import { "odd name" as o } from "x"',
  'import j from "x" with { type : "json" }',
  'import { } from "x"',
  'export const v = 1',
  'export let u = 1 , w = 2',
  'export var { p , q : [ r ] , ... s } = o1',
  'export function f ( ) { }',
  'export async function g ( ) { }',
  'export function * h ( ) { }',
  'export class C { }',
  'export class extends1 extends Object { }',
  'export default class extends Object { }',
  'export default class { }',
  'export default function ( ) { }',
  'export default function named ( ) { }',
  'export default async function * ( ) { }',
  'export default async ( ) => 1',
  'export default 5',
  'export default [ 1 ]',
  'export default class Named extends Object { }',
  'export { l1 as e1 , l2 }',
  'export { l1 as "odd" }',
  'export { l1 as default }',
  'export * from "x"',
  'export * as ns from "x"',
  'export * as "odd ns" from "x"',
  'export { a as b , default } from "x"',
  'export { default as e } from "x"',
  'export { "odd" as e } from "x"',
  'export { }',
  'import ( "x" )',
  'import ( `./a/${ l1 }.js` )',
  'import ( "x" , { with : { type : "json" } } )',
  'import . meta . url',
  'let l1 = 1 , l2 = 2',
  'const from = 1 , as = 2',
  'const o2 = { import : 1 , export : 2 }',
  'o2 . import',
  'const re = /import a from "x"/',
  'const t = `export const z = 1`',
  '( ( ) => { const e = "export default 1" ; } ) ( )',
];
const fillers = [
  '',
  ' ',
  ' ',
  '\n',
  '/* c */',
  '/* from "y" */',
  '// c\n',
  '// import z from "z"\n',
  '\t',
  '// c\u2028',
  '/* \u2029 */',
  ' /* export { z } */ ',
  '\u00a0',
  '\r\n',
];

function shown([imports, exports]: LexerRecords, text: string): unknown {
  return {
    imports: [...imports]
      .sort((a, b) => a.importStart - b.importStart)
      .map((record) => ({
        type: (record.type as string) === 'reexport-star' ? 'static' : record.type,
        specifier: record.type === 'import-meta' ? null : (record.specifier ?? null),
        at: record.importStart,
        ends:
          record.type !== 'dynamic' && record.type !== 'import-meta'
            ? text.slice(record.importStart, record.importEnd).length
            : 0,
        attributes: 'attributes' in record ? (record.attributes ?? null) : null,
      })),
    exports: exports.map((record) => {
      const { type, name, localName, importName, importIndex, exportStart } = record as unknown as Record<string, unknown>;
      return {
        type,
        name,
        localName: localName ?? null,
        importName: importName ?? null,
        from: importIndex === undefined ? null : imports[Number(importIndex)]?.specifier,
        exportStart,
      };
    }),
  };
}

test(`what is read of ${full(600, 40_000)} random modules with comments and line ends everywhere is what the parser reads`, async () => {
  const random = randomNumbers(2028);
  for (let n = 0; n < full(600, 40_000); n++) {
    const text = Array.from({ length: 1 + random(4) }, () => {
      const words = statements[random(statements.length)]!.split(' ');
      return words
        .map((word, at) => {
          const next = words[at + 1];
          const filler = fillers[random(fillers.length)]!;
          if (next === undefined) return word;
          // Where a line end would end the statement, or two words would become one.
          const isTight =
            (word === 'async' && /^(?:function|\()/.test(next)) || word.startsWith('`') || /\.js`$/.test(next) || word === '...';
          if (isTight) return `${word} `;
          return `${word}${/\w$/.test(word) && /^\w/.test(next) && filler === '' ? ' ' : filler}`;
        })
        .join('');
    }).join(random(3) === 0 ? '\n' : ';\n');
    const expected = recordsFromTree(text);
    if (!expected) continue;
    expect({ text, ...(shown(await lexed(text), text) as object) }).toEqual({ text, ...(shown(expected, text) as object) });
  }
});
