/** Programs with marks in strings: what holds `GONE` must not be in a build, what holds `STAYS` must. The entry is `main.ts`. */
export const shakingCases: Record<string, Record<string, string>> = {
  'an export that nobody imports, with what only it needs': {
    'main.ts': `import { high } from './tide'; console.log(high());`,
    'tide.ts': `import { far } from './far'; const own = 'GONE own'; const near = () => own + far; export const high = () => 'STAYS'; export const low = () => near();`,
    'far.ts': `export const far = 'GONE far';`,
  },
  'what has an effect, though nobody uses it': {
    'main.ts': `import './light'; const unused = document.createElement('STAYS p');`,
    'light.ts': `globalThis.lit = 'STAYS light'; export const other = 'GONE'; label('STAYS call'); function label(text: string) { return text; }`,
  },
  'statements that only give a value': {
    'main.ts': `
      const a = { b: ['GONE object'], c: () => 'GONE arrow', ['GONE key']: 1 };
      class Berth { static #n = 'GONE field'; static m() { return 'GONE method'; } }
      const m = new Map([['GONE map', 1]]), s = new Set(['GONE set']), w = new WeakMap();
      const symbol = Symbol('GONE symbol'), frozen = Object.freeze({ a: 'GONE frozen' }), nothing = Object.create(null);
      const text = \`GONE template \${1 + 2}\`, more = 'GONE' + ' sum', max = Math.max(1, 2), no = !'GONE not', of = typeof 'GONE';
      const member = Number.MAX_SAFE_INTEGER, list = Array.isArray(['GONE list']), date = new Date('2026-01-01'), known = a.c;
      function named() { return 'GONE function'; } function* gen() { yield 'GONE generator'; } async function later() { return 'GONE async'; }
      if (typeof window === 'undefined') console.log('GONE server'); if (typeof process !== 'undefined' && process.versions) console.log('GONE process');
      if (false) console.log('GONE branch'); const either = false && 'GONE and', or = true || 'GONE or', which = true ? 1 : 'GONE which';
      console.log('STAYS');`,
  },
  'what may do more than give a value': {
    'main.ts': `
      const get = { get a() { return console.log('STAYS getter'); } }.a;
      class A { static { console.log('STAYS block'); } } class B { static x = console.log('STAYS static'); } class C { [console.log('STAYS key')]() {} }
      const spread = { ...(globalThis as any)['STAYS spread'] }; const text = \`\${{ toString: () => 'STAYS text' }}\`;
      const made = new (globalThis as any).Thing('STAYS new'); const { d } = { get d() { return 'STAYS pattern'; } };
      delete (globalThis as any)['STAYS delete']; for (const x of ['STAYS loop']) console.log(x); tag\`STAYS tag\`; function tag(..._: unknown[]) {}
      /* @__NO_SIDE_EFFECTS__ */ function same(x: string) { return x; } function bag() {}
      (() => { const run = console.log; run('STAYS inner'); })(); ((same) => { same('STAYS shadowed'); })(console.log);
      ((bag: any) => { bag.read; })({ get read() { return console.log('STAYS read'); } });`,
  },
  'what is called like something else, or gets accessors from others': {
    'main.ts': `
      const o: any = {}; const list = [(() => { const o: any = {}; o.a = 1; return o; })(), (o.x = 'STAYS outside')]; console.log(o.x);
      const a: any = {}; (() => { const o: any = {}; { const o = a; o.x = 'STAYS block'; } })(); console.log(a.x);
      const b: any = {}; (() => { const o: any = {}; ((o: any) => { o.x = 'STAYS parameter'; })(b); })(); console.log(b.x);
      const c: any = {}; (function (o: any) { o.x = 'STAYS before'; var o: any = {}; })(c); console.log(c.x);
      const made = (() => { const o: any = {}; o.a = 'GONE own'; return o; })(); (() => { const o: any = {}; o['__proto__'] = { set s(_: any) { console.log('STAYS prototype'); } }; o.s = 1; })();
      const p: any = { '__proto__': { get s() { return console.log('STAYS inherited'); } } }; const e = [p.s, 'STAYS read of it'];
      function give(to: any) { Object.defineProperty(to, 'x', { get() { console.log(to); } }); }
      const f: any = {}; give(f); const g = [f.x, 'STAYS given']; const h: any = {}; const h2 = h; give(h2); const i = [h.x, 'STAYS alias'];
      const j: any = { give() { give(this); } }; j.give(); const k = [j.x, 'STAYS this'];
      class L { static { give(this); } } const m = [(L as any).x, 'STAYS block of a class']; class M { static { give(M); } } const n = [(M as any).x, 'STAYS own name'];
      const u = { ...{ get x() { return console.log('STAYS spread'); } } }, v = { ...{ x: 'GONE spread' } };
      const q: any = { x: 'GONE plain' }; const r = [q.x, typeof q, q === o, 'GONE plain read']; function S() {} const t = [S.call, 'GONE function'];`,
  },
  "what fills a namespace that is somebody else's": {
    'main.ts': `import { shared } from './shared'; console.log(shared); const base: any = {}; console.log(base);
      var a: any = shared; (function (N: any) { N.x = 'STAYS import'; })(a || (a = {})); var b: any = base; (function (N: any) { N.x = 'STAYS alias'; })(b || (b = {}));
      var c: any; c = base; (function (N: any) { N.x = 'STAYS later'; })(c || (c = {})); var d: any = base ?? {}; (function (N: any) { N.x = 'STAYS choice'; })(d || (d = {}));
      class E { static set a(v: any) { console.log(v); } } (function (N: any) { N.a = 'STAYS setter'; })(E || ((E as any) = {})); const { f } = { f: shared }; f.x = 'STAYS pattern';
      for (var g of [shared]) { } (function (N: any) { N.x = 'STAYS loop'; })(g || (g = {})); function H() {} H.prototype = Object.create({ set r(v: any) { console.log(v); } }); H.prototype.r = 'STAYS heir';
      var i: any; (function (N: any) { N.x = 'GONE own'; })(i || (i = {})); enum J { A = 1 } namespace J { export const b = 'GONE merged'; }`,
    'shared.ts': 'export const shared: any = {};',
  },
  'built-ins that call back, or refuse what they get': {
    'main.ts': `
      const told = Array.from([1], () => console.log('STAYS callback')), all = Object.values({ get a() { return console.log('STAYS read'); } });
      const into = Object.assign({ set a(_: unknown) { console.log('STAYS set'); } }, { a: 1 }), from = Object.assign({}, { get b() { return console.log('STAYS source'); } });
      const named = Object.assign(() => 'STAYS refused', { name: 'x' }), decoder = new TextDecoder('STAYS label'), size = [Map.prototype.size, 'STAYS size'];
      const big = [+1n, 'STAYS plus'], mixed = [1n + (2 as any), 'STAYS mixed'], inside = ['a' in ('STAYS in' as any)], most = Math.max(1n as any, 'STAYS most' as any);
      const heir = (() => { const made: any = {}; made.__proto__ = { set s(_: unknown) { console.log('STAYS heir'); } }; made.s = 1; return made; })();
      const list = [Array.from(['GONE list']), Array.from({ length: 3 }, ), Object.assign(() => 'GONE function', { label: 'GONE label' }), Object.freeze({ get a() { return 'GONE frozen'; } })];
      const sum = [-(1n), 1n + 2n, 3n > 2, 'GONE big'], prototype = [Map.prototype.get, 'GONE member'];`,
  },
  'marked calls and functions': {
    'main.ts': `
      import { make, quiet, loud } from './marked'; import still from './still'; const g = still('GONE still'), h = wake('STAYS within');
      function wake(x: string) { console.log(x); } export const inner = () => { /* @__NO_SIDE_EFFECTS__ */ function wake(x: string) { return x; } return wake; };
      const a = /* @__PURE__ */ make('GONE call'), b = /*#__PURE__*/ new Thing('GONE new'), c = quiet('GONE quiet'), d = loud('STAYS loud');
      function Thing(this: unknown, x: string) { console.log(x); } const e = /* @__PURE__ */ make(loud('STAYS argument'));
      const f = /* @__PURE__ */ (() => { console.log('GONE at once'); })();`,
    'marked.ts': `export const make = (x: unknown) => { console.log('STAYS? ' + x); return x; };
      /* @__NO_SIDE_EFFECTS__ */ export function quiet(x: string) { return globalThis.atob(x); } export function loud(x: string) { console.log(x); return x; }`,
    'still.ts': 'export default /* @__NO_SIDE_EFFECTS__ */ (x: string) => globalThis.atob(x);',
  },
  'what is added to a name that nobody uses': {
    'main.ts': `import { Used } from './parts'; console.log(Used.label);`,
    'parts.ts': `export function Unused() {} Unused.label = 'GONE label'; Unused.prototype.draw = function () { return 'GONE draw'; };
      export function Used() {} Used.label = 'STAYS label'; let count = 'GONE first'; count = 'GONE second'; export const read = () => count;
      export namespace Gone { export const a = 'GONE namespace'; } export enum Kind { A = 'GONE enum' }`,
  },
  "what is changed through a name that nobody uses, and is somebody else's": {
    'main.ts': `import { tide } from './tide'; console.log(tide);`,
    'tide.ts': `export const tide: any = {}; const o: any = { a: tide }; o.a.x = 'STAYS member'; const list = [tide]; list[0].y = 'STAYS element';
      function Old(this: unknown) {} Old.prototype = tide; Old.prototype.z = 'STAYS prototype'; const late: any = {}; late.q = tide; late.q.w = 'STAYS later'; const loop: any = {}; for (loop.a of [tide]); loop.a.v = 'STAYS loop';
      class Drawn { set draw(v: string) { console.log(v); } static set s(v: string) { console.log(v); } static get g() { return console.log('STAYS getter'); } }
      (Drawn.prototype as any).draw = 'STAYS setter'; Drawn.s = 'STAYS static'; const read = Drawn.g; const inner: any = { in: { set b(v: string) { console.log(v); } } }; inner.in.b = 'STAYS inner';
      const once = (() => { const made: any = { set b(v: string) { console.log(v); } }; made.b = 'STAYS at once'; })();
      const defined: any = {}; Object.defineProperty(defined, 'p', { get: () => console.log('STAYS defined') }); const seen = [defined.p, 'STAYS seen']; const heir: any = {}; heir.__proto__ = { set s(v: string) { console.log(v); } }; heir.s = 'STAYS heir';
      const own: any = { a: {} }; own.a.x = 'GONE member'; function Base() {} function Gone(this: unknown) {} Gone.prototype = Object.create(Base.prototype); Gone.prototype.draw = 'GONE prototype';
      Gone.defaults = {} as any; Gone.defaults.a = 'GONE later'; class Plain { get is() { return 'GONE getter'; } } (Plain as any).label = 'GONE static';`,
  },
  'members of namespaces': {
    'main.ts': `import * as tide from './tide'; import { lib } from './lib'; import * as whole from './whole'; console.log(tide.high, tide['mid'], lib.berth(), pick(whole)); function pick(x: any) { return x[Math.random()]; }`,
    'tide.ts': `export const high = 'STAYS high', mid = 'STAYS mid', low = 'GONE low';`,
    'lib.ts': `export * as lib from './berths';`,
    'berths.ts': `export const berth = () => 'STAYS berth', quay = () => 'GONE quay';`,
    'whole.ts': `export const a = 'STAYS a', b = 'STAYS b';`,
  },
  'packages that say what their modules do': {
    'main.ts': `import { used } from 'quiet'; import 'quiet/bare'; import { listed } from 'listed'; import 'listed/also'; import { other } from 'plain'; console.log(used, other);`,
    'node_modules/quiet/package.json':
      '{ "name": "quiet", "sideEffects": false, "exports": { ".": "./index.mjs", "./bare": "./bare.mjs" } }',
    'node_modules/quiet/index.mjs': `export { used } from './used.mjs'; export { unused } from './unused.mjs'; console.log('GONE barrel');`,
    'node_modules/quiet/used.mjs': `console.log('STAYS with used'); export const used = () => 'STAYS used';`,
    'node_modules/quiet/unused.mjs': `console.log('GONE unused'); export const unused = 1;`,
    'node_modules/quiet/bare.mjs': `console.log('GONE bare');`,
    'node_modules/listed/package.json':
      '{ "name": "listed", "type": "module", "sideEffects": ["./also.js", "*.setup.js"], "exports": { ".": "./index.js", "./also": "./also.js" } }',
    'node_modules/listed/index.js': `import './deep/x.setup.js'; export * from './gone.js';`,
    'node_modules/listed/gone.js': `console.log('GONE listed'); export const listed = 1;`,
    'node_modules/listed/also.js': `console.log('STAYS also');`,
    'node_modules/listed/deep/x.setup.js': `console.log('GONE through a module that is left out');`,
    'node_modules/plain/package.json': '{ "name": "plain", "type": "module", "main": "index.js" }',
    'node_modules/plain/index.js': `console.log('STAYS plain'); export const other = 1; export const third = 'GONE third';`,
  },
  'constants of other modules, and what only dead branches import': {
    'main.ts': `import { DEBUG, LEVEL, NAME } from './flags'; import { panel } from './panel'; import { Kind } from './kind';
      if (DEBUG) panel(); if (LEVEL === 2) console.log('GONE level'); else console.log('STAYS level'); DEBUG && import('./tools'); console.log(DEBUG ? 'GONE yes' : 'STAYS no', NAME);
      if (process.env.NODE_ENV !== 'production') import('./tools'); if (Kind.Low === Kind.High) console.log('GONE kind');
      if (import.meta.live) import('./tools'); import.meta.live?.take(() => console.log('GONE take')); const told = import.meta.live?.state.told ?? 'STAYS told'; console.log(told);`,
    'flags.ts': `export const DEBUG = false; const base = true; export const LEVEL = base ? 1 : 2; export const NAME = 'STAYS name';`,
    'panel.ts': `export const panel = () => 'GONE panel';`,
    'tools.ts': `console.log('GONE tools');`,
    'kind.ts': `export enum Kind { Low = 1, High }`,
  },
  'what is used of a module that comes later': {
    'main.ts': `const { a } = await import('./one'); import('./two').then(({ c }) => console.log(c)); import('./three').then((m) => m.e); console.log(a, (await import('./four')).g); import('./five'); console.log(await import('./six'));`,
    'one.ts': `export const a = 'STAYS a', b = 'GONE b';`,
    'two.ts': `export const c = 'STAYS c', d = 'GONE d';`,
    'three.ts': `export const e = 'STAYS e', f = 'GONE f';`,
    'four.ts': `export const g = 'STAYS g', h = 'GONE h';`,
    'five.ts': `console.log('STAYS five'); export const i = 'GONE i';`,
    'six.ts': `export const j = 'STAYS j';`,
  },
  'members of JSON and of class names': {
    'main.ts': `import harbour from './harbour.json'; import { fare } from './fares.json'; import whole from './whole.json'; import names from './berth.module.css'; console.log(harbour.name, fare, whole, names.row);`,
    'harbour.json': '{ "name": "STAYS name", "address": "GONE address" }',
    'fares.json': '{ "fare": "STAYS fare", "other": "GONE other" }',
    'whole.json': '{ "all": "STAYS all" }',
    'berth.module.css': '.row { color: red } .gone { color: blue }',
  },
  'cycles, and what they need': {
    'main.ts': `import { a } from './a'; console.log(a());`,
    'a.ts': `import { b } from './b'; export const a = () => 'STAYS a' + b(); export const lost = 'GONE a';`,
    'b.ts': `import { a } from './a'; export const b = () => (globalThis.deep ? a() : 'STAYS b'); export const lost = () => a() + 'GONE b';`,
  },
  'objects and enumerations that are only read by constant members': {
    'main.ts': `import { Tide, sizes } from './tide'; import { kept } from './kept'; console.log(Tide.High, sizes.small, kept.a, Object.keys(kept)); if (sizes.large > 3) console.log('GONE large');`,
    'tide.ts': `export enum Tide { High = 'STAYS high', Low = 'GONE low' } export const sizes = { small: 'STAYS small', large: 2, other: 'GONE other' };`,
    'kept.ts': `export const kept = { a: 'STAYS a', b: 'STAYS b' };`,
  },
};
