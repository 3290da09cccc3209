import { type ProgramFiles, randomNumbers } from './random-program.js';

/**
 * A program whose modules import each other in circles, come to them from several sides, and tell when they run. Between them run modules
 * that share their scope with nobody, and some modules have nothing to run.
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
    const lines = [...targets].map((to) =>
      number(2) ? `import './m${to}.js';` : `import { f${to} } from './m${to}.js'; export const g${to} = () => f${to}();`,
    );
    if (number(5) < 2) {
      files[`alone${at}.js`] = `eval('1'); log('alone ${at}');`;
      lines.splice(number(2) * lines.length, 0, `import './alone${at}.js';`);
    }
    if (number(10) > 0) lines.push(`log('${at}');`);
    if (number(20) === 0) lines.push(`await 0; log('later ${at}');`);
    files[`m${at}.js`] = `${lines.join('\n')}\nexport const f${at} = () => [${at}];\n`;
  }
  const loads = [0, number(count), number(count)].map(
    (at) => `await import('./m${at}.js').then((all) => log(Object.keys(all).join()));`,
  );
  return { ...files, 'main.js': `log('begins');`, 'last.js': `${loads.join('\n')}\nended();\n` };
}
