import {
  chmodSync,
  cpSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  symlinkSync,
  truncateSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import { afterEach, describe, expect, test } from '@jest/globals';
import { Program } from '../support/program.js';
import { randomNumbers } from '../support/random-program.js';
import { withoutRunKeys } from '../support/run-keys.js';
import { full } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

let workspace: Workspace;
let program: Program | undefined;
afterEach(async () => {
  await program?.stop();
  workspace.dispose();
});

const pieces = ['', '~spark/piece/page/index.html/packages.js', '~spark/piece/page/index.html/app.js', '~spark/style/page.css'];

/** All that a page of a server gets. */
async function answers({ url }: Program): Promise<string[]> {
  return Promise.all(pieces.map(async (path) => withoutRunKeys(await (await fetch(new URL(path, url))).text())));
}

const names = [
  'a b.js',
  'a#1.js',
  'a?b.js',
  'a%41.js',
  "it's.js",
  'a"b.js',
  'a\\b.js',
  'tide.js~',
  '#saved#.js',
  'caf\u00e9.js',
  'cafe\u0301.js',
  '\u6e2f.js',
  '\u{1f6a2}.js',
  '~up/x.js',
  '~~up/x.js',
  '~spark/x.js',
  '4913',
  `${'n'.repeat(247)}.js`,
  '-dash.js',
  'constructor.js',
  '__proto__.js',
  'index.html.js',
];

describe('names', () => {
  test('of every kind are served, watched, updated and opened in the editor', async () => {
    const specifier = (name: string) => JSON.stringify(`./src/${name.split('/').map(encodeURIComponent).join('/')}`);
    const text = (name: string, n: number) => `globalThis.said = { ...globalThis.said, ${JSON.stringify(name)}: ${n} };\n`;
    workspace = Workspace.with({
      'index.html':
        '<!doctype html><title>Quay</title><link rel="stylesheet" href="page.css"><script type="module" src="main.js"></script>',
      'main.js': `${names.map((name) => `import ${specifier(name)};`).join('\n')}\n${names.map((_, n) => `import g${n} from "./img/${encodeURIComponent(`gull ${names[n]!.replaceAll('/', '')}.svg`.slice(-200))}";`).join('\n')}\nglobalThis.gulls = [${names.map((_, n) => `g${n}`).join()}];\n`,
      'page.css': 'b { color: red; }\n',
      ...Object.fromEntries(names.map((name) => [`src/${name}`, text(name, 1)])),
      ...Object.fromEntries(
        names.map((name) => [
          `img/${`gull ${name.replaceAll('/', '')}.svg`.slice(-200)}`,
          '<svg xmlns="http://www.w3.org/2000/svg"/>',
        ]),
      ),
    });
    process.env.EDITOR = `sh ${workspace.path('editor.sh')}`;
    workspace.write({ 'editor.sh': '#!/bin/sh\nexit 0\n' });
    program = await Program.serve(workspace.root);
    delete process.env.EDITOR;
    expect(program.events.filter(({ event }) => event === 'problems')).toEqual([]);
    const piece = await (await fetch(new URL(pieces[2]!, program.url))).text();
    const { key } = (await (await fetch(new URL('~spark/session', program.url))).json()) as { key: string };
    for (const [at, name] of names.entries()) {
      expect(piece).toContain(JSON.stringify(`src/${name}`));
      const after = program.mark;
      workspace.write({ [`src/${name}`]: text(name, at + 2) });
      const { changed } = await program.next('update', { after, where: (event) => event.changed.includes(`src/${name}`) });
      expect(changed).toEqual([`src/${name}`]);
      const query = new URLSearchParams({ key, file: `src/${name}`, line: '1', column: '1' });
      expect([name, (await fetch(new URL(`~spark/open?${query}`, program.url))).status]).toEqual([name, 204]);
    }
    for (const [, url] of piece.matchAll(/"url":"(\/img\/[^"]+)"/g))
      expect([url, (await fetch(new URL(url!, program.url))).status]).toEqual([url, 200]);
    expect([...piece.matchAll(/"url":"(\/img\/[^"]+)"/g)]).toHaveLength(names.length);
  });
});

describe('file events', () => {
  test(`leave a server that serves what a fresh one serves, after ${full(150, 6000)} of every kind`, async () => {
    const random = randomNumbers(412);
    const paths = [
      'main.js',
      'page.css',
      'src/tide.js',
      'src/berth.js',
      'src/berth',
      'src/index.js',
      'src/quay/index.js',
      'src/quay.js',
      'data/x.json',
      'package.json',
      'src/gull.svg',
    ];
    const bodies = [
      `import './src/tide.js';\nimport './src/berth';\n`,
      'export default 1;\n',
      `import './quay';\nexport const a = 1;\n`,
      'broken (',
      '',
      `import x from './gull.svg';\nexport default x;\n`,
      '{ "name": "quay" }',
      'b { color: red; }\n',
      `export * from './berth.js';\n`,
    ];
    const html =
      '<!doctype html><title>Quay</title><link rel="stylesheet" href="page.css"><script type="module" src="main.js"></script>';
    workspace = Workspace.with({
      'index.html': html,
      'main.js': bodies[0]!,
      'page.css': bodies[7]!,
      'src/tide.js': bodies[1]!,
      'src/berth.js': bodies[2]!,
      'src/quay/index.js': bodies[1]!,
    });
    const at = (path: string) => workspace.path(path);
    const tryTo = (work: () => void) => {
      try {
        work();
      } catch {
        // What isn't there or is something else can't be changed that way.
      }
    };
    const one = () => paths[random(paths.length)]!;
    const acts: (() => void)[] = [
      () => workspace.write({ [one()]: bodies[random(bodies.length)]! }),
      () => workspace.write({ [one()]: bodies[random(bodies.length)]! }),
      () => rmSync(at(one()), { recursive: true, force: true }),
      () => renameSync(at(one()), at(one())),
      () => symlinkSync(at(one()), at(one())),
      () => symlinkSync('.', at('src/loop')),
      () => symlinkSync('loop', at('src/quay/loop')),
      () => symlinkSync('/', at(`src/root${random(3)}`)),
      () => symlinkSync('/dev/zero', at(one())),
      () => symlinkSync('nowhere', at(one())),
      () => mkdirSync(at(one()), { recursive: true }),
      () => chmodSync(at(one()), [0o000, 0o400, 0o644, 0o755][random(4)]!),
      () => cpSync(at('src'), at('copy'), { recursive: true, verbatimSymlinks: true }),
      () => rmSync(at('copy'), { recursive: true, force: true }),
      () => renameSync(at('src'), at('src.away')),
      () => renameSync(at('src.away'), at('src')),
      () => rmSync(at('src/loop'), { force: true }),
      () => writeFileSync(at(one()), Buffer.from([0xff, 0xfe, 0x00, 0x41])),
      () => workspace.write({ [`${one()}~`]: 'x', '.env': `A=${random(9)}`, 'src/.#lock': 'x' }),
    ];
    program = await Program.serve(workspace.root);
    for (let n = 0; n < full(150, 6000); n++) {
      tryTo(acts[random(acts.length)]!);
      // Some of it at once, some of it in between.
      if (random(12) === 0) await (await fetch(program.url)).arrayBuffer();
    }
    for (const name of ['src', 'src.away', 'copy', ...paths]) tryTo(() => rmSync(at(name), { recursive: true, force: true }));
    const final = {
      'index.html': html,
      'package.json': '{ "name": "quay" }',
      'main.js': `import './src/tide.js';\nimport './src/berth';\n`,
      'page.css': 'b { color: teal; }\n',
      'src/tide.js': 'export const last = 1;\n',
      'src/berth.js': `export * from './quay';\n`,
      'src/quay/index.js': `export const end = 'reached';\n`,
    };
    workspace.write(final);
    const fresh = await Program.serve(workspace.root);
    const expected = await answers(fresh);
    await fresh.stop();
    expect(expected[2]).toContain('reached');
    for (let n = 0; ; n++) {
      if (JSON.stringify(await answers(program)) === JSON.stringify(expected)) break;
      // Nothing but a change is waited for: each look is a request, which waits for the work that is under way.
      if (n > 400) expect(await answers(program)).toEqual(expected);
      await new Promise((resolve) => setImmediate(resolve));
    }
    expect(program.events.filter(({ event, problem }) => event === 'problem' && problem.code === 'internal-error')).toEqual([]);
    expect(JSON.stringify(program.events)).not.toContain('Vine Spark failed');
  }, 120_000);

  test('a link to a folder may come, go and lead elsewhere, to the root of the machine or round in circles too', async () => {
    workspace = Workspace.with({
      'index.html': '<!doctype html><script type="module" src="main.js"></script>',
      'main.js': `import { mast } from './linked/mast.js';\nexport const a = mast;\n`,
      'parts/mast.js': `export const mast = 'parts';\n`,
      'other/mast.js': `export const mast = 'other';\n`,
    });
    const at = (path: string) => workspace.path(path);
    program = await Program.serve(workspace.root);
    await program.next('problems');
    const lead = (target: string) => {
      symlinkSync(target, at('next'));
      renameSync(at('next'), at('linked'));
    };
    for (const [name, target] of Object.entries({ machine: '/', circle: '.', 'parts/up': '..' })) symlinkSync(target, at(name));
    const steps: [change: () => void, mast: string | undefined][] = [
      [() => symlinkSync('parts', at('linked')), 'parts'],
      [() => lead('other'), 'other'],
      [() => lead('parts'), 'parts'],
      [() => rmSync(at('linked')), undefined],
      [() => symlinkSync('other', at('linked')), 'other'],
      [() => lead('/'), undefined],
      [() => lead('parts'), 'parts'],
      [() => workspace.write({ 'parts/mast.js': `export const mast = 'new parts';\n` }), 'new parts'],
      [
        () => {
          rmSync(at('linked'));
          cpSync(at('other'), at('linked'), { recursive: true });
        },
        'other',
      ],
    ];
    for (const [change, mast] of steps) {
      const after = program.mark;
      change();
      await program.next(mast === undefined ? 'problems' : 'update', { after });
      const text = await (await fetch(new URL(pieces[2]!, program.url))).text();
      if (mast !== undefined) expect(text).toContain(`mast = '${mast}'`);
    }
  });

  test('the project folder moved away and back, or replaced, goes on being watched', async () => {
    workspace = Workspace.with({
      'home/index.html': '<!doctype html><script type="module" src="main.js"></script>',
      'home/main.js': 'export const a = 1;\n',
      'home/package.json': '{ "name": "quay" }',
    });
    program = await Program.serve(workspace.path('home'));
    const piece = async () => (await fetch(new URL(pieces[2]!, program!.url))).text();
    renameSync(workspace.path('home'), workspace.path('away'));
    await program.next('note', { where: ({ text }) => text.includes('the project folder is gone') });
    writeFileSync(workspace.path('away/main.js'), 'export const a = 2;\n');
    let after = program.mark;
    renameSync(workspace.path('away'), workspace.path('home'));
    await program.next('update', { after });
    expect(await piece()).toContain('a = 2');
    after = program.mark;
    writeFileSync(workspace.path('home/main.js'), 'export const a = 3;\n');
    await program.next('update', { after });
    expect(await piece()).toContain('a = 3');
    after = program.mark;
    cpSync(workspace.path('home'), workspace.path('other'), { recursive: true });
    writeFileSync(workspace.path('other/main.js'), 'export const a = 4;\n');
    renameSync(workspace.path('home'), workspace.path('old'));
    renameSync(workspace.path('other'), workspace.path('home'));
    await program.next('update', { after });
    expect(await piece()).toContain('a = 4');
  });
});

describe('what is kept', () => {
  test(`costs nothing but time when it is damaged, ${full(2, 200)} times in any way`, async () => {
    const random = randomNumbers(99);
    workspace = Workspace.with({
      'index.html':
        '<!doctype html><title>Quay</title><link rel="stylesheet" href="page.css"><script type="module" src="main.ts"></script>',
      'main.ts': `${Array.from({ length: 12 }, (_, n) => `import { m${n} } from './m${n}';`).join('\n')}\nimport './page.css';\ndocument.title = String([${Array.from({ length: 12 }, (_, n) => `m${n}`).join()}]);\n`,
      'page.css': 'b { color: red; }\n',
      ...Object.fromEntries(Array.from({ length: 12 }, (_, n) => [`m${n}.ts`, `export const m${n}: number = ${n};\n`])),
      'node_modules/mast/package.json': '{ "name": "mast" }',
    });
    const cache = workspace.path('node_modules/.cache/vine-spark');
    const start = async () => {
      program = await Program.serve(workspace.root, ['index.html', '--cache']);
      const got = await answers(program);
      const notes = program.events.filter(({ event }) => event === 'note');
      await program.stop();
      return { got, notes };
    };
    const expected = (await start()).got;
    const kept = (): string[] =>
      existsSync(cache)
        ? readdirSync(cache, { recursive: true })
            .map((name) => join(cache, String(name)))
            .filter((path) => statSync(path).isFile())
        : [];
    const damages: ((file: string) => void)[] = [
      (file) => truncateSync(file, random(statSync(file).size + 1)),
      (file) => {
        const bytes = readFileSync(file);
        for (let n = 0; n < 1 + random(40); n++) if (bytes.length > 0) bytes[random(bytes.length)] = random(256);
        writeFileSync(file, bytes);
      },
      (file) => {
        const bytes = readFileSync(file);
        bytes.subarray(random(100), 100 + random(4000)).fill(0);
        writeFileSync(file, bytes);
      },
      (file) => writeFileSync(file, 'nothing of ours'),
      (file) => writeFileSync(file, ''),
      (file) => rmSync(file),
      (file) => {
        rmSync(file);
        mkdirSync(file);
      },
      (file) => {
        rmSync(file);
        symlinkSync('/dev/null', file);
      },
      (file) => writeFileSync(file, Buffer.concat([readFileSync(file), Buffer.alloc(5000, 7)])),
      (file) => writeFileSync(file, Buffer.concat([readFileSync(file).subarray(0, 18), Buffer.alloc(64, 255)])),
      (file) => writeFileSync(file, readFileSync(file).reverse()),
      () => rmSync(cache, { recursive: true, force: true }),
    ];
    for (let n = 0; n < full(2, 200); n++) {
      const files = kept();
      const file = files[random(files.length)];
      if (file) damages[random(damages.length)]!(file);
      const { got, notes } = await start();
      expect([n, got]).toEqual([n, expected]);
      expect(notes.length).toBeLessThanOrEqual(3);
    }
  }, 240_000);

  test('may be replaced, cut off or lost while the server runs', async () => {
    const text = (n: number) => `export const m: number = ${n};\n`;
    workspace = Workspace.with({
      'index.html': '<!doctype html><script type="module" src="main.ts"></script>',
      'main.ts': text(0),
      'node_modules/mast/package.json': '{ "name": "mast" }',
    });
    program = await Program.serve(workspace.root, ['index.html', '--cache']);
    const file = workspace.path('node_modules/.cache/vine-spark/modules.kept');
    const damages = [
      () => truncateSync(file, 4),
      () => writeFileSync(file, Buffer.alloc(90_000, 1)),
      () => rmSync(file),
      () => mkdirSync(file),
      () => rmSync(workspace.path('node_modules/.cache'), { recursive: true }),
    ];
    for (const [n, damage] of damages.entries()) {
      damage();
      for (const value of [n + 1, 0]) {
        const after = program.mark;
        workspace.write({ 'main.ts': text(value) });
        await program.next('update', { after });
        expect(await (await fetch(new URL(pieces[2]!, program.url))).text()).toContain(`m = ${value}`);
      }
    }
  });
});
