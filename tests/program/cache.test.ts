import { existsSync, mkdirSync, readFileSync, rmSync, truncateSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { afterEach, beforeEach, describe, expect, test } from '@jest/globals';
import { DiskCache } from '../../src/project/kept/disk-cache.js';
import { Program, runProgram } from '../support/program.js';
import { withoutRunKeys } from '../support/run-keys.js';
import { full, isLong, longTest } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

const berth = (n: number, word = 'berth') =>
  `import { tide } from './tide';\nimport './berth${n}.css';\nexport function Berth${n}({ at = ${n} }) { return <b title={String(tide(at))}>${word} ${n}</b>; }\n`;
const files: Record<string, string> = {
  'index.html': '<!doctype html><title>Quay</title><script type="module" src="src/main.tsx"></script>',
  'tsconfig.json': '{ "compilerOptions": { "jsx": "react-jsx", "jsxImportSource": "preact" } }',
  'src/tide.ts': 'export let turns = 0;\nexport function tide(at: number): number { turns += 1; return Math.cos(at) + turns; }\n',
  'src/main.tsx': `import { render } from 'preact';\n${Array.from({ length: 30 }, (_, n) => `import { Berth${n} } from './berth${n}';`).join('\n')}
render(<>${Array.from({ length: 30 }, (_, n) => `<Berth${n} />`).join('')}</>, document.body);\n`,
};
for (let n = 0; n < 30; n++) {
  files[`src/berth${n}.tsx`] = berth(n);
  files[`src/berth${n}.css`] = `b { order: ${n}; }\n`;
}

let workspace: Workspace;
const cache = () => workspace.path('node_modules/.cache/vine-spark');
beforeEach(() => {
  workspace = Workspace.with(files);
  // A folder of its own for what is kept.
  workspace.linkPackages(['preact']);
});
afterEach(() => workspace.dispose());

/** Everything that a page gets, and what was printed. */
async function start(args: readonly string[] = ['index.html', '--cache']) {
  const program = await Program.serve(workspace.root, args);
  const text = async (path: string) => (await fetch(new URL(path, program.url))).text();
  const html = withoutRunKeys(await text(''));
  const pieces = await Promise.all(['packages', 'app'].map((part) => text(`~spark/piece/page/index.html/${part}.js`)));
  const maps = await Promise.all(pieces.map((piece) => text(/sourceMappingURL=(.*)\s*$/.exec(piece)![1]!)));
  const notes = program.events.filter(({ event }) => event === 'note').map((event) => String(event.text));
  return { bytes: [html, ...pieces.map(withoutRunKeys), ...maps], notes, program };
}

async function run(args?: readonly string[]) {
  const { bytes, notes, program } = await start(args);
  await program.stop();
  return { bytes, notes };
}

/** How often each kind of work was done, by a trace. */
function traced(file: string): Map<string, number> {
  const events = JSON.parse(`${readFileSync(file, 'utf8').trim().replace(/,$/, '')}]`) as { name: string; ph: string }[];
  const counts = new Map<string, number>();
  for (const { name, ph } of events) if (ph !== 'e') counts.set(name, (counts.get(name) ?? 0) + 1);
  return counts;
}

describe('what is kept for the next start', () => {
  test('gives the same bytes as making everything, with one translator thread too in the long run, and spares the work', async () => {
    const plain = await run(['index.html']);
    expect(existsSync(cache())).toBe(false);
    const cold = await run();
    const warm = await run(['index.html', '--cache', '--trace', 'warm.json']);
    const others = [cold, warm];
    if (isLong) {
      process.env.UV_THREADPOOL_SIZE = '1';
      others.push(await run(['index.html']).finally(() => delete process.env.UV_THREADPOOL_SIZE));
    }
    for (const other of others) expect(other.bytes).toEqual(plain.bytes);
    expect(plain.bytes[2]).toContain('berth 29');
    const counts = traced(workspace.path('warm.json'));
    expect(counts.get('from the cache')).toBeGreaterThan(30);
    expect(counts.get('translate')).toBeUndefined();
  });

  test('is not used for what has changed since: a file, a setting, a name', async () => {
    await run();
    workspace.write({
      'src/berth3.tsx': berth(3, 'pier'),
      'tsconfig.json':
        '{ "compilerOptions": { "jsx": "react-jsx", "jsxImportSource": "preact", "useDefineForClassFields": false } }',
    });
    const { bytes } = await run();
    expect(bytes[2]).toContain('pier 3');
    expect(bytes).toEqual((await run(['index.html'])).bytes);
  });

  longTest('does not hide that a file which must be there has gone', async () => {
    workspace.write({
      'index.html': '<!doctype html><title>Quay</title><script type="module" src="src/main.js"></script>',
      'src/main.js': `import './quay.cjs';\n`,
      'src/quay.cjs': `exports.berths = require('./berths.cjs').length;\n`,
      'src/berths.cjs': 'module.exports = [1, 2];\n',
    });
    await run();
    workspace.delete('src/berths.cjs');
    const told: unknown[] = [];
    for (const args of [['index.html'], ['index.html', '--cache']]) {
      const program = await Program.serve(workspace.root, args);
      const { problems } = await program.next('problems');
      told.push(problems);
      await program.stop();
    }
    expect(told[0]).toMatchObject([{ code: 'import-unresolved', file: 'src/quay.cjs', position: { line: 1 } }]);
    expect(told[1]).toEqual(told[0]);
  });

  longTest('goes on being used after a change of the settings', async () => {
    workspace.write({ 'vine-spark.config.mjs': 'export default {};' });
    const { program } = await start();
    const after = program.mark;
    workspace.write({ 'vine-spark.config.mjs': `export default { alias: { '@': 'src' } };` });
    await program.next('settings', { after });
    workspace.write({ 'src/berth9.tsx': berth(9, 'pier') });
    // The new settings make an update of their own.
    await program.next('update', { after, where: ({ changed }) => JSON.stringify(changed).includes('berth9') });
    await program.stop();
    const { bytes, notes } = await run(['index.html', '--cache', '--trace', 'trace.json']);
    expect(bytes[2]).toContain('pier 9');
    expect(notes).toEqual([]);
    expect(traced(workspace.path('trace.json')).get('translate')).toBeUndefined();
  });

  longTest('is shared by two servers of one project', async () => {
    const [one, two] = await Promise.all([start(), start()]);
    expect(one.bytes.slice(1)).toEqual(two.bytes.slice(1));
    const marks = [one.program.mark, two.program.mark];
    workspace.write({ 'src/berth5.tsx': berth(5, 'mole') });
    await Promise.all([one, two].map(({ program }, at) => program.next('update', { after: marks[at]! })));
    await one.program.stop();
    await two.program.stop();
    const { bytes, notes } = await run();
    expect(bytes[2]).toContain('mole 5');
    expect(notes).toEqual([]);
  });

  longTest('is dropped with one line where it is damaged, and kept anew', async () => {
    const { bytes } = await run();
    const damages: [(data: string) => void, RegExp][] = [
      [(data) => writeFileSync(data, 'no database at all'.repeat(1000)), /it is not ours/],
      [(data) => truncateSync(data, 3 * 4096), /it is incomplete/],
      [
        (data) => writeFileSync(data, readFileSync(data).fill(0, 30_000, 30_009)),
        /some of what was kept is damaged|it is incomplete/,
      ],
    ];
    for (const [damage, why] of damages.slice(-full(1, damages.length))) {
      damage(join(cache(), 'modules.kept'));
      const again = await run();
      expect(again.bytes).toEqual(bytes);
      expect(again.notes).toEqual([expect.stringMatching(why)]);
    }
    expect((await run()).notes).toEqual([]);
  });

  test('is done without where it cannot be written', async () => {
    mkdirSync(workspace.path('node_modules/.cache'));
    writeFileSync(cache(), 'a file');
    const { bytes, notes } = await run();
    expect(bytes[2]).toContain('berth 29');
    expect(notes).toEqual([expect.stringContaining('nothing is kept for the next start')]);
  });

  test('stays within bounds: what a run did not use goes where there is too much', async () => {
    const folder = workspace.path('kept');
    const notes: string[] = [];
    const open = async () => (await DiskCache.open(folder, (note) => notes.push(note), 1 << 20))!;
    let kept = await open();
    for (let n = 0; n < 300; n++) kept.put(`old${n}`, () => 'x'.repeat(8000));
    await kept.close();
    kept = await open();
    expect(kept.get('old7')).toBe('x'.repeat(8000));
    kept.put('new', () => 'y');
    await kept.close();
    kept = await open();
    expect([kept.get('old7'), kept.get('new'), kept.get('old8')]).toEqual(['x'.repeat(8000), 'y', undefined]);
    await kept.close();
    expect(notes).toEqual([]);
  });
});

test('a page can be asked for while its modules are still being made: what does not depend on them comes at once', async () => {
  let arrived: (release: () => void) => void;
  const asked = new Promise<() => void>((resolve) => {
    arrived = resolve;
  });
  const gate = createServer((_, response) => arrived(() => response.end()));
  await new Promise<void>((resolve) => gate.listen(0, '127.0.0.1', resolve));
  workspace.write({
    'vine-spark.config.mjs': `export default { adapters: [{ name: 'log', files: /\\.log$/, async translate(text) {
      await fetch('http://127.0.0.1:${(gate.address() as AddressInfo).port}/');
      return 'export default ' + JSON.stringify(text) + ';';
    } }] };`,
    'src/log.ts': `import log from './harbour.log';\nconsole.log(log);\n`,
    'src/harbour.log': 'all quiet',
    'index.html':
      '<!doctype html><html><head><title>Quay</title><script type="module" src="src/log.ts"></script></head><body><p>Quay</p></body></html>',
  });
  const program = new Program(workspace.root, ['serve', 'index.html', '--port', '0', '--json', '--no-cache']);
  const { url } = await program.next('listening');
  const response = await fetch(url);
  const reader = response.body!.pipeThrough(new TextDecoderStream()).getReader();
  const first = String((await reader.read()).value);
  expect(first).toMatch(/<title>Quay<\/title>$/);
  expect(first).toContain('~spark/page.js');
  expect(program.events.map(({ event }) => event)).not.toContain('ready');
  (await asked)();
  let whole = first;
  for (let part = await reader.read(); !part.done; part = await reader.read()) whole += part.value;
  await program.next('ready');
  expect(whole).toBe(await (await fetch(url)).text());
  expect(whole).toContain('/app.js');
  await program.stop();
  gate.close();
});

test('a trace that cannot be written says so', async () => {
  const { code, stderr } = await runProgram(workspace.root, ['serve', '--trace', 'nowhere/trace.json']);
  expect(code).toBe(2);
  expect(stderr).toContain('The trace cannot be written to nowhere/trace.json');
  rmSync(cache(), { recursive: true, force: true });
});
