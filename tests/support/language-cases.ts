import type { ProgramFiles } from './random-program.js';
import { full } from './sizes.js';

const last = (loads: string[]) => `for (const load of [${loads.map((name) => `() => import('${name}')`).join(', ')}]) {
  try { log(Object.keys(await load()).join()); } catch (error) { log(error.name); }
}
ended();
`;
const programOf = (files: ProgramFiles, loads: string[] = ['./main.js']): ProgramFiles => ({ ...files, 'last.js': last(loads) });

/** Comments in which each way of reading them wrongly doubles the time. */
const much = '/**/'.repeat(50) + '/* // * */'.repeat(40);

/** Programs for what the language allows but random programs seldom do. */
export const languageCases: Record<string, ProgramFiles> = {
  muchBetweenWords: programOf({
    'main.js': `import { moor } from './quay.js'; import a from './async.js'; import f from './named.js';\nlog(moor(...${much}['bow', 'stern']), (function${much}(tide)${much}{ return tide; })(4), a.name, f.name, typeof nowhere${much} === 'object');\nlog(...${much}Object.keys(await import${much}('./quay.js')));\n`,
    'quay.js': `export${much}function${much}moor(...${much}lines) { return lines.length; }${'\n'.repeat(100_000)}export const late = 1;\n`,
    'async.js': `export${much}default${much}async${much}() => 1;\n`,
    'named.js': `export${much}default${much}async function${much}*${much}() {}\n`,
  }),
  branchNames: programOf({
    'main.js': `import { clock, load, told } from './clock.js';\nimport * as all from './clock.js';\nlog(clock.name, load.name, ...told().map((one) => one.name), Object.keys(all).join());\n`,
    'clock.js': `export let clock; if (globalThis.nowhere) clock = () => 1; else clock = function () { return 2; };
let loads, kept = 3; export { loads as load }; if (globalThis.nowhere) { kept = 4; loads = class { static high = kept; }; } else if (kept === 5) loads = () => 5; else { kept = 6; loads = async () => kept; }
export function told() { let inner, second, third; if (kept === 3) inner = () => 1; else inner = () => kept; kept ? second = () => kept : second = () => 2; const last = kept === 3 ? third = () => kept : third = () => 4; return [inner, second, third, last]; }\n`,
  }),
  hiddenNames: programOf({
    'main.js': `import { MODE, level } from './mode.js'; const DEBUG = false, on = true, berth = { free: 1 };
function f(DEBUG) { if (DEBUG) return 'parameter'; return 'wrong'; } const g = (MODE) => (MODE === 'x' ? 'arrow' : 'wrong'); { const MODE = 'x'; log(MODE === 'x' ? 'block' : 'wrong'); }
function h() { const DEBUG = Math.random() < 2; return DEBUG ? 'local' : 'wrong'; } function i(berth) { return berth.free === 2 ? 'member' : 'wrong'; } function j(level) { return level.A === 5 ? 'import' : 'wrong'; }
const k = ({ DEBUG }) => DEBUG && 'pattern'; class L { m(DEBUG) { return DEBUG ?? 'wrong'; } } function n(undefined) { return undefined === 1 ? 'undefined' : 'wrong'; } function o(DEBUG) { return on && DEBUG ? 'right side' : 'wrong'; }
try { throw true; } catch (DEBUG) { log(DEBUG ? 'catch' : 'wrong'); } for (const DEBUG of [true]) log(DEBUG ? 'loop' : 'wrong'); function p(on) { return (on ? DEBUG : true) ? 'test' : 'wrong'; }
function q(self) { if (typeof self === 'object') return 'wrong'; return 'type'; } function r(process) { return typeof process === 'undefined' ? 'wrong' : 'given'; } const s = (window) => typeof window === 'undefined' || window;
{ const document = 1; log(typeof document === 'object' ? 'wrong' : 'own document'); } const define = 1; log(typeof define === 'undefined' ? 'wrong' : 'own define'); function t(MODE) { const { length } = MODE; return MODE?.[0] === 'y' ? 'wrong' : length; }
log(f(true), g('x'), h(), i({ free: 2 }), j({ A: 5 }), k({ DEBUG: 1 }), new L().m('method'), n(1), o(1), p(false), q(1), r(1), s('given'), t('abc'), DEBUG, MODE, level.A, berth.free, on);\n`,
    'mode.js': `export const MODE = 'y', level = { A: 1 };\n`,
  }),
  lateThis: programOf({
    'main.js': `log((await import('./a.js')).a()); await import('./b.js').then((m) => log(m.a())); log((await import('./c.js')).a\`x\`, (await import('./d.js')).a?.(), (await import('./e.js')).default.a());
const { a } = await import('./f.js'); try { log(a()); } catch (error) { log(error.name); } await import('./g.js').then(({ a }) => log(a()));\n`,
    ...Object.fromEntries(
      ['a', 'b', 'c', 'd', 'e', 'f', 'g'].map((name) => [
        `${name}.js`,
        `export function a() { return this?.b ? this.b() : 'nobody'; } export const b = () => 'b of ${name}'; export default { a() { return this.c; }, c: 'c' };\n`,
      ]),
    ),
  }),
  earlyConstants: programOf({
    'main.js': `import { tell } from './tide.js';\nimport { level } from './level.js';\nlog(level, tell());\n`,
    'level.js': `import './tide.js';\nconst own = (7), more = own * 2, word = ( /* as it is */ \`low\` ), less = -1, none = void 0;
export const level = 4; export let still = 5;
export function read() { return [() => own, () => more, () => typeof word, () => less, () => none]; } export function readStill() { return still; }\n`,
    'tide.js': `import { level, still, read, readStill } from './level.js';
export function tell() { return [...read(), () => level, () => still, readStill, ownLevel].map((one) => { try { return String(one()); } catch (error) { return error.name; } }).join(); }
function ownLevel() { return level; }
log(tell());\n`,
  }),
  liveBindings: programOf({
    'main.js': `import * as all from './tide.js';\nimport { a, b, c, d, e, f, g, K, h, i, set } from './tide.js';\nconst show = () => log(a, b, c, d, e, f, g, typeof K, typeof h, i, Object.values(all).length);\nshow(); set(); show();\nlog(all.a, all.h === h);\n`,
    'tide.js': `export let a = 1, b = 2, c = 3; export var d = 4, e = 5, f, g = 7, i;
export class K {} export function h() {}
export function set() { a = 10; b += 5; c++; --d; [e, f = 9] = [6]; ({ x: { g } } = { x: { g: 'deep' } }); K = null; h = 3; for (i of [1, 2]); for (i in { last: 1 }) {}
  a ||= 5; b &&= 'and'; c ??= 0; d **= 2; e >>>= 1; f = (g = 'chained', 'comma'); }\n`,
  }),
  exportForms: programOf(
    {
      'main.js': `import d, { "the tide" as t, then, of, async as as_, get, default as again } from './names.js';\nimport * as ns from './names.js';\nlog(d === again, d.name, t, typeof then, of, as_, get, Object.keys(ns).join());\nlog(Object.prototype.toString.call(ns), Object.isSealed(ns), Reflect.getPrototypeOf(ns), 'nothing' in ns);\ntry { ns.of = 1; } catch (error) { log(error.name); }\ntry { delete ns.of; } catch (error) { log(error.name); }\ntry { ns.fresh = 1; } catch (error) { log(error.name); }\nlog(ns.__proto__, ns.constructor, ns['1'], ns['10']);\n`,
      'names.js': `export default class { static own = 'class'; }\nconst tide = 'high';\nexport { tide as "the tide", tide as __proto__, tide as constructor, tide as "10", tide as "1" };\nexport const of = 'of', async = 'async', get = 'get';\nexport function then(resolve) { resolve?.('thenable'); }\n`,
    },
    ['./main.js'],
  ),
  namespaces: programOf({
    'main.js': `import * as ns from './other.js'; import * as again from './other.js'; import { ns as passed } from './passes.js';
log(ns === again, ns === passed, ns === (await import('./other.js')));
const shape = (value) => JSON.stringify(value);
log(shape(Object.getOwnPropertyDescriptors(ns)), shape(Object.getOwnPropertyDescriptor(ns, Symbol.toStringTag)), Reflect.ownKeys(ns).length);
log(Reflect.set(ns, 'b', 1), Reflect.deleteProperty(ns, 'b'), Reflect.deleteProperty(ns, 'none'), Reflect.defineProperty(ns, 'b', { value: 2 }), Reflect.defineProperty(ns, 'b', { value: 3 }), Reflect.defineProperty(ns, 'b', { enumerable: false }));
log(Object.isFrozen(ns), Object.isExtensible(ns), Reflect.setPrototypeOf(ns, null), Reflect.setPrototypeOf(ns, {}), shape({ ...ns }));
try { import.meta.resolve('bare'); log('resolved'); } catch (error) { log('bare'); }\n`,
    'other.js': `export let b = 2; export const a = 1;`,
    'passes.js': `export * as ns from './other.js';`,
  }),
  negativeKeys: programOf({
    'main.js': `const west = -3;
class Pier { static [-1] = 'static'; [-2] = 'own'; [-1]() { return 'method'; } static get [west]() { return 'got'; } static async *[-1.5]() { yield 'later'; } [-7]; static [-1e-7] = 'small'; [-Infinity]() {} static get [-1e21]() { return 'large'; } }
const berth = { [-1]() { return 'shorthand'; }, get [west]() { return 'getter'; }, [-2]: 'plain', async [-4]() {} };
const pier = new Pier();
log(Pier[-1], pier[-2], pier[-1](), Pier[west], (await Pier[-1.5]().next()).value, -7 in pier, Pier[-1e-7], typeof pier[-Infinity], Pier[-1e21], berth[-1](), berth[-3], berth[-2], typeof berth[-4]);
if (pier) { -1; } label: { -2 }`,
  }),
  awkwardNames: programOf({
    'main.js': `import { __proto__ as p, constructor as c, t\\u0069de, "\\u0061 b" as spaced, \\u{6f}ther as o\\u0074her2, async, hasOwnProperty } from './names.js';
import * as ns from './names.js';
log(p, c, tide, spaced, other2, async, typeof hasOwnProperty, Object.keys(ns).join());
export { tide as "\\u0074ide again", p as __proto__ };
export { t\\u0069de as passed } from './names.js';`,
    'names.js': `const a = 1; export { a as __proto__, a as constructor, a as "a b" }; export let ti\\u0064e = 'high', other = 2; export function async() {} export const hasOwnProperty = 3;`,
  }),
  namesTakenByValues: programOf({
    'main.js': `import * as one from './one.js';\nimport * as two from './two.js';\nfor (const { before, late, after } of [one, two]) log(before, late(), after());`,
    'one.js': `const { tide = () => {}, of: [berth = class {}] = [] } = {};\nlet quay, pier = 1, crane = () => {};\nquay ||= () => {};\nexport const late = () => { pier = function () {}; crane &&= class { static name = 'own'; }; for ({ gate = () => {} } of [{}]); return [tide, berth, quay, pier, crane, gate].map((value) => value.name).join(); };\nlet gate;\nfunction rope() {}\nexport const before = [crane, rope].map((value) => value.name).join();\nrope = () => {};\nexport const after = () => rope.name;\n`,
    'two.js': `const { tide = () => {}, of: [berth = class {}] = [] } = {};\nlet quay, pier = 1, crane = () => {};\nquay ||= () => {};\nexport const late = () => { pier = function () {}; crane &&= class { static name = 'own'; }; for ({ gate = () => {} } of [{}]); return [tide, berth, quay, pier, crane, gate].map((value) => value.name).join(); };\nlet gate;\nfunction rope() {}\nexport const before = [crane, rope].map((value) => value.name).join();\nrope = () => {};\nexport const after = () => rope.name;\n`,
  }),
  defaultNames: programOf({
    'main.js': [1, 2, 3, 4, 5, 6, 7, 8]
      .map((n) => `import d${n} from './d${n}.js'; log(${n}, typeof d${n} === 'function' ? d${n}.name : d${n});`)
      .join('\n'),
    'd1.js': 'export default function () {}',
    'd2.js': 'export default class {}',
    'd3.js': 'export default () => {}',
    'd4.js': 'export default (async function* () {})',
    'd5.js': 'export default (class { static name = "own"; })',
    'd6.js': 'const my = 1, my_d = 2;\nexport default my + my_d',
    'd7.js': 'export default function* gen() {}\ngen.extra = 1;',
    'd8.js': 'export default[1, 2].length\n;(() => log("after"))()',
  }),
  statementsWithoutSemicolons: programOf({
    'main.js': `const a = 1\nimport './side.js'\n(() => log('called', a))()\nexport { a }\n[1].forEach(() => log('each'))\nexport * from './side.js'\n\`\${log('template')}\`\nexport const b = 2\n+log('plus')\n`,
    'side.js': `log('side'); export const side = 1`,
  }),
  text: programOf({
    'main.js': `#!/usr/bin/env node\r\nimport { a } from './bom.js'\r\nlog(a)\r\nlog("line\u2028separator".length)\r\nlog(a)\r\nlet n = 3; while (n --> 0) log(n)\r\nlog(\`<!-- \${a} -->\`.length) // <!-- comment`,
    'bom.js': '\uFEFFexport let a = 5',
    'side.js': '',
  }),
  meta: programOf({
    'main.js': `log(import.meta.url.split('/').at(-1), import.meta.dirname === undefined || import.meta.dirname.length > 0, import.meta.resolve('./other.js').split('/').at(-1), typeof import.meta, Object.getPrototypeOf(import.meta));\nlog(typeof arguments === 'undefined' ? 'none' : 'some', typeof this);\n`,
  }),
  dynamic: programOf({
    'main.js': `const name = 'two';\nlog((await import('./berths/' + name + '.js')).berth, (await import(\`./berths/\${'one'}.js\`)).berth);\nlog((await import('./berths/one.js')) === (await import('./berths/' + 'one' + '.js')));\ntry { await import('./fails.js'); } catch (error) { log(error.message); }\ntry { await import('./fails.js'); } catch (error) { log('again', error.message); }\nlog((await import('./thenable.js')));\n`,
    'berths/one.js': 'export const berth = 1;',
    'berths/two.js': 'export const berth = 2;',
    'fails.js': `log('runs once'); throw new Error('aground');`,
    'thenable.js': `export const then = (resolve) => resolve('from then');`,
  }),
  dataModules: programOf({
    'main.js': `import tides, { high } from './tides.js';\nlog(high, tides.low);\n`,
    'tides.js': `export const high = 4.1; export default { low: 0.6 };`,
  }),
  awaitOrder: programOf({
    'main.js': `import './a.js'; import './b.js'; import './c.js';\nlog('main');`,
    'a.js': `import './slow.js'; log('a');`,
    'b.js': `log('b before'); await null; log('b after');`,
    'c.js': `import './slow.js'; log('c');`,
    'slow.js': `log('slow before'); await 0; await 0; await 0; log('slow after');`,
  }),
  selfAndCycles: programOf(
    {
      'main.js': `import * as me from './main.js'; import { early, late } from './other.js';\nexport const here = 'here'; export function hoisted() { return typeof late; }\nlog(me.here, early, late);`,
      'other.js': `import { hoisted, here } from './main.js'; export const early = hoisted();\ntry { here; } catch (error) { log(error.name, error.message.slice(0, 46)); }\nexport const late = 1;`,
    },
    ['./main.js', './other.js'],
  ),
  manyImports: programOf({
    'main.js': `${Array.from({ length: 2000 }, (_, n) => `import { v as v${n} } from './i${n % 50}.js';`).join('\n')}\nlog(${Array.from({ length: 2000 }, (_, n) => `v${n}`).join(' + ')});`,
    ...Object.fromEntries(Array.from({ length: 50 }, (_, n) => [`i${n}.js`, `export const v = ${n};`])),
  }),
  manyLines: programOf({
    'main.js': `let total = 0;\n${'total += 1;\n'.repeat(20_000)}log(total); log(${'1 + '.repeat(3000)}0);`,
  }),
};

/** Too long for a browser to load natively, file by file. Says 4999. */
/** So many modules import each other, one the next. */
export const chainLength = full(500, 5000);
export const deepChain: ProgramFiles = programOf({
  'main.js': `import { sum } from './c0.js'; log(sum);`,
  ...Object.fromEntries(
    Array.from({ length: chainLength }, (_, n) => [
      `c${n}.js`,
      n === chainLength - 1
        ? 'export const sum = 0;'
        : `import { sum as below } from './c${n + 1}.js'; export const sum = below + 1;`,
    ]),
  ),
});
