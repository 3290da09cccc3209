import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from '@jest/globals';
import { repository } from '../support/workspace.js';

interface LockedPackage {
  dev?: boolean;
  devOptional?: boolean;
  optional?: boolean;
  peer?: boolean;
  hasInstallScript?: boolean;
}

test('no package that a user gets runs anything when it is installed, and there are few', () => {
  const { packages } = JSON.parse(readFileSync(join(repository, 'package-lock.json'), 'utf8')) as {
    packages: Record<string, LockedPackage>;
  };
  const used = Object.entries(packages).filter(
    ([path, { dev, devOptional, peer }]) => path !== '' && !dev && !devOptional && !peer,
  );
  expect(used.filter(([, { hasInstallScript }]) => hasInstallScript)).toEqual([]);
  expect(used.filter(([, { optional }]) => !optional).length).toBeLessThanOrEqual(77);
});
