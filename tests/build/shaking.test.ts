import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { shakingCases } from '../support/shaking-cases.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

/** Each case is a page in a folder of its own, and its marks hold its number. */
const cases = Object.entries(shakingCases).map(([name, files], number) => ({
  name,
  number,
  files: Object.fromEntries(
    Object.entries(files).map(([path, text]) => [`${number}/${path}`, text.replaceAll(/GONE|STAYS|stays/g, `$&${number}`)]),
  ),
}));
const html = '<!doctype html><script type="module" src="main.ts"></script>';
const pages = Object.fromEntries(cases.map(({ number }) => [`/${number}/`, `${number}/index.html`]));
let workspace: Workspace;
beforeAll(() => {
  workspace = Workspace.with({
    'package.json': '{ "type": "module" }',
    'vine-spark.config.json': JSON.stringify({ pages }),
    ...Object.fromEntries(Object.values(pages).map((page) => [page, html])),
  });
  for (const { files } of cases) workspace.write(files);
});
afterAll(() => workspace.dispose());

describe.each(isLong ? [[['--no-minify']], [[]]] : [[['--no-minify']]])('a build with %j', (more) => {
  let text: string;
  beforeAll(async () => {
    const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--no-cache', '--source-maps', 'off', ...more]);
    expect([code, stderr]).toEqual([0, '']);
    expect(stdout).not.toBe('');
    const assets = workspace.path('dist/assets');
    const scripts = readdirSync(assets).filter((name) => name.endsWith('.js') && !name.startsWith('runtime'));
    text = scripts.map((name) => readFileSync(join(assets, name), 'utf8')).join('\n');
  });

  test.each(cases)('keeps what has to stay, and nothing else: $name', ({ number, files }) => {
    expect(text.match(new RegExp(`GONE${number}\\b[\\w ]*`, 'g')) ?? []).toEqual([]);
    const marks = new RegExp(`(?:STAYS|stays)${number}\\b(?! \\?)[\\w ]*`, 'g');
    const wanted = Object.values(files).flatMap((source) => source.match(marks) ?? []);
    expect(wanted.length).toBeGreaterThan(0);
    expect(wanted.filter((mark) => !text.includes(mark.trim()))).toEqual([]);
  });
});
