import { cpSync, renameSync, rmSync, symlinkSync, utimesSync } from 'node:fs';
import { describe, expect, test } from '@jest/globals';
import { openPage } from '../support/browser.js';
import { ServedPage } from '../support/served-page.js';

/** Everything beside modules that can change under a page, and the ways in which files come and go. */

const at = new ServedPage();
const svg = (width: number) => `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="4"/>`;
const takes = 'import.meta.live?.take();\n';

async function start(files: Record<string, string>, args?: readonly string[]): Promise<void> {
  await at.start({ 'index.html': '<!doctype html><script type="module" src="main.js"></script>', ...files }, args);
  await at.page.evaluate('window.stayed = true');
}

const stayed = () => at.page.evaluate('window.stayed === true');

describe('files that are no modules', () => {
  test('an image that the HTML names is replaced in place, wherever it is named', async () => {
    await start({
      'index.html': `<!doctype html><link rel="icon" href="gull.svg"><style>#a { background: url(gull.svg) }</style>
        <p id="a"></p><p id="b" style="background: url('/gull.svg')"></p><img src="gull.svg" srcset="/gull.svg 2x"><svg><image href="gull.svg"/></svg>
        <script type="module" src="main.js"></script>`,
      'main.js': takes,
      'gull.svg': svg(10),
    });
    await at.page.waitForFunction(`document.images[0].naturalWidth === 5 || document.images[0].naturalWidth === 10`);
    const applied = await at.change(() => at.workspace.write({ 'gull.svg': svg(40) }));
    expect(applied.files).toEqual(['/gull.svg']);
    await at.page.waitForFunction(`document.images[0].naturalWidth >= 20`);
    const named: string = await at.page.evaluate(
      `[document.querySelector('link').href, document.querySelector('style').textContent, document.querySelector('#b').style.background, document.images[0].srcset, document.querySelector('image').getAttribute('href')].join(' ')`,
    );
    expect(named.match(/gull\.svg\?v=/g)).toHaveLength(5);
    expect(await stayed()).toBe(true);
  });

  test('verbatim files: an image is replaced, one that a script fetched reloads the page and says so, others change nothing', async () => {
    await start({
      'index.html': `<!doctype html><img src="/mark.svg"><script type="module" src="main.js"></script>`,
      'main.js': `${takes}document.title = (await (await fetch('/tides.json')).json()).level;\n`,
      'public/mark.svg': svg(10),
      'public/tides.json': '{ "level": "high" }',
      'public/unused.txt': 'one',
    });
    await at.page.waitForFunction(`document.title === 'high'`);
    const applied = await at.change(() => at.workspace.write({ 'public/mark.svg': svg(30), 'public/unused.txt': 'two' }));
    expect(applied.files).toEqual(['/mark.svg']);
    expect(await stayed()).toBe(true);
    const reloaded = await at.change(() => at.workspace.write({ 'public/tides.json': '{ "level": "low" }' }), 'reloaded');
    expect(reloaded).toMatchObject({ reason: 'the page loaded this file, which changed', chain: ['/tides.json'] });
    await at.page.waitForFunction(`document.title === 'low'`);
  });

  test('a script that is no module, and the HTML itself, reload the page and say so', async () => {
    await start({
      'index.html': '<!doctype html><body><script src="old.js"></script><script type="module" src="main.js"></script>',
      'old.js': `document.title = 'one';`,
      'main.js': takes,
    });
    const classic = await at.change(() => at.workspace.write({ 'old.js': `document.title = 'two';` }), 'reloaded');
    expect(classic.reason).toBe('old.js changed, which is no module');
    await at.page.waitForFunction(`document.title === 'two'`);
    const page = '<!doctype html><body class="night"><script type="module" src="main.js"></script>';
    const html = await at.change(() => at.workspace.write({ 'index.html': page }), 'reloaded');
    expect(html.reason).toBe('index.html changed');
    expect(await at.page.evaluate('document.body.className')).toBe('night');
  });
});

describe('packages', () => {
  const main = `${takes}import { tide } from 'tides'; document.title = tide;\n`;
  const manifest = (version: string) => `{ "name": "tides", "version": "${version}", "type": "module", "main": "index.js" }`;

  test('one that is edited, upgraded and linked reaches the page', async () => {
    await start({
      'main.js': main,
      'node_modules/tides/package.json': manifest('1.0.0'),
      'node_modules/tides/index.js': `export const tide = 'one';`,
    });
    // Saved at once after a start, and after an update: before and after are files that nobody watched for a moment.
    for (const word of ['one', 'edited', 'edited again', 'and again']) {
      await at.page.waitForFunction(`document.title === '${word}'`);
      const next = { one: 'edited', edited: 'edited again', 'edited again': 'and again' }[word];
      if (next !== undefined) at.workspace.write({ 'node_modules/tides/index.js': `export const tide = '${next}';` });
    }
    expect(await stayed()).toBe(true);
    // As package managers do it: another folder takes the place of the old one, and the lock file comes last.
    at.workspace.write({ 'node_modules/.tides-new/package.json': manifest('2.0.0') });
    at.workspace.write({ 'node_modules/.tides-new/lib/entry.js': `export const tide = 'upgraded';` });
    at.workspace.write({ 'node_modules/.tides-new/package.json': manifest('2.0.0').replace('index.js', 'lib/entry.js') });
    rmSync(at.workspace.path('node_modules/tides'), { recursive: true });
    renameSync(at.workspace.path('node_modules/.tides-new'), at.workspace.path('node_modules/tides'));
    at.workspace.write({ 'node_modules/.package-lock.json': '{}' });
    await at.page.waitForFunction(`document.title === 'upgraded'`);
    // A link to a folder elsewhere, as for working on a package beside the application.
    at.workspace.write({ 'own/tides/package.json': manifest('3.0.0'), 'own/tides/index.js': `export const tide = 'linked';` });
    rmSync(at.workspace.path('node_modules/tides'), { recursive: true });
    symlinkSync(at.workspace.path('own/tides'), at.workspace.path('node_modules/tides'));
    await at.page.waitForFunction(`document.title === 'linked'`);
    // The page may just be loading anew.
    at.workspace.write({ 'own/tides/index.js': `export const tide = 'edited where it is';` });
    await at.page.waitForFunction(`document.title === 'edited where it is'`);
  });

  test('one that was missing is found once it is installed, in a project that had none', async () => {
    await start({ 'main.js': main });
    await at.page.locator('spark-panel section').waitFor();
    at.workspace.write({
      'node_modules/tides/package.json': manifest('1.0.0'),
      'node_modules/tides/index.js': `export const tide = 'installed';`,
    });
    await at.page.waitForFunction(`document.title === 'installed'`);
    expect(await at.page.locator('spark-panel').count()).toBe(0);
  });
});

describe('what modules and sheets are made of', () => {
  const files = {
    'main.js': `${takes}import data from './tides.json'; import gull from './gull.svg'; import classes from './row.module.css'; import night from './night.css' with { type: 'css' }; import './board.css'; import './marks.scss';
      fetch(new URL('./hours.txt', import.meta.url)).then(async (answer) => { document.body.dataset.hours = await answer.text(); });
      document.adoptedStyleSheets = [night];
      document.title = [data.level, gull.split('?v=').length, classes.row !== undefined, classes.line !== undefined].join();
      document.querySelector('p').className = Object.values(classes)[0];\n`,
    'index.html':
      '<!doctype html><style>@import "./own.css";</style><body><p>berth</p><script type="module" src="main.js"></script>',
    'tides.json': '{ "level": 1 }',
    'gull.svg': svg(1),
    'row.module.css': '.row { margin-top: 1px; composes: wide from "./wide.module.css"; }',
    'wide.module.css': '.wide { margin-left: 1px; }',
    'own.css': 'p { margin-right: 1px; }',
    'hours.txt': 'early',
    'marks.scss': "@use 'tides/marks';",
    'node_modules/tides/package.json': '{ "name": "tides", "version": "1.0.0" }',
    'node_modules/tides/_marks.scss': 'p { border: 1px solid; }',
    'night.css': 'p { padding-top: 1px; }',
    'board.css': `@import './deep.css';`,
    'deep.css': `@import './deeper.css';`,
    'deeper.css': 'p { padding-left: 1px; }',
    'tokens.txt': '1px',
    'postcss.config.mjs': `import { readFileSync } from 'node:fs';
      const file = new URL('./tokens.txt', import.meta.url).pathname;
      export default { plugins: [{ postcssPlugin: 'tokens', OnceExit(root, { result }) {
        if (!root.source.input.file.endsWith('deeper.css')) return;
        result.messages.push({ type: 'dependency', file, parent: root.source.input.file });
        root.append('p { padding-right: ' + readFileSync(file, 'utf8') + '; }');
      } }] };`,
  };
  const style = (name: string) => at.page.evaluate(`getComputedStyle(document.querySelector('p')).${name}`);

  test('a save of any of it shows at once, without a reload', async () => {
    await start(files);
    expect(await at.page.title()).toBe('1,2,true,false');
    expect([await style('paddingLeft'), await style('paddingRight'), await style('paddingTop')]).toEqual(['1px', '1px', '1px']);
    await at.save({ 'tides.json': '{ "level": 2 }' });
    expect(await at.page.title()).toBe('2,2,true,false');
    expect((await at.save({ 'gull.svg': svg(2) })).ran).toContain('main.js');
    await at.save({ 'wide.module.css': '.wide { margin-left: 2px; }' });
    await at.save({ 'own.css': 'p { margin-right: 2px; }' });
    await at.save({ 'hours.txt': 'late' });
    await at.page.waitForFunction(`document.body.dataset.hours === 'late'`);
    await at.save({ 'node_modules/tides/_marks.scss': 'p { border: 2px solid; }' });
    expect([await style('marginLeft'), await style('marginRight'), await style('borderTopWidth')]).toEqual(['2px', '2px', '2px']);
    await at.save({ 'row.module.css': '.line { margin-top: 2px; }' });
    expect(await at.page.title()).toBe('2,2,false,true');
    expect(await style('marginTop')).toBe('2px');
    await at.save({ 'night.css': 'p { padding-top: 2px; }' });
    expect(await style('paddingTop')).toBe('2px');
    await at.save({ 'deeper.css': 'p { padding-left: 2px; }' });
    expect(await style('paddingLeft')).toBe('2px');
    await at.save({ 'tokens.txt': '2px' });
    expect(await style('paddingRight')).toBe('2px');
    expect(await stayed()).toBe(true);
    expect(at.console.filter((line) => line.startsWith('Vine Spark: updated')).at(-1)).toMatch(
      /^Vine Spark: updated board\.css in \d+ ms$/,
    );
  });
});

test('a problem behind an import() is told when it is asked for, and goes when it is solved', async () => {
  await start({
    'index.html': '<!doctype html><button>tide</button><script type="module" src="main.js"></script>',
    'main.js': `document.querySelector('button').onclick = () => import('./late.js').catch(() => {});\n`,
    'late.js': `import './missing.js'; document.title = 'late';`,
  });
  expect(at.program.events.filter(({ event }) => event === 'problems')).toEqual([]);
  await at.page.click('button');
  await at.page.locator('spark-panel section').waitFor();
  at.workspace.write({ 'missing.js': '' });
  await at.page.locator('spark-panel section').waitFor({ state: 'detached' });
  await at.page.click('button');
  await at.page.waitForFunction(`document.title === 'late'`);
});

describe("the project's own PostCSS plugins", () => {
  const plugin = (color: string) =>
    `({ postcssPlugin: 'ember', Declaration(node) { if (node.value === 'ember') node.value = '${color}'; } })`;
  const files = { 'main.js': `${takes}import './a.css';`, 'a.css': 'body { color: ember; }' };
  const shows = (color: string) => at.page.waitForFunction(`getComputedStyle(document.body).color === '${color}'`);

  test('run again when they change, in whatever language and form', async () => {
    const config = `module.exports = { plugins: [require('./ember.cjs')] };`;
    await start({ ...files, 'postcss.config.cjs': config, 'ember.cjs': 'module.exports = (' });
    await at.page.locator('spark-panel section').waitFor();
    at.workspace.write({ 'ember.cjs': `module.exports = ${plugin('rgb(1, 0, 0)')};` });
    await shows('rgb(1, 0, 0)');
    at.workspace.write({ 'ember.cjs': `module.exports = ${plugin('rgb(2, 0, 0)')};` });
    await shows('rgb(2, 0, 0)');
    at.workspace.write({ 'postcss.config.cjs': `module.exports = { plugins: [${plugin('rgb(3, 0, 0)')}] };` });
    await shows('rgb(3, 0, 0)');
    const own = `import ember from './lamps/ember'; export default ({ env }: { env: string }) => ({ plugins: env === 'development' && [ember] });`;
    await start({
      ...files,
      'postcss.config.ts': own,
      'lamps/ember.ts': `export { default } from './glow.mjs';`,
      'lamps/glow.mjs': '(',
    });
    await at.page.locator('spark-panel section').waitFor();
    at.workspace.write({ 'lamps/glow.mjs': `export default ${plugin('rgb(4, 0, 0)')};` });
    await shows('rgb(4, 0, 0)');
    at.workspace.write({ 'lamps/glow.mjs': `export default ${plugin('rgb(5, 0, 0)')};` });
    await shows('rgb(5, 0, 0)');
    const named = `export default { plugins: { './ember.mjs': { lit: true } } };`;
    await start({ ...files, 'postcss.config.mjs': named, 'ember.mjs': `export default () => ${plugin('rgb(1, 0, 0)')};` });
    await shows('rgb(1, 0, 0)');
    at.workspace.write({ 'ember.mjs': `export default () => ${plugin('rgb(2, 0, 0)')};` });
    await shows('rgb(2, 0, 0)');
  });
});

describe('files that come and go', () => {
  const table = {
    'main.js': `${takes}import { tide } from './lib/tide.js'; document.title = tide;\n`,
    'lib/tide.js': `export const tide = 'one';`,
  };

  test('a file and a folder that are renamed with what imports them are one update each', async () => {
    await start(table);
    await at.change(() => {
      renameSync(at.workspace.path('lib/tide.js'), at.workspace.path('lib/water.js'));
      at.workspace.write({ 'main.js': table['main.js'].replace('tide.js', 'water.js').replace('= tide', `= tide + ' moved'`) });
    });
    await at.page.waitForFunction(`document.title === 'one moved'`);
    await at.change(() => {
      renameSync(at.workspace.path('lib'), at.workspace.path('water'));
      at.workspace.write({ 'main.js': table['main.js'].replace('lib/tide.js', 'water/water.js') });
    });
    await at.page.waitForFunction(`document.title === 'one'`);
    expect(await stayed()).toBe(true);
    const applied = await at.change(() => at.workspace.write({ 'water/water.js': `export const tide = 'two';` }));
    expect(applied.ran).toContain('water/water.js');
  });

  test('what is behind links: a new file, a link to a file that leads elsewhere, a file that becomes a link', async () => {
    await start({ ...table, 'water/low.js': `export const low = 'low';`, 'water/high.js': `export const high = 'high';` });
    const { workspace } = at;
    const shows = (imports: string, title: string, shown: string) => {
      workspace.write({ 'main.js': `${takes}${imports} document.title = ${title};` });
      return at.page.waitForFunction(`document.title === '${shown}'`);
    };
    symlinkSync('water', workspace.path('linked'));
    await shows(`import { low } from './linked/low.js';`, 'low', 'low');
    workspace.write({ 'water/new.js': `export const fresh = 'new';` });
    await shows(`import { fresh } from './linked/new.js';`, 'fresh', 'new');
    symlinkSync('water/low.js', workspace.path('now.js'));
    await shows(`import * as now from './now.js';`, 'Object.values(now)[0]', 'low');
    rmSync(workspace.path('now.js'));
    symlinkSync('water/high.js', workspace.path('now.js'));
    await at.page.waitForFunction(`document.title === 'high'`);
    rmSync(workspace.path('lib/tide.js'));
    symlinkSync('../water/new.js', workspace.path('lib/tide.js'));
    await shows(`import * as tide from './lib/tide.js';`, 'Object.values(tide)[0]', 'new');
    await at.save({ 'water/new.js': `export const fresh = 'newer';` });
    await at.page.waitForFunction(`document.title === 'newer'`);
    const after = at.program.mark;
    workspace.delete('water/new.js');
    const { problems } = await at.program.next('problems', { after });
    expect(problems[0].message).toBe(`'./lib/tide.js' is a link that leads nowhere.`);
    workspace.write({ 'water/new.js': `export const fresh = 'again';` });
    await at.page.waitForFunction(`document.title === 'again'`);
  });

  test('a file that goes away is told, and comes back in place', async () => {
    await start(table);
    const after = at.program.mark;
    at.workspace.delete('lib/tide.js');
    const { problems } = await at.program.next('problems', { after });
    expect(problems[0]).toMatchObject({ code: 'import-unresolved', file: 'main.js' });
    await at.page.locator('spark-panel section').waitFor();
    at.workspace.write({ 'lib/tide.js': `export const tide = 'back';` });
    await at.page.waitForFunction(`document.title === 'back'`);
    expect(await stayed()).toBe(true);
  });

  test('500 files at once, as when a branch is switched, are one update', async () => {
    const names = Array.from({ length: 500 }, (_, n) => `berth${n}.js`);
    const write = (word: string) =>
      Object.fromEntries(names.map((name, n) => [`lib/${name}`, `export const b = '${word} ${n}';`]));
    const main = `${takes}${names.map((name, n) => `import { b as b${n} } from './lib/${name}';`).join('\n')}\ndocument.title = b0 + ' ' + b499;\n`;
    await start({ 'main.js': main, ...write('one') });
    const after = at.program.mark;
    const applied = await at.change(() => {
      // Git keeps this file for as long as it switches.
      at.workspace.write({ '.git/index.lock': '' });
      at.workspace.write(write('two'));
      at.workspace.delete('.git/index.lock');
    });
    expect(applied.ran).toHaveLength(501);
    expect(await at.page.title()).toBe('two 0 two 499');
    expect(at.program.events.slice(after).filter(({ event }) => event === 'update')).toHaveLength(1);
    expect(await stayed()).toBe(true);
  });

  test('a file that is older than before, because the clock or a branch went back, is a change like others', async () => {
    await start(table);
    const copy = at.workspace.path('older.js');
    await at.change(() => {
      at.workspace.write({ 'older.js': `export const tide = 'old';` });
      utimesSync(copy, new Date('2001-02-03'), new Date('2001-02-03'));
      cpSync(copy, at.workspace.path('lib/tide.js'), { preserveTimestamps: true });
    });
    await at.page.waitForFunction(`document.title === 'old'`);
  });

  test('changes are found by asking again and again, for network file systems', async () => {
    await start(table, ['index.html', '--poll']);
    const applied = await at.change(() => at.workspace.write({ 'lib/tide.js': `export const tide = 'polled';` }));
    expect(applied.ran).toEqual(['lib/tide.js', 'main.js']);
    expect(await at.page.title()).toBe('polled');
  });
});

test('a problem of one page holds back that page only, and what it missed comes as one update', async () => {
  const board = (name: string, word: string) =>
    `${takes}import { word } from './shared.js'; document.title = '${name} ${word} ' + word;\n`;
  await start(
    {
      'index.html': '<!doctype html><script type="module" src="index.js"></script>',
      'berths.html': '<!doctype html><script type="module" src="berths.js"></script>',
      'index.js': board('index', 'a'),
      'berths.js': board('berths', 'a'),
      'shared.js': `export const word = 'one';`,
      'nobody.js': '',
    },
    ['.'],
  );
  const berths = await openPage(at.browser, `${at.program.url}berths`);
  await at.program.next('joined', { where: ({ page }) => page === 'berths.html' });
  const after = at.program.mark;
  at.workspace.write({ 'berths.js': 'export function (' });
  await at.program.next('problems', { after });
  await berths.page.locator('spark-panel section').waitFor();
  expect(await at.page.locator('spark-panel').count()).toBe(0);
  for (const word of ['two', 'three']) {
    const mark = at.program.mark;
    at.workspace.write({ 'shared.js': `export const word = '${word}';` });
    const { number } = await at.program.next('applied', { after: mark });
    expect(number).toBe(1);
    expect(await at.page.title()).toBe(`index a ${word}`);
    expect(await berths.page.title()).toBe('berths a one');
  }
  const mark = at.program.mark;
  at.workspace.write({ 'berths.js': board('berths', 'b') });
  const mended = await at.program.next('applied', { after: mark, where: ({ page }) => page === 'berths.html' });
  expect(mended.ran).toEqual(['shared.js', 'berths.js']);
  expect(await berths.page.title()).toBe('berths b three');
  await berths.page.locator('spark-panel section').waitFor({ state: 'detached' });
  expect([at.loads(), berths.loads()]).toEqual([1, 1]);
  await berths.page.context().close();
});
