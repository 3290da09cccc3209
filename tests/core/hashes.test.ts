import { expect, test } from '@jest/globals';
import { shortHash } from '../../src/core/text/content-hash.js';

test('names of what goes across files, and of classes, are all different, however many there are', () => {
  const names = Array.from({ length: 300_000 }, (_, index) => shortHash(`src/berth${index % 1000}.ts`, `name${index}`));
  expect(new Set(names).size).toBe(names.length);
  expect(names.every((name) => /^[0-9a-z]{8}$/.test(name))).toBe(true);
  expect(shortHash('src/quay.ts', 'tide')).toBe(shortHash('src/quay.ts', 'tide'));
});
