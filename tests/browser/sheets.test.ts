import { expect, test } from '@jest/globals';
import { untilTrue } from '../support/browser.js';
import { ServedPage } from '../support/served-page.js';

const at = new ServedPage();
const taking = 'import.meta.live?.take();\n';
const berths = Array.from({ length: 12 }, (_, n) => n);

/** Twelve modules, each with a sheet that sets the same order, and a late one with three more. */
function harbour(head = ''): Record<string, string> {
  return {
    'index.html': `<!doctype html><head>${head}<title>Berths</title></head><body><p>pier</p><script type="module" src="main.js"></script>`,
    'main.js': `${berths.map((n) => `import './berth${n}.js';`).join('\n')}
      document.querySelector('p').onclick = () => import('./late.js').then(() => document.querySelector('p').classList.add('late'));\n`,
    'late.js': `import './late0.css';\nimport './late1.css';\nimport './berth3.css';\nimport './late2.css';\n`,
    ...Object.fromEntries(berths.map((n) => [`berth${n}.js`, `import './berth${n}.css';\n${taking}`])),
    ...Object.fromEntries(berths.map((n) => [`berth${n}.css`, `p { order: ${n}; margin-top: ${n}px; content: '</style>'; }\n`])),
    ...Object.fromEntries([0, 1, 2].map((n) => [`late${n}.css`, `p { padding-top: ${n + 1}px; order: ${100 + n}; }\n`])),
  };
}

const style = async (name: string) =>
  (await at.page.evaluate(`getComputedStyle(document.querySelector('p'))['${name}']`)) as string;

/** Paths of the sheets that the page asked for. */
const asked = () =>
  at.page.evaluate(() =>
    performance
      .getEntriesByType('resource')
      .map(({ name }) => new URL(name).pathname)
      .filter((path) => /\/(?:style|sheets)\//.test(path)),
  );

/** Ids of the sheets in the order of the cascade. */
const inOrder = () =>
  at.page.evaluate(() =>
    [...document.querySelectorAll('[data-spark-style], [data-spark-sheets]')].flatMap((element) => {
      const several = element.getAttribute('data-spark-sheets');
      return several ? Object.keys(JSON.parse(several)) : [element.getAttribute('data-spark-style')!];
    }),
  );

const all = berths.map((n) => `berth${n}.css`);

/** What holds wherever the sheets stand: edits, late ones, ones that go and come. */
async function staysRight(): Promise<void> {
  expect([await style('order'), await style('marginTop'), await inOrder()]).toEqual(['11', '11px', all]);
  await at.save({ 'berth4.css': 'p { margin-left: 4px; order: 4; }' });
  expect([await style('order'), await style('marginLeft')]).toEqual(['11', '4px']);
  await at.save({ 'berth10.js': taking, 'berth11.js': `import './berth11.css';\nimport './berth10.css';\n${taking}` });
  expect(await inOrder()).toEqual([...all.slice(0, 10), 'berth11.css', 'berth10.css']);
  expect(await style('order')).toBe('10');
  await at.page.click('p');
  await at.page.waitForSelector('p.late');
  expect(await inOrder()).toEqual([...all.slice(0, 10), 'berth11.css', 'berth10.css', 'late0.css', 'late1.css', 'late2.css']);
  expect([await style('order'), await style('paddingTop')]).toEqual(['102', '3px']);
  await at.save({ 'late1.css': 'p { padding-top: 9px; }', 'late2.css': 'p { order: 7; }' });
  // Links of a page whose policy wants them are loaded, which takes its time on a busy machine.
  await untilTrue(at.page, "getComputedStyle(document.querySelector('p')).paddingTop === '9px'");
  expect(await style('order')).toBe('7');
  await at.save({ 'berth5.js': taking });
  expect(await inOrder()).not.toContain('berth5.css');
  expect(at.loads()).toBe(1);
}

test('a module that becomes late, and is asked for later, has its sheets again, as they are now', async () => {
  const late = { 'late.js': `import './late.css';\nexport const berth = 4;\n`, 'late.css': 'p { order: 4; }' };
  await at.start({ ...harbour(), ...late, 'main.js': `import './late.js';\n${taking}` });
  expect(await style('order')).toBe('4');
  await at.save({ 'late.css': 'p { order: 7; }' });
  await at.save({
    'main.js': `document.querySelector('p').onclick = () => import('./late.js').then(() => (document.title = 'late'));\n${taking}`,
  });
  expect(await style('order')).toBe('0');
  await at.page.click('p');
  await at.page.waitForFunction(`document.title === 'late'`);
  expect(await style('order')).toBe('7');
  expect(at.loads()).toBe(1);
});

test('the sheets that modules import are no requests, however many there are', async () => {
  await at.start(harbour());
  await staysRight();
  expect(await asked()).toEqual([]);
});

test('a page whose policy forbids style elements gets them in one file, until one of them changes', async () => {
  await at.start(harbour(`<meta http-equiv="content-security-policy" content="default-src 'self'; connect-src *">`));
  expect(await asked()).toEqual(['/~spark/sheets/index.html/0.css']);
  const [map] = (await at.page.evaluate(
    `fetch('/~spark/sheets/index.html/0.css').then((answer) => answer.text()).then((text) => text.match(/sourceMappingURL=([^ ]+)/).slice(1))`,
  )) as [string];
  const { sections } = (await at.page.evaluate(`fetch('${map}').then((answer) => answer.json())`)) as {
    sections: { offset: { line: number }; map: { sources: string[] } }[];
  };
  expect(sections.map(({ offset, map: { sources } }) => [offset.line, sources[0]])).toEqual(
    all.map((id, place) => [place * 2, `/${id}`]),
  );
  await staysRight();
  expect(at.console.filter((line) => line.includes('Refused'))).toEqual([]);
});

test('a policy that somebody puts in front is noticed: links take the places of what it refuses', async () => {
  await at.start(harbour());
  const context = await at.browser.newContext();
  await context.route('**/*', async (route) => {
    const answer = await route.fetch();
    const headers = { ...answer.headers(), 'content-security-policy': "default-src 'self'; connect-src *" };
    await route.fulfill({ response: answer, headers });
  });
  const page = await context.newPage();
  await page.goto(at.program.url);
  await untilTrue(page, "getComputedStyle(document.querySelector('p')).order === '11'");
  expect(await page.locator('link[data-spark-style]').count()).toBe(12);
  expect(await page.locator('style[data-spark-style]').count()).toBe(0);
  await context.close();
});
