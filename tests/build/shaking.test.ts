import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { runProgram } from '../support/program.js';
import { shakingCases } from '../support/shaking-cases.js';
import { isLong } from '../support/sizes.js';
import { Workspace } from '../support/workspace.js';

test.each(Object.entries(shakingCases))('%s', async (_, files) => {
  const page = '<!doctype html><script type="module" src="main.ts"></script>';
  const workspace = Workspace.with({ 'package.json': '{ "type": "module" }', 'index.html': page, ...files });
  for (const more of isLong ? [['--no-minify'], []] : [['--no-minify']]) {
    const { code, stdout, stderr } = await runProgram(workspace.root, ['build', '--no-cache', '--source-maps', 'off', ...more]);
    expect([code, stderr]).toEqual([0, '']);
    const assets = workspace.path('dist/assets');
    const scripts = readdirSync(assets).filter((name) => name.endsWith('.js') && !name.startsWith('runtime'));
    const text = scripts.map((name) => readFileSync(join(assets, name), 'utf8')).join('\n');
    expect(text.match(/GONE[\w ]*/g) ?? []).toEqual([]);
    const wanted = Object.values(files).flatMap((source) => source.match(/(?:STAYS|stays)(?! \?)[\w ]*/g) ?? []);
    expect(wanted.filter((mark) => !text.includes(mark.trim()))).toEqual([]);
    expect(stdout).not.toBe('');
  }
  workspace.dispose();
});
