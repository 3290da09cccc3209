import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { afterAll, beforeAll, expect, test } from '@jest/globals';
import type { Browser } from 'playwright-core';
import { z } from 'zod';
import { launchBrowser, openBuilt, openPage, untilTrue } from '../support/browser.js';
import { serveNatively } from '../support/native.js';
import { Program, runProgram } from '../support/program.js';
import { longTest } from '../support/sizes.js';
import { repository, Workspace } from '../support/workspace.js';

let browser: Browser;
beforeAll(async () => {
  browser = await launchBrowser();
});
afterAll(() => browser.close());

const gull = '<svg xmlns="http://www.w3.org/2000/svg" width="4" height="4"/>';
const pier: Record<string, string> = {
  'package.json': '{ "name": "pier", "type": "module" }',
  'vine-spark.config.json':
    '{ "output": { "integrity": true, "inlineBytes": "200 B", "limits": { "firstLoad": "20 KB" } }, "pages": { "/": "index.html", "/berths/*": "index.html" } }',
  'index.html': `<!doctype html><html><head><meta http-equiv="content-security-policy" content="default-src 'none'; img-src 'self' data:; style-src 'nonce-tide'; script-src 'nonce-tide'; connect-src 'self'; manifest-src 'self'">
    <link rel="icon" href="data:,"><link rel="manifest" href="app/site.webmanifest"><link rel="stylesheet" href="paper.css" media="print" nonce="tide"></head><body><p class="berth">pier</p>
    <script type="module" nonce="tide" id="start" data-harbour="east" crossorigin="anonymous" src="src/main.ts"></script></body></html>`,
  'app/site.webmanifest': '{ "name": "Pier", "start_url": "..", "icons": [{ "src": "icon.svg", "sizes": "any" }] }',
  'paper.css': 'p { color: black }',
  'app/icon.svg': gull.replace('4', '64').padEnd(300),
  'src/main.ts': `import './berth.css'; import gull from './gull.svg'; import { licensed } from 'licensed';
    const { late } = await import('./late'); await fetch(new URL('./tide & 50% #1?.png', import.meta.url)).then(({ ok }) => { if (!ok) throw new Error('no tide'); }); document.documentElement.dataset.gauge = new URL('./gauge.mjs', import.meta.url).pathname; document.title = [late(), gull.slice(0, 10), licensed(), document.getElementById('start')?.dataset.harbour].join();`,
  'src/berth.css': `.berth { order: 3; background: url(gull.svg); user-select: none; }\n`,
  'src/gull.svg': gull,
  'src/late.ts': `import './late.css'; export function late() { return 'late'; }\n`,
  'src/late.css': '.berth { padding-left: 3px; }',
  'src/tide & 50% #1?.png': 'png'.padEnd(300),
  'src/gauge.mjs': 'export const gauge = 4;\n',
  'node_modules/licensed/package.json':
    '{ "name": "licensed", "version": "2.1.0", "license": "MIT", "type": "module", "main": "index.js" }',
  'node_modules/licensed/index.js': '/*! Licensed by the harbour */\nexport const licensed = () => "licensed";\n',
};

async function build(workspace: Workspace, ...args: string[]): Promise<Record<string, any>> {
  const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--json', '--no-cache', ...args]);
  return stdout === '' ? { code, stderr } : { code, stderr, ...JSON.parse(stdout) };
}

test('a page under a strict policy keeps its attributes, and everything that it loads has its nonce and says what it must be', async () => {
  const workspace = Workspace.with(pier);
  const { manifest, code } = await build(workspace);
  expect(code).toBe(0);
  const html = readFileSync(workspace.path('dist/index.html'), 'utf8');
  const scripts = html.match(/<script[^>]*>/g)!;
  for (const tag of scripts) expect(tag).toMatch(/ integrity="sha384-[^"]+"(?=.* nonce="tide")(?=.* crossorigin="anonymous")/);
  expect(scripts.filter((tag) => tag.includes('id="start"'))).toEqual([expect.stringContaining(' data-harbour="east"')]);
  expect(html).toMatch(/<link rel="stylesheet"[^>]* integrity="[^"]+" nonce="tide">/);
  const files = Object.keys(manifest.files as object);
  const contentOf = (pattern: RegExp) => readFileSync(workspace.path(`dist/${files.find((path) => pattern.test(path))}`), 'utf8');
  expect(JSON.parse(contentOf(/site-\w+\.webmanifest$/))).toEqual({
    name: 'Pier',
    start_url: '/',
    icons: [{ src: expect.stringMatching(/^\/assets\/icon-\w+\.svg$/), sizes: 'any' }],
  });
  expect(contentOf(/licences-\w+\.txt$/)).toBe('licensed 2.1.0 (MIT)\n\n/*! Licensed by the harbour */\n');
  expect(contentOf(/index-\w+\.css$/)).toContain('data:image/svg+xml;base64,');
  expect(files.some((path) => path.includes('gull'))).toBe(false);
  expect(manifest.assets['src/gauge.mjs']).toMatch(/gauge-\w+\.js$/);
  const { styles } = manifest.pages['index.html'].tags;
  expect(styles).toMatch(/<link rel="stylesheet" href="\/assets\/paper-\w+\.css" integrity="[^"]+" media="print" nonce="tide">/);
  const schema = z.fromJSONSchema(JSON.parse(readFileSync(`${repository}/dist/manifest.schema.json`, 'utf8')));
  expect(schema.safeParse(JSON.parse(readFileSync(workspace.path('dist/vine-spark.json'), 'utf8'))).error).toBeUndefined();
  const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
  await untilTrue(page, 'document.title !== ""');
  expect([await page.title(), errors]).toEqual(['late,data:image,licensed,east', []]);
  expect(await page.evaluate("getComputedStyle(document.querySelector('p')).paddingLeft")).toBe('3px');
  await close();
  workspace.dispose();
}, 60_000);

test('what styles, drawings, links and noscript of a page name is there, and what URLs put together do, served and built', async () => {
  const image = (name: string) => ({
    [`src/${name}.svg`]: `<svg xmlns="http://www.w3.org/2000/svg" id="${name}" width="4" height="4"/>`,
  });
  const workspace = Workspace.with({
    'package.json': '{ "name": "pier" }',
    'index.html': `<!doctype html><style>@import './src/print.css' screen; body { background: url(src/a.svg) }</style><link rel="icon" href="data:,">
      <p style="color: red; background: url('src/b.svg')">pier</p><svg><image href="src/c.svg"/><use xlink:href="src/d.svg#d"/></svg>
      <noscript><img src="src/e.svg"></noscript><a href="src/hours.pdf?of=1" download>hours</a><a href="/berths">berths</a><template><img src="{{ photo }}"></template><script type="module" src="main.js"></script>`,
    'main.js': `const isModule = document.currentScript === null; const idOf = async (url) => /id="(.)"/.exec(await (await fetch(url)).text())[1];
      const ids = ['e', 'f'].flatMap((name) => [new URL(\`./src/\${name}.svg\`, import.meta.url), new URL('./src/' + name + '.svg', import.meta.url)]).map(idOf);
      document.title = [...[...document.querySelectorAll('a')].map(({ href }) => new URL(href).pathname), ...(await Promise.all(ids)), isModule, document.querySelector('template').content.firstChild.getAttribute('src'), (await import('./src/ü.js')).late].join();`,
    // The page doesn't say in which encoding it is.
    'src/ü.js': `import './é.css'; export const late = 'ü';`,
    'src/é.css': 'p { widows: 7; }',
    'src/print.css': '@import "./deep.css"; p { order: 3; list-style: url(f.svg) }',
    'src/deep.css': 'p { flex-grow: 2 }',
    'src/hours.pdf': 'pdf',
    ...Object.assign({}, ...['a', 'b', 'c', 'd', 'e', 'f'].map(image)),
  });
  const look = async (url: string) => {
    const { page, errors } = await openPage(browser, url);
    await page.waitForFunction('document.title !== ""');
    const drawn = await page.evaluate(`(async () => {
      const p = getComputedStyle(document.querySelector('p'));
      const inside = new DOMParser().parseFromString(document.querySelector('noscript').textContent, 'text/html').images[0].getAttribute('src');
      const named = [getComputedStyle(document.body).backgroundImage, p.backgroundImage, p.listStyleImage].map((value) => value.slice(5, -2));
      const drawings = [...document.querySelectorAll('svg *')].map((element) => element.href.baseVal.split('#')[0]);
      const texts = await Promise.all([...named, ...drawings, inside].map(async (at) => (await fetch(at)).text()));
      return [p.order, p.flexGrow, ...texts.map((text) => /id="(.)"/.exec(text)?.[1]), await (await fetch(document.querySelector('a').href)).text()].join();
    })()`);
    const title = await page.title();
    await page.close();
    return [title, drawn, errors];
  };
  const program = await Program.serve(workspace.root, []);
  const wanted = ['/src/hours.pdf,/berths,e,e,f,f,true,{{ photo }},ü', '3,2,a,b,f,c,d,e,pdf', []];
  expect(await look(program.url)).toEqual(wanted);
  await program.stop();
  expect(await build(workspace)).toMatchObject({ code: 0 });
  const built = await openBuilt(browser, workspace.path('dist'));
  expect(await look(built.page.url())).toEqual(wanted);
  await built.close();
  workspace.dispose();
}, 60_000);

test('a limit that is exceeded keeps the last build, and says what grew', async () => {
  const workspace = Workspace.with(pier);
  await build(workspace);
  const before = readFileSync(workspace.path('dist/vine-spark.json'), 'utf8');
  const noise = Array.from({ length: 9000 }, (_, index) => ((index * 7919) % 104729).toString(36)).join('');
  workspace.write({ 'src/late.ts': pier['src/late.ts']!, 'src/main.ts': `${pier['src/main.ts']}\nconsole.debug('${noise}');\n` });
  const { code, problems } = await build(workspace);
  expect([code, problems]).toEqual([
    1,
    [
      expect.objectContaining({
        code: 'limit-exceeded',
        file: 'index.html',
        hint: expect.stringMatching(/Since the last build grew: index\.js by \d+\.\d kB/),
      }),
    ],
  ]);
  expect(readFileSync(workspace.path('dist/vine-spark.json'), 'utf8')).toBe(before);
  workspace.dispose();
}, 60_000);

longTest(
  'the list of files may be kept elsewhere, and what earlier builds wrote may stay',
  async () => {
    const settings = (output: object) => ({ 'vine-spark.config.json': JSON.stringify({ output }) });
    const workspace = Workspace.with({ ...pier, ...settings({ manifest: false }) });
    await build(workspace);
    expect(existsSync(workspace.path('dist/vine-spark.json'))).toBe(false);
    workspace.write({ 'dist/note.txt': 'mine', 'src/late.ts': `${pier['src/late.ts']}\nconsole.debug(1);\n` });
    const { code, others, manifest } = await build(workspace);
    expect([code, others]).toEqual([0, ['note.txt']]);
    workspace.write({ ...settings({ empty: false }), 'src/late.ts': pier['src/late.ts']! });
    await build(workspace);
    for (const path of Object.keys(manifest.files as object))
      expect([path, existsSync(workspace.path(`dist/${path}`))]).toEqual([path, true]);
    workspace.dispose();
  },
  60_000,
);

test('a build is served as a plain host would, with deep links, forwards, and files that never change', async () => {
  const backend = createServer((request, response) => response.end(`backend ${request.url}`));
  await new Promise<void>((resolve) => backend.listen(0, '127.0.0.1', resolve));
  const origin = `http://127.0.0.1:${(backend.address() as AddressInfo).port}`;
  const workspace = Workspace.with(pier);
  const refused = await runProgram(workspace.root, ['serve', '--built', '--port', '0']);
  expect([refused.code, refused.stderr]).toEqual([1, expect.stringContaining('There is no build in dist. output-missing')]);
  await build(workspace, '--base', '/quay/');
  const program = await Program.serve(workspace.root, ['--built', '--forward', `/api=${origin}`]);
  const get = async (path: string, headers = {}) => {
    const response = await fetch(new URL(path, program.url), { headers });
    return { status: response.status, text: await response.text(), cache: response.headers.get('cache-control') };
  };
  expect(new URL(program.url).pathname).toBe('/quay/');
  const { text, cache } = await get('');
  expect(cache).toBe('no-cache');
  expect(await get('/api/tides')).toMatchObject({ status: 200, text: 'backend /api/tides' });
  expect(await get('/quay/berths/4', { accept: 'text/html' })).toMatchObject({ status: 200, text });
  expect(await get('/quay/berths/4.png')).toMatchObject({ status: 404 });
  expect(await get('/quay/%2e%2e/package.json')).toMatchObject({ status: 404 });
  const script = /src="(\/quay\/assets\/runtime[^"]+)"/.exec(text)![1]!;
  expect(await get(script)).toMatchObject({ status: 200, cache: 'public, max-age=31536000, immutable' });
  const { page, errors } = await openPage(browser, program.url);
  // Functions that wait in the page would be evaluated, which its policy forbids.
  while ((await page.title()) === '') await page.evaluate('new Promise(requestAnimationFrame)');
  expect(errors).toEqual([]);
  await page.context().close();
  await program.stop();
  backend.close();
  workspace.dispose();
}, 60_000);

test('a build is made again when something changes, and not when nothing is right', async () => {
  const workspace = Workspace.with(pier);
  const program = new Program(workspace.root, ['build', '--watch', '--json', '--no-cache']);
  const next = async (name: string, change: Record<string, string>) => {
    const after = program.mark;
    workspace.write(change);
    return program.next(name, { after });
  };
  const first = await program.next('built');
  const changed = await next('built', { 'src/late.ts': `export function late() { return 'later'; }\n` });
  const names = (event: Record<string, any>) => Object.keys(event.manifest.files).filter((path) => /\.js$/.test(path));
  expect(names(first).filter((path) => !names(changed).includes(path))).toEqual([expect.stringMatching(/late-\w+\.js$/)]);
  expect(await next('problems', { 'src/late.ts': 'export const = 1;' })).toMatchObject({ problems: [{ file: 'src/late.ts' }] });
  expect(names(await next('built', { 'src/late.ts': pier['src/late.ts']! }))).toEqual(names(first));
  // A verbatim folder that wasn't there, and a change in it.
  for (const text of ['all', 'none']) {
    await next('built', { 'public/texts/robots.txt': text });
    expect(readFileSync(workspace.path('dist/texts/robots.txt'), 'utf8')).toBe(text);
  }
  // Other browsers, from a file that wasn't there.
  await next('built', { 'src/late.ts': `export const late = () => globalThis.name ?? 'late';\n` });
  for (const query of ['chrome 70', 'chrome 120']) {
    const { manifest } = await next('built', { '.browserslistrc': query });
    const late = Object.keys(manifest.files).find((file) => /late-\w+\.js$/.test(file))!;
    expect(readFileSync(workspace.path(`dist/${late}`), 'utf8').includes('??')).toBe(query === 'chrome 120');
  }
  const moved = await next('built', { 'vine-spark.config.json': '{ "base": "/moved/" }' });
  expect(moved.manifest.base).toBe('/moved/');
  await program.stop();
  workspace.dispose();
}, 60_000);

test('a report shows what is in each file, why, and what is left out', async () => {
  const workspace = Workspace.with({ ...pier, 'src/late.ts': `${pier['src/late.ts']}export const unused = 'unused';\n` });
  const { code, stdout } = await runProgram(workspace.root, ['build', '--no-cache', '--report', 'report.html']);
  expect([code, stdout]).toEqual([0, expect.stringContaining('report.html')]);
  // Built again, it is no page of the project's.
  await build(workspace);
  expect(existsSync(workspace.path('dist/report.html'))).toBe(false);
  const { page, errors } = await openPage(browser, `file://${workspace.path('report.html')}`);
  await page.hover('[aria-label^="src/main.ts"]');
  expect(await page.textContent('#about')).toMatch(/src\/main\.ts.*the application.*index\.html/s);
  // A file is as large as the list of the build says, and not only as what of it is modules.
  const list = JSON.parse(readFileSync(workspace.path('dist/vine-spark.json'), 'utf8')) as {
    files: Record<string, { bytes: number }>;
  };
  for (const text of await page.locator('[data-of=bytes] .file b').allTextContents()) {
    const [path = '', size] = text.split(' ');
    expect(Number(size)).toBeCloseTo(list.files[path]!.bytes / 1000, 1);
  }
  await page.click('text=compressed by gzip');
  await page.focus('[data-of=gzip] [aria-label^="src/late.ts"]');
  expect(await page.textContent('#about')).toContain('unused');
  expect(errors).toEqual([]);
  await page.context().close();
  workspace.dispose();
}, 60_000);

test('what is probably not meant is told: circles that read too early, packages in two versions, large files', async () => {
  const version = (at: string, number: string) => ({
    [`${at}/package.json`]: JSON.stringify({ name: at.replace(/.*\//, ''), version: number, type: 'module', main: 'index.js' }),
    [`${at}/index.js`]: `export const ${at.replace(/.*\//, '')} = () => '${number}';\n`,
  });
  const workspace = Workspace.with({
    'package.json': '{ "type": "module" }',
    'index.html': '<!doctype html><link rel="icon" href="data:,"><script type="module" src="main.ts"></script>',
    'main.ts': `import { a } from './a'; import { tides } from 'tides'; import { pier } from 'pier'; import { sky } from 'sky'; import big from './big.png';\nconsole.log(a, tides(), sky(), pier(), big);\n`,
    'a.ts': `import { b } from './b';\nexport const a = Math.random();\nexport const twice = () => b;\n`,
    'b.ts': `import { a, twice } from './a';\nexport const b = () => twice();\nexport const early = [a].map(console.log);\n`,
    'big.png': 'x'.repeat(1_200_000),
    ...version('node_modules/tides', '2.0.0'),
    'node_modules/pier/package.json': '{ "name": "pier", "type": "module", "main": "index.js" }',
    'node_modules/pier/index.js': `import { sky } from 'sky'; import { tides } from 'tides'; export const pier = () => sky() + tides();\n`,
    ...version('node_modules/pier/node_modules/tides', '1.4.0'),
    ...version('node_modules/sky', '3.0.0'),
    ...version('node_modules/pier/node_modules/sky', '3.0.0'),
  });
  const { code, warnings } = await build(workspace);
  expect([code, warnings]).toEqual([
    0,
    [
      expect.objectContaining({
        code: 'read-too-early',
        file: 'b.ts',
        message: expect.stringContaining("'a' is read before a.ts"),
      }),
      expect.objectContaining({
        code: 'package-twice',
        message: 'tides is in the build in 2 versions: 2.0.0 for main.ts, 1.4.0 for node_modules/pier/index.js.',
      }),
      expect.objectContaining({
        code: 'package-twice',
        message: 'sky 3.0.0 is in the build 2 times: for main.ts, for node_modules/pier/index.js.',
      }),
      expect.objectContaining({ code: 'file-large', message: expect.stringContaining('big-') }),
    ],
  ]);
  workspace.dispose();
}, 60_000);

test('what little some late modules share goes where more of them share, without running; what has a sheet or is large does not', async () => {
  const late = (own: string, imports: string[]) =>
    `${imports.map((name) => `import './${name}';`).join('\n')}\nruns.push('${own}');\n`;
  const workspace = Workspace.with({
    'index.html': '<!doctype html><link rel="icon" href="data:,"><body><script type="module" src="main.js"></script>',
    'main.js':
      `globalThis.runs = [];\nawait import('./c.js');\nrunsThen = runs.join();\nawait import('./a.js');\nawait import('./b.js');\ndocument.title = runsThen + ' ' + runs.join();\n`.replace(
        'globalThis.runs',
        'globalThis.runsThen = ""; globalThis.runs',
      ),
    'a.js': late('a', ['all.js', 'few.js', 'big.js', 'look.js']),
    'b.js': late('b', ['all.js', 'few.js', 'big.js', 'look.js']),
    'c.js': late('c', ['all.js']),
    'all.js': `// ${'-'.repeat(2500)}\nruns.push('all');\n`,
    'few.js': `runs.push('few');\n`,
    'big.js': `import './few.js';\n`,
    'look.js': `import './look.css';\n`,
    'look.css': 'body { order: 4; }',
  });
  expect(await build(workspace)).toMatchObject({ code: 0 });
  const files = readdirSync(workspace.path('dist/assets')).filter((name) => name.startsWith('shared-') && name.endsWith('.js'));
  const texts = files.map((name) => readFileSync(workspace.path(`dist/assets/${name}`), 'utf8'));
  expect(texts.filter((text) => /\ball\b/.test(text)).map((text) => /\bfew\b/.test(text))).toEqual([false]);
  workspace.write({ 'look.js': '' });
  await build(workspace);
  const [only, ...others] = readdirSync(workspace.path('dist/assets')).filter((name) => /^shared-.*\.js$/.test(name));
  expect(others).toEqual([]);
  expect(readFileSync(workspace.path(`dist/assets/${only}`), 'utf8')).toMatch(/\ball\b.*\bfew\b|\bfew\b.*\ball\b/s);
  const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
  await page.waitForFunction('document.title !== ""');
  expect([await page.title(), errors]).toEqual(['all,c all,c,few,a,b', []]);
  await close();
  // A page that needs what many share doesn't get what it never needs.
  workspace.write({
    'other.html': '<!doctype html><script type="module" src="few.js"></script><script type="module" src="all.js"></script>',
    'third.html': '<!doctype html><script type="module" src="all.js"></script>',
  });
  expect(await build(workspace)).toMatchObject({ code: 0 });
  const list = JSON.parse(readFileSync(workspace.path('dist/vine-spark.json'), 'utf8')) as {
    pages: Record<string, { scripts: string[] }>;
  };
  const sent = list.pages['third.html']!.scripts.map((url) => readFileSync(workspace.path(`dist/${url}`), 'utf8')).filter(
    (text) => /push\(/.test(text),
  );
  expect([sent.some((text) => /\ball\b/.test(text)), sent.some((text) => /\bfew\b/.test(text))]).toEqual([true, false]);
  workspace.dispose();
}, 60_000);

const titled = '<!doctype html><link rel="icon" href="data:,"><p></p><script type="module" src="main.ts"></script>';
/** Imports `level` from `./gauge.js`, exports `twice`, which adds it up, and the global `height`. */
const gauge = Buffer.from(
  '0061736d010000000105016000017f0214010a2e2f67617567652e6a73056c6576656c0000030201000606017f0041070b07120206686569676874030005747769636500010a09010700100010006a0b',
  'hex',
);

const cases: [what: string, files: Record<string, string | Buffer>, title: string][] = [
  [
    'WebAssembly is imported like a module, by name and as a whole, and its URL by default',
    {
      'main.ts': `import { twice } from './gauge of.wasm'; import { all, url } from './all'; import { late, lateUrl, named } from './late';
        const sizeOf = async (url: string) => (await (await fetch(url)).arrayBuffer()).byteLength;
        document.title = [twice(), all.height, Object.keys(all).join('+'), await sizeOf(url), await late(), await sizeOf(await lateUrl()), await named('gauge of')].join();`,
      'late.ts': `export const late = async () => { const { height, twice } = await import('./gauge of.wasm'); return height + twice(); };
        export const named = (name: string) => import(\`./\${name}.wasm\`).then((gauge) => gauge.twice());
        export { lateUrl } from './late-url';`,
      'late-url.ts': `export const lateUrl = async () => (await import('./gauge of.wasm')).default;`,
      'all.ts': `import * as all from './gauge of.wasm'; export { all }; export { url } from './url';`,
      'url.ts': `export { default as url } from './gauge of.wasm';`,
      'gauge.js': `export const level = () => 4;`,
      'gauge of.wasm': gauge,
    },
    `8,7,height+twice,${gauge.length},15,${gauge.length},8`,
  ],
  [
    'sheets of packages are found by their main file and from folders above, and what partials name that lies beside them',
    {
      'main.ts': `import './page.scss'; import './plain.css'; const style = getComputedStyle(document.querySelector('p')!);
        const image = style.backgroundImage.slice(5, -2); document.title = [(await (await fetch(image)).text()).includes('mast'), style.order, style.color].join();`,
      'page.scss': `@use 'rig/scss/all'; @use 'inner/tones';\n`,
      'inner/_tones.scss': `@use 'inner/deep/more'; p { order: more.$order; }\n`,
      'inner/deep/_more.scss': `@use 'inner/deep/_last' as *; $order: $last;\n`,
      'inner/deep/_last.scss': '$last: 7;\n',
      'plain.css': `@import 'paint';\n`,
      'node_modules/rig/package.json': '{ "name": "rig" }',
      'node_modules/rig/scss/all/_index.scss': `@use 'sails';\n`,
      'node_modules/rig/scss/sails/_index.scss': `$path: '../../img' !default; p { background: url('#{$path}/mast.svg?v=1'); }\n`,
      'node_modules/rig/img/mast.svg': '<svg xmlns="http://www.w3.org/2000/svg" id="mast"/>'.padEnd(300),
      'node_modules/paint/package.json': '{ "name": "paint", "main": "dist/paint.css" }',
      'node_modules/paint/dist/paint.css': 'p { color: rgb(1, 2, 3); }',
    },
    'true,7,rgb(1, 2, 3)',
  ],
  [
    'a late module finds what it needs, though it came with a file that others share, and in a worker though the page has that',
    {
      'main.ts': `import { dock } from './dock'; const late = { h: () => import('./low'), l: () => import('./high') };
        const told = [dock, (await late.h()).low, (await import('./both')).both, (await import('./more')).more, (await late.l()).high];
        const worker = new Worker(new URL('./crane.ts', import.meta.url), { type: 'module' });
        document.title = [...told, await new Promise((resolve) => { worker.onmessage = ({ data }) => resolve(data); })].join();`,
      'dock.ts': `export const dock = 'dock'; globalThis.dock = '${'dock'.repeat(700)}';`,
      'left.ts': `export const left = 'left'; globalThis.left = '${'left'.repeat(700)}';`,
      'right.ts': `export const right = 'right'; globalThis.right = '${'right'.repeat(700)}';`,
      'low.ts': `import { left } from './left'; export const low = left;`,
      'high.ts': `import { right } from './right'; export const high = right;`,
      'both.ts': `import { left } from './left'; import { right } from './right'; export const both = left + right;`,
      'more.ts': `import { both } from './both'; export const more = both.length;`,
      'crane.ts': `import('./hook').then(({ hook }) => postMessage(hook));`,
      'hook.ts': `import { dock } from './dock'; export const hook = \`hook \${dock}\`;`,
    },
    'dock,left,leftright,9,right,hook dock',
  ],
  [
    'what CommonJS gives by default follows the module that imports it, though another one passes it on',
    {
      'main.ts': `import { common } from 'passer'; import own from 'common'; document.title = [typeof common, typeof own].join();\n`,
      'node_modules/passer/package.json': '{ "name": "passer", "type": "module", "main": "index.js", "sideEffects": false }',
      'node_modules/passer/index.js': `export { default as common } from 'common';\n`,
      'node_modules/common/package.json': '{ "name": "common", "main": "index.js" }',
      'node_modules/common/index.js': `exports.__esModule = true; exports.default = () => 1;\n`,
    },
    'object,function',
  ],
  [
    'late sheets come in the order of the modules that ask for them, in whatever order they are asked for',
    {
      'main.ts': `import './pier.css'; import './quay.css';
        const first = () => import('./first'), second = () => import('./second');
        const { order, color } = getComputedStyle(document.querySelector('p')!); const told = [order, color];
        await second(); await first(); const now = getComputedStyle(document.querySelector('p')!);
        document.title = [...told, now.order, now.color, now.marginTop].join();\n`,
      'pier.css': 'p { order: 1; color: red; }',
      'quay.css': 'p { order: 2; }',
      'first.ts': `import './low.css'; import './both.css'; export {};\n`,
      'second.ts': `import './high.css'; import './both.css'; export {};\n`,
      'low.css': 'p { margin-top: 1px; order: 3; }',
      'high.css': 'p { margin-top: 2px; order: 4; color: blue; }',
      'both.css': 'p { order: 5; margin-top: 3px; }',
    },
    '2,rgb(255, 0, 0),4,rgb(0, 0, 255),2px',
  ],
  [
    'modules of CSS take values and classes from sheets that are none',
    {
      'main.ts': `import { quay, deep } from './quay.module.css'; const p = document.querySelector('p')!; p.className = quay;
        document.title = [quay.split(' ')[1], deep, getComputedStyle(p).marginTop, getComputedStyle(p).paddingTop].join();`,
      'quay.module.css': '@value deep, low from "./tide.css"; .quay { composes: high from "./tide.css"; margin-top: deep; }',
      'tide.css': '@value deep from "./depth.css"; @value low: 2px; .high { padding-top: 4px; }',
      'depth.css': '@value deep: 3px;',
    },
    'high,3px,3px,4px',
  ],
  [
    'sheets are imported where browsers let them, under names that need escapes, in namespaces, and beside links under conditions',
    {
      'index.html': `<!doctype html><link rel="stylesheet" href="quay.css" media="print"><style>@import "slip.css" layer(low);</style>${titled.slice(15)}`,
      'main.ts': `import './quay.css'; import './slip.css'; import './pier.css'; import './named.css'; import './boat.css'; import './last.css'; import './gaps.scss';
        const p = getComputedStyle(document.querySelector('p')!), [, url] = /url\\("(.*?)"\\)/.exec(p.backgroundImage)!;
        document.title = [p.paddingTop, p.paddingLeft, p.order, p.marginTop, p.marginLeft, p.zIndex, p.marginRight, p.paddingRight, p.rowGap, p.columnGap, (await fetch(url!)).ok].join();`,
      'quay.css': 'p { padding: 1px; }',
      'slip.css': 'p { padding-left: 2px; }',
      'pier.css': `@import "./deep (1)/it's.css"; @import url(deep\\ \\(1\\)/low\\20 tide.css); @layer a; @import "./never.css";
        @media screen { @import "./never.css"; } p { order: 3; } @import "./never.css";`,
      "deep (1)/it's.css": 'p { margin-top: 4px; background: url(a\\ b.svg); }',
      'deep (1)/low tide.css': 'p { margin-left: 5px; }',
      'deep (1)/a b.svg': '<svg xmlns="http://www.w3.org/2000/svg"/>',
      // Browsers may ask for it, and yet ignore it.
      'public/never.css': 'p { margin-top: 99px !important; }',
      'never.css': 'p { margin-top: 99px !important; }',
      'named.css':
        '@import "./html.css"; @import url("data:text/css,p%7Bz-index:6;margin-right:6px%7D"); p { margin-right: 7px; }',
      'html.css': '@namespace h url(http://www.w3.org/1999/xhtml); h|p { z-index: 5; }',
      'boat.css': '@namespace url(http://www.w3.org/2000/svg); @import "./never.css"; p { order: 99; }',
      'last.css': '@import "~kit/older.css"; p { padding-right: 8px; }',
      'gaps.scss': '@use "~kit/gaps"; p { column-gap: gaps.$column; }',
      'node_modules/kit/older.css': 'p { row-gap: 9px; }',
      'node_modules/kit/_gaps.scss': '$column: 10px;',
    },
    '1px,2px,3,4px,5px,6,7px,8px,9px,10px,true',
  ],
  [
    'the names of a module of CSS are there as a whole too, for modules in several files',
    {
      'main.ts': `import * as all from './quay.module.css'; import quay from './quay.module.css';
        const list = [quay], { late } = await import('./late'), only = await import('./only.module.css');
        document.title = [Object.keys(all).sort().join('+'), list[0] === late, all.high === late.high, Object.keys(only.default).join()].join();`,
      'late.ts': `import quay from './quay.module.css'; export const late = quay;`,
      'quay.module.css': '.high { order: 1; } .low { order: 2; }',
      'only.module.css': '.tide { order: 3; }',
    },
    'default+high+low,true,true,tide',
  ],
  [
    'a policy of the page that allows no style elements is kept without trying',
    {
      'index.html': `<!doctype html><meta http-equiv="content-security-policy" content="default-src 'self'; connect-src *; img-src data:">${titled.slice(15)}`,
      'main.ts': `import './pier.css'; await import('./late'); document.title = getComputedStyle(document.querySelector('p')!).order;\n`,
      'pier.css': 'p { order: 1; }',
      'late.ts': `import './late.css'; export {};\n`,
      'late.css': 'p { order: 2; }',
    },
    '2',
  ],
  [
    'programs that are named by a URL run in workers and worklets, however the URL gets there, and what `importScripts` names is there',
    {
      'main.ts': `const ask = (worker: Worker) => new Promise((said) => { worker.onmessage = ({ data }) => said(data); worker.onerror = () => said('error'); });
        const url = new URL('./crane.ts', import.meta.url);
        const start = (at: string | URL, options?: WorkerOptions) => new Worker(at, options);
        const audio = new OfflineAudioContext(1, 128, 44100);
        await audio.audioWorklet.addModule(new URL('./horn.ts', import.meta.url));
        new AudioWorkletNode(audio, 'horn').connect(audio.destination);
        const said = [
          ask(new Worker(url, { type: 'module' })), ask(new Worker(/* now */ new URL('./crane.ts', import.meta.url))),
          ask(new window.Worker(new URL('./crane.ts', import.meta.url).href)), ask(start(new URL('./plain.js', import.meta.url), { type: 'module' })),
          ask(new Worker(new URL('./classic.js', import.meta.url))), ask(start(new URL('./alone.js', import.meta.url))),
          audio.startRendering().then((sound) => sound.getChannelData(0)[5]),
        ];
        document.title = (await Promise.all(said)).join();`,
      'crane.ts': `import { load } from './load'; const crane: string = 'crane';
        if (self.name === 'inner') postMessage(crane);
        else new Worker(new URL('./crane.ts', import.meta.url), { type: 'module', name: 'inner' }).onmessage = ({ data }) => postMessage(data + load);`,
      'load.ts': 'export const load: number = 0.5;',
      'plain.js': `import { load } from './load.ts'; postMessage('plain' + load);`,
      'classic.js': `"importScripts('./hull.js')"; importScripts('./hull.js', "deck.js"); postMessage(self.hull + self.deck);`,
      'hull.js': `self.hull = 'hull';`,
      'deck.js': `self.deck = 'deck';`,
      'alone.js': `postMessage('alone');`,
      'horn.ts': `import { load } from './load';
        class Horn extends AudioWorkletProcessor { process(_: unknown, [[out]]: Float32Array[][]) { out!.fill(load); return true; } }
        registerProcessor('horn', Horn);`,
    },
    'crane0.5,crane0.5,crane0.5,plain0.5,hulldeck,alone,0.5',
  ],
  [
    'programs and files that a choice, a sum or a pattern names, and `import.meta.resolve`, are there',
    {
      'main.ts': `import whole from './whole'; import { flag } from './flags/of.js';
        const name = (of: string) => of, isLow = Date.now() < 1, text = async (url: string | URL) => (await (await fetch(url)).text()).trim();
        const ask = (worker: Worker) => new Promise((said) => { worker.onmessage = ({ data }) => said(data); worker.onerror = () => said('error'); });
        const start = (of: string) => new Worker(new URL(\`./cranes/\${of}.ts\`, import.meta.url), { type: 'module' });
        document.title = (await Promise.all([
          ...['east', 'west'].map((of) => ask(start(of))), ask(new self.Worker(new URL('./cranes/' + name('east') + '.ts', import.meta.url))),
          ask(new Worker(import.meta.resolve('./cranes/west.ts'))), ...['a', 'b'].map((of) => text(import.meta.resolve(\`./flags/\${of}.txt\`))),
          text(new URL(isLow ? './flags/a.txt' : './flags/b.txt', import.meta.url)), text(import.meta.resolve('tides/table.json')), text(whole('a')), text(flag),
          text(new URL(\`./flags/\${isLow ? 'b' : \`\${name('a')}\`}.txt\`, import.meta.url)), import.meta.resolve('https://saltmarsh.example/a.js'),
          Promise.try?.(() => import.meta.resolve('nowhere')).catch((error) => error.name) ?? 'TypeError',
        ])).join();`,
      // Keeps a scope of its own.
      'whole.ts': `const here = (of: string) => new URL('./flags/' + of + '.txt', import.meta.url); eval(''); export default here;`,
      'cranes/east.ts': `import { load } from '../load'; postMessage('east' + load);`,
      'cranes/west.ts': `import { load } from '../load'; postMessage('west' + load);`,
      'load.ts': 'export const load: number = 0.5;',
      'flags/of.js': `export const flag = import.meta.resolve('./' + 'b' + '.txt');`,
      'flags/a.txt': 'a',
      'flags/b.txt': 'b',
      'node_modules/tides/package.json': '{ "name": "tides" }',
      'node_modules/tides/table.json': '3',
    },
    'east0.5,west0.5,east0.5,west0.5,a,b,b,3,a,b,a,https://saltmarsh.example/a.js,TypeError',
  ],
  [
    'modules that a choice, a sum or a pattern of folders names come later, by aliases and with attributes too',
    {
      'tsconfig.json': '{ "compilerOptions": { "paths": { "@/*": ["./*"] } } }',
      'main.ts': `import common from './common.cjs'; const name = (of: string) => of, isLow = Date.now() < 1, constant = './low.ts', table = { pier: './pages/pier', note: './note.txt' }, load = (of: string) => import(of), last = (...all: string[]) => all.at(-1)!;
        const all = [
          import(\`./pages/\${name('tide')}/index.ts\`), import('./pages/' + name('pier') + '/index'), import(\`./pages/\${name('tide')}\`), import(\`@/pages/\${name('pier')}/index.js\`),
          import(\`/pages/\${name('tide')}/\${name('tide')}-page.ts\`), import(isLow ? './low' : './high'), import((isLow && './low.ts') || './high.ts'),
          import(\`./words/\${name('no')}/\${name('board')}.json\`, { with: { type: 'json' } }), import(\`./words/\${name('no')}/board.json\`), import('./words/' + 'no' + '/board.json'),
          common.later('low'), common.any('./low.ts'), { shown: common.now('tide') + common.choice() }, import(constant), import(last('./low', './high')), import(isLow ? './high' : constant), load(table.pier), ...['./low', './high.ts'].map(load),
          import(\`./words/\${name('gone')}/board.json\`).catch((error) => ({ shown: error.name })),
        ];
        document.title = (await Promise.all(all)).map(({ shown, default: data }) => shown ?? data.shown).join();`,
      ...Object.fromEntries(
        ['tide', 'pier'].map((name) => [`pages/${name}/index.ts`, `export const shown: string = '${name}';`]),
      ),
      'pages/tide/tide-page.ts': `export const shown: string = 'page';`,
      'low.ts': `export const shown: string = 'low';`,
      'high.ts': `export const shown: string = 'high';`,
      'common.cjs': `const list = ['./low.ts']; exports.later = (of) => import('./' + of + '.ts'); exports.any = (of) => import(of);
        exports.now = (of) => require('./pages/' + of + '/index').shown; exports.choice = () => require(list.length > 1 ? './nowhere' : './high').shown;`,
      'note.txt': 'none',
      'words/no/board.json': '{ "shown": "tavle" }',
    },
    'tide,pier,tide,pier,page,high,high,tavle,tavle,tavle,low,low,tidehigh,low,high,low,pier,low,high,TypeError',
  ],
  [
    'a service worker made of modules is for the whole front end, at a name that stays',
    {
      'main.ts': `const { scope, installing } = await navigator.serviceWorker.register(new URL('./deep/tides.ts', import.meta.url), { type: 'module' });
        await new Promise((done) => navigator.serviceWorker.addEventListener('controllerchange', done));
        const at = new URL(installing!.scriptURL);
        document.title = [new URL(scope).pathname, at.pathname, await (await fetch('/tide')).text()].join();`,
      'deep/tides.ts': `import { tide } from '../tide'; declare const self: any;
        self.addEventListener('install', () => self.skipWaiting());
        self.addEventListener('activate', (event: any) => event.waitUntil(self.clients.claim()));
        self.addEventListener('fetch', (event: any) => { if (event.request.url.endsWith('/tide')) event.respondWith(new Response(tide)); });`,
      'tide.ts': `export const tide: string = 'high';`,
    },
    '/,/tides.js,high',
  ],
];

/** Whether a case asks for nothing of the root of a project, so that it can be one folder among others. */
const isApart = ([, files]: (typeof cases)[number]) =>
  !Object.keys(files).some((path) => /^(?:index\.html|tsconfig\.json|public\/.*)$/.test(path)) &&
  !String(files['main.ts']).includes('serviceWorker');

async function servedAndBuilt(files: Record<string, string | Buffer>, titles: Record<string, string>): Promise<void> {
  const workspace = Workspace.with(files);
  const program = await Program.serve(workspace.root, []);
  await build(workspace);
  const { url, close } = await serveNatively(workspace.path('dist'));
  const seen: Record<string, string[]> = {};
  for (const [path, title] of Object.entries(titles))
    for (const at of [`${program.url}${path.replace(/^index\.html$/, '')}`, `${url}${path}`]) {
      const { page, errors } = await openPage(browser, at);
      await untilTrue(page, 'document.title !== ""');
      seen[path] = [...(seen[path] ?? []), await page.title()];
      expect(errors.filter((error) => !title.includes('TypeError') || !/Failed to load/.test(error))).toEqual([]);
      await page.context().close();
    }
  expect(seen).toEqual(Object.fromEntries(Object.entries(titles).map(([path, title]) => [path, [title, title]])));
  await program.stop();
  close();
  workspace.dispose();
}

test(`served and built, ${cases.filter(isApart).length} things are the same: from WebAssembly to the names of modules of CSS`, async () => {
  const apart = cases.filter(isApart);
  const inFolders = apart.flatMap(([, files], at) =>
    Object.entries({ 'index.html': titled, ...files }).map(([path, text]) => [`case${at}/${path}`, text] as const),
  );
  const pages = apart.map((_, at) => `case${at}/index.html`);
  const byPath = Object.fromEntries(pages.map((page) => [`/${page}`, page]));
  await servedAndBuilt(
    { ...Object.fromEntries(inFolders), 'vine-spark.config.json': JSON.stringify({ pages: byPath }) },
    Object.fromEntries(apart.map(([, , title], at) => [pages[at]!, title])),
  );
}, 120_000);

test.each(cases.filter((one) => !isApart(one)))('served and built, %s', async (_, files, title) => {
  await servedAndBuilt({ 'index.html': titled, ...files }, { 'index.html': title });
});

longTest(
  'files of editors that write a byte order mark and long line ends are served and built',
  async () => {
    const files: Record<string, string> = {
      'package.json': '{ "name": "pier", "type": "module", "imports": { "#x": "./src/x.ts" } }',
      'vine-spark.config.json': '{ "base": "/b/", "expose": ["TIDE"] }',
      'tsconfig.json': '{ "compilerOptions": { "paths": { "~/*": ["./src/*"] } } }',
      '.env': 'TIDE=low',
      '.browserslistrc': 'chrome 100',
      'index.html':
        '<!doctype html>\n<link rel="icon" href="data:,"><link rel="stylesheet" href="src/a.css">\n<p></p><script type="module" src="src/main.ts"></script>\n',
      'src/main.ts': `import { x } from '#x';\nimport d from './d.json';\nimport { mast } from 'mast';\nimport './b.scss';\nimport t from './t.txt' with { type: 'text' };\nimport '~/y';\ndocument.title = JSON.stringify([x, d.a, mast, t, process.env.TIDE]);\n`,
      'src/x.ts': 'export const x: number = 1;\n',
      'src/y.ts': '#!/usr/bin/env node\nexport {};\n',
      'src/d.json': '{ "a": 2 }\n',
      'src/a.css': '@import "./c.css";\np { order: 2 }\n',
      'src/c.css': '@charset "utf-8";\np { order: 1; padding-top: 3px }\n',
      'src/b.scss': '@use "sass:math";\np { margin: math.div(8px, 2); }\n',
      'src/t.txt': 'text\n',
      'node_modules/mast/package.json': '{ "name": "mast", "main": "mast.js" }',
      'node_modules/mast/mast.js': 'exports.mast = 3;\n',
    };
    const marked = Object.entries(files).map(([path, text]) => [path, `\uFEFF${text.replaceAll('\n', '\r\n')}`]);
    const workspace = Workspace.with(Object.fromEntries(marked));
    const look = `(() => { const { order, paddingTop, marginTop } = getComputedStyle(document.querySelector('p')); return [document.title, order, paddingTop, marginTop].join(); })()`;
    const program = await Program.serve(workspace.root);
    const served = await openPage(browser, program.url);
    await served.page.waitForLoadState('load');
    const shown = '[1,2,3,"text\\r\\n","low"],2,3px,4px';
    expect([await served.page.evaluate(look), served.errors]).toEqual([shown, []]);
    await program.stop();
    expect(await build(workspace, '--base', '/')).toMatchObject({ code: 0, stderr: '' });
    const { page, errors, close } = await openBuilt(browser, workspace.path('dist'));
    expect([await page.evaluate(look), errors]).toEqual([shown, []]);
    await close();
    workspace.dispose();
  },
  60_000,
);
