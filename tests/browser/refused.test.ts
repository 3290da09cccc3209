import { expect, test } from '@jest/globals';
import { ServedPage } from '../support/served-page.js';

const at = new ServedPage();
/** A pattern that parsers of scripts let pass and that engines refuse, with the whole script that it's in. */
const refused = `exports.name = 'mast';\nexports.find = /(?<knot>a)(?<knot>b)/;\n`;

test('a module that the browser can not parse takes no other with it, in pieces of the page and in late ones', async () => {
  await at.start({
    'index.html': '<!doctype html><script type="module" src="main.js"></script>',
    'main.js': `import mast from 'mast';\nimport { sail } from 'sail';\nglobalThis.said = [typeof mast.name, sail];\nglobalThis.late = () => import('./late.js').then(({ late, rope }) => [late, typeof rope]);\n`,
    'late.js': `export { default as rope } from './rope.cjs';\nexport const late = 'late';\n`,
    'rope.cjs': refused,
    'node_modules/mast/package.json': '{ "name": "mast" }',
    'node_modules/mast/index.js': refused,
    'node_modules/sail/package.json': '{ "name": "sail" }',
    'node_modules/sail/index.js': `exports.sail = 'set';\n`,
  });
  await at.page.waitForFunction('globalThis.said');
  expect(await at.page.evaluate('said')).toEqual(['undefined', 'set']);
  const { problem } = await at.program.next('error', { where: (event) => event.problem.file === 'node_modules/mast/index.js' });
  expect([problem.message, problem.position.line]).toEqual([expect.stringContaining('SyntaxError'), 2]);
  expect(await at.page.evaluate('late()')).toEqual(['late', 'object']);
  await at.program.next('error', { where: (event) => event.problem.file === 'rope.cjs' });
});
