import { expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { ServedPage } from '../support/served-page.js';

const at = new ServedPage();
const tide = (word: string) => `export const tide = '${word}';\n`;

test('a page that got the answers of the last start takes updates, and its debugger finds the sources', async () => {
  await at.start(
    {
      'index.html': '<!doctype html><button>0</button><script type="module" src="src/main.js"></script>',
      'src/main.js': `import { tide } from './tide.js';\nimport.meta.live?.take('./tide.js', ({ tide }) => { document.title = tide; });
document.title = tide;\nconst button = document.querySelector('button');\nbutton.onclick = () => { button.textContent = Number(button.textContent) + 1; };\n`,
      'src/tide.js': tide('low'),
      'node_modules/mast/index.js': '',
    },
    ['index.html', '--cache'],
  );
  await at.page.goto('about:blank');
  await at.program.stop();
  const next = new Program(at.workspace.root, ['serve', 'index.html', '--port', '0', '--json']);
  const { url } = await next.next('listening');
  await at.page.goto(url);
  await at.page.click('button');
  await next.next('joined');
  at.workspace.write({ 'src/tide.js': tide('high') });
  await next.next('applied');
  expect([await at.page.title(), await at.page.textContent('button')]).toEqual(['high', '1']);
  const piece = await (await fetch(`${url}~spark/piece/page/index.html/app.js`)).text();
  const map = await fetch(new URL(/sourceMappingURL=(\S+)/.exec(piece)![1]!, url));
  expect(await map.text()).toContain('/src/main.js');
  await next.stop();
});
