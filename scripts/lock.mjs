// Makes package-lock.json whole: for every system, not only for this one. Run it after a change of package.json.
//
//   node scripts/lock.mjs           writes it
//   node scripts/lock.mjs --check   only says which packages for other systems it lacks; ends with 1 if any
import { spawnSync } from 'node:child_process';
import { cpSync, mkdirSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

const root = join(dirname(fileURLToPath(import.meta.url)), '..');
const lockFile = join(root, 'package-lock.json');

/** Optional packages that a locked package names and that the lock file doesn't list. */
export function missingFromLock({ packages }) {
  const missing = [];
  for (const [path, { optionalDependencies = {} }] of Object.entries(packages)) {
    for (const name of Object.keys(optionalDependencies)) {
      let at = path;
      // As Node.js looks for it: beside the package, or above.
      while (at !== '' && !packages[`${at}/node_modules/${name}`])
        at = at.replace(/(?:^|\/)node_modules\/(?:@[^/]+\/)?[^/]+$/, '');
      if (!packages[at === '' ? `node_modules/${name}` : `${at}/node_modules/${name}`])
        missing.push(`${path || 'package.json'}: ${name}`);
    }
  }
  return missing;
}

if (!process.argv.includes('--check')) {
  // Where packages are installed, npm lists those of this system only.
  const folder = mkdtempSync(join(tmpdir(), 'vine-lock-'));
  for (const file of ['package.json', 'tests/support/react-18/package.json']) {
    mkdirSync(dirname(join(folder, file)), { recursive: true });
    cpSync(join(root, file), join(folder, file));
  }
  const args = ['install', '--package-lock-only', '--ignore-scripts', '--no-audit', '--no-fund', '--loglevel=error'];
  const { status } = spawnSync('npm', args, { cwd: folder, stdio: 'inherit' });
  if (status !== 0) process.exit(status ?? 1);
  cpSync(join(folder, 'package-lock.json'), lockFile);
  rmSync(folder, { recursive: true });
}
const missing = missingFromLock(JSON.parse(readFileSync(lockFile, 'utf8')));
for (const line of missing) console.error(`package-lock.json lacks what another system needs: ${line}`);
if (missing.length > 0) process.exitCode = 1;
