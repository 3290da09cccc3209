import type { ProgramFiles } from './random-program.js';

const last = 'ended();';

/** Mixtures of CommonJS and ECMAScript modules that Node.js runs too. */
export const commonJsCases: Record<string, ProgramFiles> = {
  cycles: {
    'main.js': `import a from './a.cjs'; log(JSON.stringify(a));`,
    'a.cjs': `exports.early = 1; const b = require('./b.cjs'); exports.seen = b.seen; exports.late = 2;`,
    'b.cjs': `const a = require('./a.cjs'); exports.seen = Object.keys(a).join(); exports.same = a === require('./a.cjs');`,
    'last.js': last,
  },
  replaced: {
    'main.js': `import made, * as ns from './made.cjs'; import { named } from './named.cjs'; log(made(2), typeof ns.default, named);`,
    'made.cjs': `exports.before = 1; module.exports = (n) => n * 2; module.exports.extra = 3;`,
    'named.cjs': `Object.defineProperty(exports, 'named', { enumerable: true, value: 'defined' });`,
    'last.js': last,
  },
  conventions: {
    'main.js': `import whole from './marked.cjs'; log(whole.__esModule, whole.default, whole.other);`,
    'marked.cjs': `Object.defineProperty(exports, '__esModule', { value: true }); exports.default = 'the default'; exports.other = 'other';`,
    'last.js': last,
  },
  requiring: {
    'main.js': `import all from './all.cjs'; log(all);`,
    'all.cjs': `const tide = require('./tide.json'); let inBranch = 'none'; if (tide.high > 3) { inBranch = require('./branch.cjs'); }
function late() { return require('./late.cjs').value; }
let missing; try { require('./not-there.cjs'); } catch (error) { missing = error.code; }
module.exports = [tide.high, inBranch, late(), missing, this === exports, typeof module, typeof exports, typeof require, typeof define].join(' ');`,
    'tide.json': '{ "high": 4 }',
    'branch.cjs': `module.exports = 'branch';`,
    'late.cjs': `exports.value = 'late';`,
    'last.js': last,
  },
  spread: {
    'main.js': `import all, { low } from './all.cjs'; log(JSON.stringify(all), Array.isArray(all.berths), low);`,
    'all.cjs': `const tide = require('./tide.json'); tide.seen = Object.keys(tide).join();
exports.low = 1; module.exports = { ...require('./one.cjs'), ...(true && require('./two.cjs')), list: [... /* all */ require('./berths.json')], tide, berths: require('./berths.json'), low: 2 };
Object.assign(module.exports, ...[{ ...require('./three.cjs') }]);`,
    'one.cjs': 'exports.one = 1;',
    'two.cjs': 'exports.two = 2;',
    'three.cjs': 'exports.three = 3;',
    'tide.json': '{ "high": 4, "low-water": [1], "default": 5, "__esModule": true }',
    'berths.json': '[1, { "a": 2 }]',
    'last.js': last,
  },
  throwing: {
    'main.js': `try { await import('./throws.cjs'); } catch (error) { log(error.message); }\nimport { createRequire } from './none.js'; log(typeof createRequire);`,
    'throws.cjs': `log('runs'); throw new Error('aground');`,
    'none.js': 'export const createRequire = 0;',
    'last.js': last,
  },
  wrapped: {
    'main.js': `import umd from './umd.cjs'; import iife from './iife.cjs'; log(umd.kind, iife.value, umd.root);`,
    'umd.cjs': `!function(e,t){"object"==typeof exports&&"undefined"!=typeof module?module.exports=t():"function"==typeof define&&define.amd?define(t):(e=e||self).Kit=t()}(this,function(){"use strict";return{kind:"umd",root:typeof globalThis}});`,
    'iife.cjs': `(function (global, factory) { factory(exports); })(this, function (exports) { exports.value = 'iife'; });`,
    'last.js': last,
  },
  passedOn: {
    'main.js': `import { one, two } from './index.cjs'; import * as all from './star.js'; log(one, two, all.one, Object.keys(all).includes('two'));`,
    'index.cjs': `exports.one = require('./one.cjs').one; exports.two = 2;`,
    'one.cjs': `exports.one = 1;`,
    'star.js': `export * from './index.cjs';`,
    'last.js': last,
  },
  sloppy: {
    'main.js': `import said from './sloppy.cjs'; log(said);`,
    'sloppy.cjs': `var list = [arguments.length > 2]; with ({ inner: 'with' }) { list.push(inner); }\nlist.push(typeof (function () { return this; })()); var yield = 1, let = 2; list.push(010, yield + let); module.exports = list.join(' ');`,
    'last.js': last,
  },
};
