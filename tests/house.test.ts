import { spawnSync } from 'node:child_process';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { assetExtensions } from '../src/core/file-kinds.js';
import { isLong } from './support/sizes.js';
import { repository } from './support/workspace.js';

/** Runs a program of an installed package on the repository. */
function run(path: string, ...args: string[]): [status: number | null, output: string] {
  const file = join(repository, 'node_modules', path);
  expect(existsSync(file)).toBe(true);
  const { status, stdout, stderr } = spawnSync(process.execPath, [file, ...args], { cwd: repository, encoding: 'utf8' });
  return [status, stdout + stderr];
}

test('every file is formatted, and the linter finds nothing', () => {
  const [status, output] = run('@biomejs/biome/bin/biome', 'ci', '--error-on-warnings', '--colors=off', '.');
  expect(status === 0 ? '' : output).toBe('');
});

test('there are types for every kind of file that may be imported', () => {
  const types = readFileSync(join(repository, 'live.d.ts'), 'utf8');
  const lacking = [...assetExtensions, 'css', 'scss', 'sass', 'vue', 'svelte'].filter((name) => !types.includes(`'*.${name}'`));
  expect(lacking).toEqual([]);
});

// The build, which goes before, checks those of the sources.
test.each(isLong ? ['tests', 'demo'] : ['demo'])('types fit together in %s', (folder) => {
  const [status, output] = run('typescript/bin/tsc', '--noEmit', '-p', folder);
  expect(status === 0 ? '' : output).toBe('');
});
