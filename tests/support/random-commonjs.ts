import { type ProgramFiles, randomNumbers } from './random-program.js';

/** Names that are exported; some mean something to those who import. */
const names = ['a', 'b', 'default', 'length', 'name'];

/** A program of CommonJS modules that Node.js runs too: they require each other in circles, in all places, and say what they are given. */
export function randomCommonJs(seed: number): ProgramFiles {
  const number = randomNumbers(seed);
  const pick = <T>(some: readonly T[]): T => some[number(some.length)]!;
  const count = 3 + number(6);
  let last = 0;
  const made = () => ++last;
  const files: ProgramFiles = {
    'd.json': '{ "a": 1, "b-c": [2], "default": 3, "__esModule": true }',
    'l.json': '[1, { "a": 2 }]',
  };
  for (let at = 0; at < count; at++) {
    const required = () => {
      const to = number(6) === 0 ? number(count) : at + 1 + number(count - at);
      return to >= count ? `require('./${pick(['d', 'l'])}.json')` : `require('./c${to}.cjs')`;
    };
    const prop = () => (number(4) ? `.${pick(names)}` : `['${pick(names)}']`);
    const value = () =>
      pick<() => string>([
        () => String(made()),
        () => `() => ${made()}`,
        () => `class { static s = ${made()} }`,
        () => `{ deep: ${made()} }`,
        () => 'this === module.exports',
        required,
      ])();
    const statements: (() => string)[] = [
      () => `exports${prop()} = ${value()};`,
      () => `module.exports${prop()} = ${value()};`,
      () => `${pick(['', 'exports = '])}module.exports = { ...${required()}, m: ${value()} };`,
      () => `module.exports = ${pick(['function () {}', '[4]', 'exports'])};`,
      () =>
        `Object.defineProperty(exports, '${pick(names)}', { enumerable: ${number(2) > 0}, get: () => ${value()}, configurable: true });`,
      () => `${pick(['exports.', 'module.exports.'])}__esModule = true;`,
      () => `this.t${made()} = ${value()};`,
      () => `const { a: a${made()}, b = 'none' } = ${required()}; log(show(a${last}), show(b));`,
      () => `try { log(show(${required()})); } catch (error) { log('caught ' + error.message); }`,
      () => `if (${pick(['true', 'at > 1', 'false'])}) log(show(${required()}));`,
      () => `function late() { return ${required()}; } ${pick(['log(show(late()));', 'exports.late = late;'])}`,
      () => `Object.assign(module.exports, ...[${required()}, { ... ${required()} }]);`,
      () => `for (const key in ${required()}) log(key);`,
      () => `log(show(module.exports), exports === module.exports, arguments.length, require.main === module);`,
      () => `log((function () { return typeof this; })(), 010, typeof undeclared_${seed}); undeclared_${seed} = ${made()};`,
      () => `with (${required()}) { log(show(typeof a === 'undefined' ? 0 : a)); }`,
      () => `log(show(eval('${pick(['exports', 'var inner = 4; inner'])}')));`,
      () =>
        `!function (root, fill) { typeof exports === 'object' ? fill(exports) : fill(root); }(this, (kit) => { kit.umd = ${made()}; });`,
      () => `const whole = ${required()}, kit = whole && whole.__esModule ? whole : { default: whole }; log(show(kit.default));`,
      () => `delete exports.${pick(names)}; exports.n = (exports.n || 0) + 1;`,
      () => `${required()}.mutated = ${made()};`,
      () =>
        `if (${seed % 3 === 0} && !globalThis.once_${seed}_${at}) { globalThis.once_${seed}_${at} = true; throw new Error('aground ${at}'); }`,
      () => `if (${number(4) === 0}) return;`,
    ];
    const body = Array.from({ length: 2 + number(7) }, () => `{ ${pick(statements)()} }`);
    files[`c${at}.cjs`] = `const at = ${at}; log('${at} begins');\n${body.join('\n')}\nlog('${at} ends');\n`;
  }
  const entries = Array.from({ length: 1 + number(3) }, () => number(count));
  const imports = entries.map((to, place) =>
    pick([
      `import d${place} from './c${to}.cjs'; log(show(d${place}));`,
      `import * as s${place} from './c${to}.cjs'; log(show(s${place}.default));`,
      `await import('./c${to}.cjs').then((all) => log(show(all.default)), (error) => log(error.name));`,
    ]),
  );
  files['show.js'] = `globalThis.show = (value, depth = 0) => {
  if (typeof value === 'function') return /^class/.test(value) ? 'class' : 'function';
  if (value === null || typeof value !== 'object') return typeof value + ' ' + String(value);
  return depth > 1 ? '…' : \`{\${Object.getOwnPropertyNames(value).sort().map((key) => key + ': ' + show(value[key], depth + 1)).join()}}\`;
};\n`;
  return { ...files, 'main.js': `import './show.js';\n${imports.join('\n')}\n`, 'last.js': 'ended();' };
}
