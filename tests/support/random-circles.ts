import { type ProgramFiles, randomNumbers } from './random-program.js';

/**
 * A program whose modules import each other in circles, come to them from several sides, and tell when they run. Between them run modules
 * that share their scope with nobody, and some modules have nothing to run. They read each other's constants as they run.
 */
export function randomCircles(seed: number): ProgramFiles {
  const number = randomNumbers(seed);
  const count = 4 + number(10);
  const most = 3 + number(3);
  const files: ProgramFiles = {};
  for (let at = 0; at < count; at++) {
    const targets = new Set(Array.from({ length: number(most) }, () => number(count)));
    if (at === 0) targets.add(1);
    targets.delete(at);
    const read: number[] = [];
    const lines = [...targets].map((to) => {
      if (number(2)) return `import './m${to}.js';`;
      read.push(to);
      return `import { f${to}, k${to}, l${to}, r${to} } from './m${to}.js'; export const g${to} = () => f${to}(); log(r${to}(), tell(() => l${to}));`;
    });
    if (number(5) < 2) {
      files[`alone${at}.js`] =
        `import { r${at} } from './m${at}.js'; eval('1'); export const told = () => r${at}();\nlog('alone ${at}', told());`;
      lines.splice(number(2) * lines.length, 0, `import { told } from './alone${at}.js';`);
    }
    if (number(10) > 0) lines.push(`log('${at}');`);
    if (number(20) === 0) lines.push(`await 0; log('later ${at}');`);
    // What is read too early fails, and is there in the moment in which it's declared, wherever a function is called for it.
    const told = [`k${at}`, `l${at}`, 'own', 'grown', ...read.map((to) => `k${to}`)].map((name) => `tell(() => ${name})`);
    const again = [...read.map((to) => `log(r${to}());`), ...(`alone${at}.js` in files ? ['log(told());'] : [])].join(' ');
    files[`m${at}.js`] =
      `${lines.join('\n')}\nexport const f${at} = () => [${at}], k${at} = [${at}]; export const l${at} = 'low ${at}'; const own = 'own ${at}'; export let grown = own; ${again}
export function r${at}() { return [${told}].join(); }
function tell(read) { try { return read(); } catch (error) { return error.name; } }
grown += '!'; ${again}\n`;
  }
  const loads = [0, number(count), number(count)].map(
    (at) => `await import('./m${at}.js').then((all) => log(Object.keys(all).join()));`,
  );
  return { ...files, 'main.js': `log('begins');`, 'last.js': `${loads.join('\n')}\nended();\n` };
}
