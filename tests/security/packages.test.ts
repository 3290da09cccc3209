import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs';
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

test('no package that a user gets runs anything when it is installed; there are few, and they are small', () => {
  const { packages } = JSON.parse(readFileSync(join(repository, 'package-lock.json'), 'utf8')) as {
    packages: Record<string, LockedPackage>;
  };
  const used = Object.entries(packages).filter(
    ([path, { dev, devOptional, peer }]) => path !== '' && !dev && !devOptional && !peer,
  );
  expect(used.filter(([, { hasInstallScript }]) => hasInstallScript)).toEqual([]);
  // Parts for other systems aren't installed.
  const installed = used.map(([path]) => path).filter((path) => existsSync(join(repository, path)));
  expect(installed.length).toBeLessThanOrEqual(70);
  const own = ['dist', 'demo', 'panels'];
  const kibibytes = [...installed, ...own].reduce((sum, path) => sum + taken(join(repository, path)), 0);
  expect(kibibytes / 1024).toBeLessThanOrEqual(45);
});

/** What a folder takes on a disk with blocks of 4 KiB, without packages in it, in KiB. */
function taken(folder: string): number {
  return readdirSync(folder, { withFileTypes: true }).reduce((sum, entry) => {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) return sum + (entry.name === 'node_modules' ? 0 : taken(path));
    return sum + 4 * Math.ceil(statSync(path).size / 4096);
  }, 4);
}
