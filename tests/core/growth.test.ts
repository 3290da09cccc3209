import { beforeAll, expect, test } from '@jest/globals';
import { init } from 'es-module-lexer';
import { readStyle } from '../../src/core/documents/read-style.js';
import { linkCommonJs } from '../../src/core/link/link-commonjs.js';
import { linkModule } from '../../src/core/link/link-module.js';
import { findProposals } from '../../src/core/translate/decorators.js';
import { mayBeTooDeep, refuseTooDeep } from '../../src/core/translate/nesting.js';

beforeAll(() => init());

let work = 0;

/** Counts the characters that methods of texts and patterns go over while something is done. */
async function workOf(act: () => unknown): Promise<number> {
  const undo: (() => void)[] = [];
  const count = <T extends object>(owner: T, name: keyof T, cost: (self: unknown, all: unknown[], result: unknown) => number) => {
    const own = owner[name] as unknown as (...all: unknown[]) => unknown;
    const counted = function (this: unknown, ...all: unknown[]) {
      const result = own.apply(this, all);
      work += cost(this, all, result);
      return result;
    };
    owner[name] = counted as never;
    undo.push(() => {
      owner[name] = own as never;
    });
  };
  const text = (self: unknown) => String(self).length;
  const upTo = (self: unknown, all: unknown[], result: unknown) => {
    const from = typeof all[1] === 'number' ? all[1] : 0;
    return (result === -1 ? text(self) : Number(result)) - from + 1;
  };
  const back = (self: unknown, all: unknown[], result: unknown) =>
    (typeof all[1] === 'number' ? all[1] : text(self)) - Math.max(0, Number(result));
  work = 0;
  count(String.prototype, 'indexOf', upTo);
  count(String.prototype, 'lastIndexOf', back);
  count(String.prototype, 'includes', text);
  count(String.prototype, 'slice', (_, __, result) => String(result).length);
  count(String.prototype, 'replace', text);
  count(String.prototype, 'split', text);
  count(String.prototype, 'match', text);
  count(RegExp.prototype, 'exec', (self, all, result) => {
    const { lastIndex, sticky, global } = self as RegExp;
    const found = result as RegExpExecArray | null;
    if (found) return global || sticky ? found[0].length + 1 : found.index + found[0].length;
    return sticky ? 1 : String(all[0]).length - (global ? lastIndex : 0);
  });
  const { test: ownTest } = RegExp.prototype;
  RegExp.prototype.test = function (this: RegExp, tested: string) {
    return this.exec(tested) !== null;
  };
  undo.push(() => {
    RegExp.prototype.test = ownTest;
  });
  try {
    await act();
  } finally {
    for (const one of undo.reverse()) one();
  }
  return work;
}

const lines = (n: number, line: (at: number) => string) => Array.from({ length: n }, (_, at) => line(at)).join('');
/** Modules that grow with a number, each in a way that once took work beyond proportion or easily could. */
const modules: [what: string, text: (n: number) => string][] = [
  [
    'an icon set: many exported constants',
    (n) => lines(n, (at) => `export const Icon${at} = make("icon${at}", [["path", { d: "M${at} 0h4" }]]);\n`),
  ],
  ['many exported functions', (n) => lines(n, (at) => `export function f${at}(a) { return a + ${at}; }\n`)],
  ['a list of re-exports', (n) => lines(n, (at) => `export { default as A${at} } from './a${at}.js';\n`)],
  ['many namespaces', (n) => lines(n, (at) => `import * as n${at} from './n${at}.js';\n`) + lines(n, (at) => `use(n${at}.x);\n`)],
  [
    'one list of all exports',
    (n) => `${lines(n, (at) => `const c${at} = ${at};\n`)}export { ${lines(n, (at) => `c${at}, `)} };\n`,
  ],
  ['one minified line', (n) => `${lines(n, (at) => `var a${at}=b=>{c[${at}]=b;d.e=${at}};`)}export{a1 as x};`],
  ['assignments to exports', (n) => `export let x = 0;\n${lines(n, (at) => `x = ${at};\nx += y[${at}] = ${at};\n`)}`],
  ['URLs', (n) => lines(n, (at) => `use(new URL('./i${at}.png', import.meta.url));\n`)],
  [
    'URLs by expressions',
    (n) => lines(n, (at) => `use(new URL(\`./i${at}/\${a}.png\`, import.meta.url), import.meta.resolve('./' + b));\n`),
  ],
  [
    'assignments to names of functions',
    (n) => `export let x = 0;\n${lines(n, (at) => `function f${at}() { let x; x = ${at}; }\n`)}`,
  ],
  ['constants', (n) => lines(n, (at) => `if (process.env.NODE_ENV !== 'production') warn(${at});\n`)],
  ['nested brackets', (n) => `export const t = ${'['.repeat(n / 4)}${']'.repeat(n / 4)};\nx = y;\n`],
];
const link = (text: string) => linkModule({ text, handle: 'my', constants: { 'process.env.NODE_ENV': '"development"' } });

/** How much more work twice as much is. In proportion it's 2. */
async function growth(act: (n: number) => unknown): Promise<number> {
  await act(50);
  const [once, twice] = [await workOf(() => act(1000)), await workOf(() => act(2000))];
  return twice / once;
}

test.each(modules)('linking takes work in proportion to the text: %s', async (_, text) => {
  expect(await growth((n) => link(text(n)))).toBeLessThan(2.4);
});

test.each<[string, (n: number) => unknown]>([
  [
    'CommonJS',
    (n) => linkCommonJs({ text: lines(n, (at) => `exports.f${at} = require('./f${at}');\n`), handle: 'my', constants: {} }),
  ],
  [
    'looking for decorators',
    (n) =>
      findProposals(
        lines(n, (at) => `/** @param a */\nclass C${at} {}\n`),
        'js',
      ),
  ],
  ['looking for depth', (n) => mayBeTooDeep(lines(n, (at) => `if (a[${at}]) { b(${at}); }\n`))],
  [
    'reading a sheet',
    (n) =>
      readStyle(
        lines(n, (at) => `.a${at} { background: url(${at}.png); color: red; }\n`),
        'a.css',
      ),
  ],
])('so does %s', async (_, act) => {
  expect(await growth(act)).toBeLessThan(2.4);
});

test('generics and comparisons by the thousand are no depth, elements are', () => {
  const types = lines(3000, (at) => `export const a${at} = new Map<string, A${at}>();\n`);
  expect(() => refuseTooDeep('types.ts', types)).not.toThrow();
  expect(() =>
    refuseTooDeep(
      'sums.js',
      lines(3000, (at) => `if (a < ${at}) b();\n`),
    ),
  ).not.toThrow();
  expect(() => refuseTooDeep('open.tsx', '<a>;'.repeat(3000))).toThrow('too deeply nested');
});
