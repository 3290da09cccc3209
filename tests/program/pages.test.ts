import { renameSync } from 'node:fs';
import { afterEach, expect, test } from '@jest/globals';
import { Program, runProgram } from '../support/program.js';
import { sendRaw } from '../support/raw-http.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
let program: Program;
afterEach(async () => {
  await program?.stop();
  workspace.dispose();
});

async function serve(files: Record<string, string>, args: readonly string[] = []): Promise<void> {
  workspace = Workspace.with(files);
  program = await Program.serve(workspace.root, args);
}

const html = (title: string, script = '') => `<!doctype html><title>${title}</title>${script}<body><h1>${title}</h1></body>`;

/** Status, and the title of the page or the beginning of the answer. */
async function shown(path: string, headers: Record<string, string> = { accept: 'text/html' }): Promise<string> {
  const reply = await fetch(new URL(path, program.url), { headers, redirect: 'manual' });
  const text = await reply.text();
  const to = reply.headers.get('location');
  return `${reply.status} ${to ?? /<title>(.*?)<\/title>/.exec(text)?.[1] ?? text.slice(0, 40)}`.trim();
}

const shownAll = async (paths: readonly string[]) =>
  Object.fromEntries(await Promise.all(paths.map(async (path) => [path, await shown(path)] as const)));

test('every HTML file of a folder is a page at its path, and those that come, go or move while it runs', async () => {
  await serve({
    'index.html': html('Board'),
    'quays/index.html': html('Quays'),
    'quays/north/berths.html': html('North'),
    'quays/north/tides.html': html('Tides'),
    'public/plain.html': html('Plain'),
    'dist/index.html': html('Built'),
    'elsewhere/index.html': html('Built'),
    'elsewhere/vine-spark.json': '{ "builtBy": "Vine Spark" }',
    '.hidden/index.html': html('Hidden'),
    'other/package.json': '{}',
    'other/index.html': html('Another project'),
  });
  expect(
    await shownAll([
      '/',
      '/index.html',
      '/quays/',
      '/quays',
      '/quays/index.html',
      '/quays/9',
      '/quays/north/berths',
      '/anywhere',
    ]),
  ).toEqual({
    '/': '200 Board',
    '/index.html': '200 Board',
    '/quays/': '200 Quays',
    '/quays': '200 Quays',
    '/quays/index.html': '200 Quays',
    '/quays/9': '200 Quays',
    '/quays/north/berths': '200 North',
    '/anywhere': '200 Board',
  });
  expect(
    await shownAll(['/plain.html', '/other/index.html', '/.hidden/index.html', '/dist/index.html', '/elsewhere/index.html']),
  ).toEqual({
    '/plain.html': '200 Plain',
    '/other/index.html': '200 Board',
    '/.hidden/index.html': expect.stringMatching(/^404/),
    '/dist/index.html': '200 Board',
    '/elsewhere/index.html': '200 Board',
  });
  const after = program.mark;
  workspace.write({ 'quays/south.html': html('South') });
  await program.next('pages', { after, where: ({ added }) => added.includes('quays/south.html') });
  expect(await shown('/quays/south')).toBe('200 South');
  const renamed = program.mark;
  renameSync(workspace.path('quays/south.html'), workspace.path('quays/west.html'));
  await program.next('pages', { after: renamed, where: ({ gone }) => gone.includes('quays/south.html') });
  expect(await shownAll(['/quays/west', '/quays/south'])).toEqual({ '/quays/west': '200 South', '/quays/south': '200 Board' });
});

test('a page may be made of what it runs, with what the settings put into every page; mistakes are told where they stand', async () => {
  const settings = (pages: object, more: object = {}) => ({ 'vine-spark.config.json': JSON.stringify({ pages, ...more }) });
  const page = { script: 'src/main.ts', title: 'Made & found', mount: 'harbour', language: 'en' };
  await serve({
    ...settings({ '/': page, '/scopes/*': page }, { insert: { head: '<meta name="tide" content="high">', body: 'foot.html' } }),
    'foot.html': '<script type="module" src="/src/foot.ts"></script>',
    'src/main.ts': 'document.title = "main";\n',
    'src/foot.ts': 'document.title += " foot";\n',
  });
  const text = await (await fetch(program.url)).text();
  expect(text).toMatch(
    /<html lang="en">.*<title>Made &amp; found<\/title>.*<meta name="tide" content="high">.*<div id="harbour">/s,
  );
  expect(text).toContain('piece/page/index.html/start-1.js');
  expect(await shown('/scopes/meridian-2.5')).toBe('200 Made &amp; found');
  const after = program.mark;
  workspace.write({ 'foot.html': '<script type="module" src="/src/feet.ts"></script>' });
  const { problems } = await program.next('problems', { after });
  expect(problems).toMatchObject([
    { code: 'file-missing', message: expect.stringMatching(/'\/src\/feet\.ts'.*setting 'insert'/) },
  ]);
  workspace.write({ 'foot.html': '', ...settings({ '/': { ...page, script: 'src/man.ts' } }) });
  const told = await program.next('problems', { after, where: (event) => event.problems[0].message.includes('src/man.ts') });
  expect(told.problems).toMatchObject([{ code: 'file-missing', file: 'vine-spark.config.json' }]);
});

test('only somebody who goes to a page gets the one that covers its path; what is missing is 404', async () => {
  await serve({ 'index.html': html('Board') });
  const browser = (dest: string, mode: string, accept = '*/*') => ({ 'sec-fetch-dest': dest, 'sec-fetch-mode': mode, accept });
  const goes = browser('document', 'navigate', 'text/html,*/*;q=0.8');
  const rows: [string, Record<string, string>, string][] = [
    ['/scopes/meridian-2.5', goes, '200 Board'],
    ['/people/a.quay', goes, '200 Board'],
    ['/berths/4?tide=1.5', goes, '200 Board'],
    ['/scopes/meridian-2.5', { accept: 'text/html' }, '200 Board'],
    ['/scopes/meridian-2.5', browser('iframe', 'navigate', 'text/html'), '200 Board'],
    ['/img/gull.png', goes, '404 '],
    ['/src/late.tsx', goes, '404 '],
    ['/img/gull-2.5', browser('image', 'no-cors', 'image/avif,*/*'), '404 '],
    ['/api/berths', browser('empty', 'cors'), '404 '],
    ['/api/berths', browser('empty', 'cors', 'application/json'), '404 '],
    ['/src/late', browser('script', 'cors'), '404 '],
    ['/api/berths', { accept: '*/*' }, '404 '],
  ];
  for (const [path, headers, wanted] of rows) expect([path, headers, await send(path, headers)]).toEqual([path, headers, wanted]);
  const missing = await fetch(new URL('/img/gull.png', program.url), { headers: goes });
  expect(await missing.text()).toMatch(/There is nothing at <code>\/img\/gull\.png<\/code>.*Looked for/s);
});

/** Fields that `fetch` doesn't let through. */
async function send(path: string, headers: Record<string, string>): Promise<string> {
  const lines = Object.entries(headers).map(([name, value]) => `${name}: ${value}\r\n`);
  const answer = await sendRaw(
    Number(new URL(program.url).port),
    `GET ${path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n${lines.join('')}\r\n`,
  );
  const status = answer.slice(9, 12);
  return `${status} ${status === '200' ? /<title>(.*?)<\/title>/.exec(answer)![1] : ''}`;
}

test('under a base path / leads to the pages, and no page at all is fine where there are forwards', async () => {
  await serve({ 'index.html': html('Board') }, ['--base', '/berths/']);
  expect(await shownAll(['/', '/berths/', '/berths', '/berths/4', '/elsewhere'])).toMatchObject({
    '/': '302 /berths/',
    '/berths/': '200 Board',
    '/berths': '200 Board',
    '/berths/4': '200 Board',
    '/elsewhere': expect.stringMatching(/^404/),
  });
  await program.stop();
  workspace.dispose();
  await serve({ 'main.ts': '' }, ['--forward', '/api=http://127.0.0.1:9']);
  expect(await shown('/')).toMatch(/^404/);
  const { code, stderr } = await runProgram(workspace.root, ['serve']);
  expect([code, stderr]).toEqual([2, expect.stringMatching(/no HTML page in this folder.*pages: \{ '\/'/s)]);
});

test('verbatim folders may come later, have pages of their own, and ranges; what hides another file, or is in no build, is told once', async () => {
  await serve({
    'index.html': `${html('Board')}<a href="data/linked.json">all</a><script type="module" src="main.ts"></script>`,
    'data/hours.json': '{}',
    'data/linked.json': '{}',
    'main.ts': `import gull from './img/gull.svg';\ndocument.title = gull;\n`,
    'img/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg" id="own"/>',
  });
  expect(await shown('/tides.txt')).toMatch(/^404|^200 Board/);
  workspace.write({
    'public/tides.txt': 'high at six',
    'public/help/index.html': html('Help'),
    'public/index.html': html('Hidden'),
    'public/img/gull.svg': '<svg xmlns="http://www.w3.org/2000/svg" id="verbatim"/>',
  });
  expect(await shownAll(['/tides.txt', '/help/', '/help?x=1', '/'])).toEqual({
    '/tides.txt': '200 high at six',
    '/help/': '200 Help',
    '/help?x=1': '301 /help/?x=1',
    '/': '200 Board',
  });
  expect(await shown('/img/gull.svg')).toContain('200 <svg');
  expect(await (await fetch(new URL('/img/gull.svg', program.url))).text()).toContain('id="own"');
  await shown('/');
  for (const path of ['/data/hours.json', '/data/linked.json', '/data/hours.json', '/tides.txt'])
    expect(await shown(path, { 'sec-fetch-dest': 'empty' })).toMatch(/^200/);
  const notes = program.events.filter(({ event }) => event === 'note').map(({ text }) => text);
  expect(notes.toSorted()).toEqual([
    "data/hours.json was fetched, and a build does not write it under that name: move it to public, or name it by new URL('…', import.meta.url)",
    "public/img/gull.svg is not served: the project's own img/gull.svg has the same path",
    'public/index.html is not served: the page index.html has the same path',
  ]);
  const range = async (value: string) => {
    const reply = await fetch(new URL('/tides.txt', program.url), { headers: { range: `bytes=${value}` } });
    return [reply.status, reply.headers.get('content-range'), await reply.text()];
  };
  expect(await range('0-3')).toEqual([206, 'bytes 0-3/11', 'high']);
  expect(await range('-3')).toEqual([206, 'bytes 8-10/11', 'six']);
  expect(await range('20-')).toEqual([416, 'bytes */11', '']);
});
