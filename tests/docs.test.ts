import { spawnSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { problemCodes } from '../src/core/problem/codes.js';
import { knownKeys } from '../src/settings/schema.js';
import { runProgram } from './support/program.js';
import { repository } from './support/workspace.js';

const read = (path: string) => readFileSync(join(repository, path), 'utf8');
const firstColumn = (text: string) => [...text.matchAll(/^\| `([^`]+)`/gm)].map((match) => match[1]!);

test('docs/problems.md lists the problems of the code', () => {
  const rows = [...read('docs/problems.md').matchAll(/^\| `([\w-]+)` \| (.+) \|$/gm)].map((match) => [match[1]!, match[2]!]);
  expect(Object.fromEntries(rows)).toEqual(problemCodes);
});

test('docs/settings.md lists the settings of the schema and the options of serve', async () => {
  const rows = firstColumn(read('docs/settings.md'));
  const settings = new Set(rows.filter((row) => !row.startsWith('-')).map((row) => row.split('.')[0]));
  expect([...settings].toSorted()).toEqual(knownKeys([]).toSorted());
  expect(rows.filter((row) => row.startsWith('listen.')).map((row) => row.slice('listen.'.length))).toEqual(
    knownKeys(['listen']),
  );
  const { stdout } = await runProgram(repository, ['serve', '--help']);
  const options = [...stdout.matchAll(/^ {2}(--[\w-]+(?: <[^>]+>)?)/gm)]
    .map((match) => match[1]!)
    .filter((option) => option !== '--help');
  expect(rows.filter((row) => row.startsWith('--'))).toEqual(options);
});

test('the lock file lists the native packages of every system', () => {
  const { status, stderr } = spawnSync(process.execPath, [join(repository, 'scripts/lock.mjs'), '--check'], { encoding: 'utf8' });
  expect([status, stderr]).toEqual([0, '']);
});
